//! A route that hedges: the next engine is called beside one that is slower
//! than it usually is, and who gives audio first is heard.

use dispatcher_core::{Cause, Route, Work};

use crate::support::*;

const SENTENCES: &str = "The ramp is closing now. Stand clear of the doors.";

/// A gateway whose route `swift` hedges, and whose heron is known to be quick.
async fn measured() -> TestGateway {
    let fixture = TestGateway::open().await;
    let legs = vec![leg("heron", Some("pellin")), leg("tape", None)];
    fixture.gateway.put_route(Route { hedge: true, ..route("swift", Work::Synthesis, legs) }, "test").await.unwrap();
    for _ in 0..20 {
        let utterance = fixture.speak(say(TEXT, "swift")).await;
        assert_eq!((utterance.engine.as_str(), utterance.warnings.len()), ("heron", 0));
        collect(utterance.body).await.unwrap();
    }
    fixture
}

#[tokio::test]
async fn an_engine_that_is_slower_than_usual_is_outrun_and_its_cost_is_shown() {
    let fixture = measured().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":3000}"#).await;
    let utterance = fixture.speak(say(TEXT, "swift")).await;
    let (id, engine, voice) = (utterance.dispatch.clone(), utterance.engine.clone(), utterance.voice.clone());
    assert_eq!(
        (engine.as_str(), voice.as_str(), utterance.fallbacks[0].cause),
        ("tape", "tape/reel", Cause::Abandoned)
    );
    assert!(
        utterance.warnings[0].starts_with("heron was skipped: abandoned (no audio within "),
        "{:?}",
        utterance.warnings
    );
    assert_eq!(texts(&listen(utterance).await.1), [ON_TAPE]);
    let (row, attempts, ledger) = fixture.dispatch(&id).await;
    assert_eq!((row.state.name(), row.engine.as_deref()), ("done", Some("tape")));
    let ends: Vec<_> = attempts.iter().map(|one| (one.engine.as_str(), one.state.name())).collect();
    assert_eq!(ends, [("heron", "abandoned"), ("tape", "done")]);
    let detail = attempts[0].detail.as_deref().unwrap();
    assert!(detail.ends_with("ms; another engine was faster; the engine has the text, which is charged"), "{detail}");
    let settled: Vec<_> = ledger.iter().filter(|line| line.kind.name() == "settle").collect();
    assert_eq!(settled.iter().map(|line| line.engine.as_str()).collect::<Vec<_>>(), ["heron", "tape"]);
    assert_eq!((settled[0].characters, row.cost_nanos), (50, settled[0].nanos), "heron has the text");
    let held: i64 = ledger.iter().filter(|line| line.kind.name() != "settle").map(|line| line.nanos).sum();
    assert_eq!(held, 0, "no hold is left behind");
}

#[tokio::test]
async fn the_engine_that_answers_first_speaks_all_sentences() {
    let fixture = measured().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":3000,"calls":1}"#).await;
    let utterance = fixture.speak(say(SENTENCES, "swift")).await;
    let id = utterance.dispatch.clone();
    assert_eq!(utterance.engine, "tape");
    assert_eq!(texts(&listen(utterance).await.1), [ON_TAPE, ON_TAPE], "one for each sentence, both in one voice");
    let (_, attempts, _) = fixture.dispatch(&id).await;
    let ends: Vec<_> = attempts.iter().map(|one| (one.engine.as_str(), one.state.name())).collect();
    assert_eq!(ends, [("heron", "abandoned"), ("tape", "done"), ("tape", "done")]);
}

#[tokio::test]
async fn an_engine_that_is_only_a_little_slow_is_still_heard_where_the_other_fails() {
    let fixture = measured().await;
    std::fs::remove_file(fixture.folder.path().join("tape.wav")).unwrap();
    weather(&fixture.heron, r#"{"weather":"drip","pause":700,"calls":1}"#).await;
    let utterance = fixture.speak(say("Mind the step.", "swift")).await;
    let id = utterance.dispatch.clone();
    assert_eq!((utterance.engine.as_str(), utterance.fallbacks[0].engine.as_str()), ("heron", "tape"));
    assert_eq!(texts(&listen(utterance).await.1), ["Mind the step."]);
    let (_, attempts, _) = fixture.dispatch(&id).await;
    let ends: Vec<_> = attempts.iter().map(|one| (one.engine.as_str(), one.state.name())).collect();
    assert_eq!(ends, [("heron", "done"), ("tape", "failed")]);
}

#[tokio::test]
async fn a_caller_who_leaves_while_two_engines_are_called_ends_both() {
    let fixture = measured().await;
    std::fs::remove_file(fixture.folder.path().join("tape.wav")).unwrap();
    weather(&fixture.heron, r#"{"weather":"drip","pause":5000}"#).await;
    let asked = fixture.gateway.speak(&fixture.caller, say(TEXT, "swift"));
    assert!(tokio::time::timeout(std::time::Duration::from_millis(600), asked).await.is_err(), "it waits");
    let filter = dispatcher_store::DispatchFilter { limit: 1, ..Default::default() };
    let id = fixture.store.dispatches(filter).await.unwrap().remove(0).id;
    let (row, attempts, ledger) = fixture.settled(&id).await;
    assert_eq!(row.state.name(), "abandoned");
    let ends: Vec<_> = attempts.iter().map(|one| (one.engine.as_str(), one.state.name())).collect();
    assert_eq!(ends, [("heron", "abandoned"), ("tape", "failed")]);
    let held: i64 = ledger.iter().filter(|line| line.kind.name() != "settle").map(|line| line.nanos).sum();
    assert_eq!(held, 0);
}

#[tokio::test]
async fn a_script_that_another_voice_would_begin_is_waited_for() {
    let fixture = measured().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":700,"calls":1}"#).await;
    // With the tape's voice, its first call is one of heron.
    let text =
        "<voice name=\"heron/pellin\" required=\"name\">The ramp is closing now.</voice> Stand clear of the doors.";
    let utterance = fixture.speak(script(text, "swift")).await;
    assert_eq!((utterance.engine.as_str(), utterance.fallbacks.len()), ("heron", 0));
    assert_eq!(texts(&listen(utterance).await.1), ["The ramp is closing now.", "Stand clear of the doors."]);
}
