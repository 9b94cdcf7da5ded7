//! What is written of a dispatch, whatever becomes of it: costs in their own
//! currencies, times from their own beginnings, an end for each attempt.

use std::time::Duration;

use crate::support::{HERON, TestGateway, collect, lines, load, say, script, weather};
use dispatcher_standins::tone::{Manner, speak};
use dispatcher_store::DispatchFilter;

/// Heron under another name, who charges in dollars.
fn gull() -> String {
    let sheet = HERON.replace("name     = \"heron\"", "name     = \"gull\"");
    sheet.replace("[tariff]", "[tariff]\ncurrency = \"USD\"")
}

#[tokio::test]
async fn voices_charged_in_two_currencies_are_refused_before_the_work() {
    let fixture = TestGateway::open_with(|registry, url| registry.add(load(&gull(), "gull.toml", Some(url)))).await;
    let body = "The ramp is closing. <voice name=\"gull/pellin\" required=\"name\">Stand clear.</voice>";
    let refused = fixture.gateway.speak(&fixture.caller, script(body, "heron/pellin")).await.err().unwrap();
    assert_eq!(
        refused.to_string(),
        "the voices of this text are charged in EUR and in USD; choose voices whose engines charge in one currency"
    );
    assert_eq!(fixture.count().await, 0);
}

#[tokio::test]
async fn what_is_paid_in_dollars_is_recorded_in_dollars() {
    let fixture = TestGateway::open_with(|registry, url| registry.add(load(&gull(), "gull.toml", Some(url)))).await;
    let utterance = fixture.speak(say("The ramp is closing.", "gull/pellin")).await;
    let id = utterance.dispatch.clone();
    collect(utterance.body).await.unwrap();
    let (row, _, ledger) = fixture.dispatch(&id).await;
    assert_eq!(row.currency.code(), "USD");
    assert!(ledger.iter().all(|line| line.currency.code() == "USD"), "{ledger:?}");
    assert_eq!(lines(&ledger)[2], ("settle".to_owned(), row.cost_nanos));
    assert!(row.cost_nanos > 0);
}

#[tokio::test]
async fn an_abandoned_dispatch_has_the_time_to_its_own_first_audio() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":40}"#).await;
    let mut utterance = fixture.speak(say("The 06:15 to Gullsay is delayed by twenty minutes.", "heron/pellin")).await;
    let id = utterance.dispatch.clone();
    assert!(!utterance.body.next().await.unwrap().unwrap().is_empty());
    drop(utterance);
    let (row, attempts, _) = fixture.settled(&id).await;
    let last = attempts.last().unwrap();
    assert_eq!((row.state.name(), last.state.name()), ("abandoned", "abandoned"));
    let since_dispatch = last.offset_us + last.first_us.unwrap();
    assert!(row.first_us.unwrap() >= since_dispatch, "{:?} is not since the dispatch began: {last:?}", row.first_us);
}

#[tokio::test]
async fn a_transcript_that_cannot_be_kept_leaves_no_attempt_open() {
    let fixture = TestGateway::open().await;
    let samples = speak("The ramp is closing", Manner { pitch: 1.0, rate: 1.0 }, 16_000);
    let id = fixture.begin_dictation("Ramp", &samples, "turnstone").await;
    // A folder where the transcript is to be written.
    std::fs::create_dir_all(fixture.folder.path().join("jobs").join(&id).join("pieces/0.json")).unwrap();
    let dispatch = loop {
        let all = DispatchFilter { limit: 9, ..DispatchFilter::default() };
        if let Some(row) = fixture.store.dispatches(all).await.unwrap().into_iter().next() {
            break row.id;
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    };
    let (row, attempts, ledger) = fixture.settled(&dispatch).await;
    assert_eq!((row.state.name(), attempts[0].state.name()), ("failed", "done"), "{row:?}");
    assert!(row.problem.unwrap().contains("the transcript cannot be read or written"));
    assert_eq!(ledger.last().unwrap().kind.name(), "settle", "the engine did its part, and is paid");
}
