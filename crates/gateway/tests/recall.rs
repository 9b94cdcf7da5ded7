//! Kept audio: equal requests are answered without an engine, by what the app
//! and the request say.

use dispatcher_gateway::{App, CacheOutcome, CacheWish, Caller, RecallPolicy, SynthesisRequest, Utterance};

use crate::support::*;

const TEXT: &str = "The ferry to Gullsay leaves from the south pier in ten minutes.";

fn app_that_keeps(name: &str, recall: RecallPolicy) -> Caller {
    let app = App { recall, ..app(name) };
    Caller::of_app(app, "test")
}

async fn spoken(fixture: &TestGateway, caller: &Caller, cache: CacheWish) -> (CacheOutcome, Vec<u8>, String) {
    let request = SynthesisRequest { cache, ..say(TEXT, "heron/pellin") };
    let Utterance { dispatch, body, cache, .. } = fixture.gateway.speak(caller, request).await.unwrap();
    (cache, collect(body).await.unwrap(), dispatch)
}

async fn calls(fixture: &TestGateway) -> u64 {
    delivered(&fixture.heron).await["calls"].as_u64().unwrap()
}

#[tokio::test]
async fn an_equal_request_costs_nothing_and_says_what_it_saved() {
    let fixture = TestGateway::open().await;
    let caller = app_that_keeps("quay", RecallPolicy::Private);
    let (first, audio, made) = spoken(&fixture, &caller, CacheWish::Use).await;
    let (second, again, recalled) = spoken(&fixture, &caller, CacheWish::Use).await;
    assert_eq!((first, second), (CacheOutcome::Stored, CacheOutcome::Hit));
    assert_eq!((again, calls(&fixture).await), (audio, 1), "the same bytes, and one call");
    let (row, attempts, ledger) = fixture.dispatch(&recalled).await;
    let (paid, _, _) = fixture.dispatch(&made).await;
    assert!(row.recalled && attempts.is_empty() && ledger.is_empty(), "{row:?}");
    assert_eq!((row.state.name(), row.cost_nanos, row.saved_nanos), ("done", 0, paid.cost_nanos));
    assert!(paid.cost_nanos > 0 && !paid.recalled && paid.saved_nanos == 0);
    assert_eq!((row.engine, row.audio_ms > 2_000), (Some("heron".into()), true));
    // The engine may be gone: what is kept is still there.
    weather(&fixture.heron, r#"{"weather":"down"}"#).await;
    assert_eq!(spoken(&fixture, &caller, CacheWish::Use).await.0, CacheOutcome::Hit);
}

#[tokio::test]
async fn private_audio_stays_with_its_app_and_shared_audio_is_for_all_that_share() {
    let fixture = TestGateway::open().await;
    let outcome = async |name: &str, recall| spoken(&fixture, &app_that_keeps(name, recall), CacheWish::Use).await.0;
    assert_eq!(outcome("quay", RecallPolicy::Private).await, CacheOutcome::Stored);
    assert_eq!(outcome("helpline", RecallPolicy::Private).await, CacheOutcome::Stored, "another app's");
    assert_eq!(outcome("quay", RecallPolicy::Shared).await, CacheOutcome::Stored, "private audio is not shared");
    assert_eq!(outcome("helpline", RecallPolicy::Shared).await, CacheOutcome::Hit);
    assert_eq!(outcome("quay", RecallPolicy::Off).await, CacheOutcome::Bypassed);
    assert_eq!(calls(&fixture).await, 4);
}

#[tokio::test]
async fn a_request_may_want_it_anew_or_nothing_kept() {
    let fixture = TestGateway::open().await;
    let caller = app_that_keeps("quay", RecallPolicy::Private);
    let outcome = async |cache| spoken(&fixture, &caller, cache).await.0;
    assert_eq!(outcome(CacheWish::Off).await, CacheOutcome::Bypassed);
    assert_eq!(outcome(CacheWish::Use).await, CacheOutcome::Stored, "nothing was kept before");
    assert_eq!(outcome(CacheWish::Renew).await, CacheOutcome::Stored);
    assert_eq!(outcome(CacheWish::Use).await, CacheOutcome::Hit);
    assert_eq!(calls(&fixture).await, 3);
}

#[tokio::test]
async fn a_hundred_equal_requests_at_once_make_one_call() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":5}"#).await;
    let caller = app_that_keeps("quay", RecallPolicy::Private);
    let all = futures::future::join_all((0..100).map(|_| spoken(&fixture, &caller, CacheWish::Use))).await;
    let hits = all.iter().filter(|(outcome, ..)| *outcome == CacheOutcome::Hit).count();
    assert_eq!((hits, calls(&fixture).await), (99, 1));
    assert!(all.iter().all(|(_, audio, _)| *audio == all[0].1), "all hear the same");
}

#[tokio::test]
async fn what_is_not_whole_is_not_kept_and_those_who_wait_are_served() {
    let fixture = TestGateway::open().await;
    let caller = app_that_keeps("quay", RecallPolicy::Private);
    // Only the first call breaks off.
    weather(&fixture.heron, r#"{"weather":"half","calls":1}"#).await;
    let request = || say(TEXT, "heron/pellin");
    let broken = fixture.gateway.speak(&caller, request()).await.unwrap();
    let waiting = tokio::spawn({
        let (gateway, caller) = (fixture.gateway.clone(), caller.clone());
        async move { collect(gateway.speak(&caller, request()).await.unwrap().body).await }
    });
    assert!(collect(broken.body).await.is_err());
    let whole = waiting.await.unwrap().expect("a call of its own");
    assert_eq!(words(&whole, request().format), TEXT);
    assert_eq!(spoken(&fixture, &caller, CacheWish::Use).await.0, CacheOutcome::Stored, "nothing of both was kept");
}

#[tokio::test]
async fn a_caller_who_leaves_ends_the_call_unless_others_wait_for_its_audio() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":20}"#).await;
    let caller = app_that_keeps("quay", RecallPolicy::Private);
    let request = || say(TEXT, "heron/pellin");
    let alone = fixture.gateway.speak(&caller, request()).await.unwrap();
    let id = alone.dispatch.clone();
    drop(alone);
    assert_eq!(fixture.settled(&id).await.0.state.name(), "abandoned");

    let first = fixture.gateway.speak(&caller, request()).await.unwrap();
    let id = first.dispatch.clone();
    let waiting = tokio::spawn({
        let (gateway, caller) = (fixture.gateway.clone(), caller.clone());
        async move {
            let utterance = gateway.speak(&caller, request()).await.unwrap();
            (utterance.cache, collect(utterance.body).await.unwrap())
        }
    });
    tokio::time::sleep(std::time::Duration::from_millis(60)).await;
    drop(first);
    let (outcome, audio) = waiting.await.unwrap();
    assert_eq!((outcome, words(&audio, request().format)), (CacheOutcome::Hit, TEXT.to_owned()));
    assert_eq!(fixture.dispatch(&id).await.0.state.name(), "done");
}

#[tokio::test]
async fn audio_of_more_than_eight_megabytes_is_answered_whole_and_not_kept() {
    let fixture = TestGateway::open().await;
    let caller = app_that_keeps("quay", RecallPolicy::Private);
    let text = vec![TEXT; 80].join(" ");
    let mut calls_before = 0;
    for round in ["first", "second"] {
        let utterance = fixture.gateway.speak(&caller, say(&text, "heron/pellin")).await.unwrap();
        assert_eq!(utterance.cache, CacheOutcome::Stored, "{round}");
        let audio = collect(utterance.body).await.unwrap();
        assert!(audio.len() > 8 << 20, "{round}: {} bytes", audio.len());
        let now = calls(&fixture).await;
        assert!(now > calls_before, "{round}: it is called for again");
        calls_before = now;
    }
}
