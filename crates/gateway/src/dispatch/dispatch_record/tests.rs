//! Tests of `dispatch_record.rs`.

use dispatcher_engines::{Engine, Fetcher};
use dispatcher_store::{App, AttemptState, Store};

use super::*;
use crate::{Host, Registry, RootKeys, SynthesisRequest};

/// A gateway with heron, who is never called, and what it plans.
async fn planned(folder: &std::path::Path) -> (Gateway, Caller, PlannedCall) {
    let fetcher = Fetcher::new().expect("a fetcher");
    let sheet = include_str!("../../../../../demo/sheets/heron.toml");
    let mut registry = Registry::default();
    registry.add(Engine::load(sheet, "heron.toml", None, &fetcher).expect("a sheet"));
    let store = Store::open(&folder.join("records.db")).expect("records");
    let app = store.add_app(App::new("quay", "Quay", 1), "test".into()).await.expect("an app");
    let roots = RootKeys::of_file(&folder.join("root.key")).expect("a root key");
    let gateway = Gateway::start(store, roots, registry, Host::alone(fetcher)).await.expect("a gateway");
    let caller = Caller::of_app(app, "test");
    let request: SynthesisRequest = serde_json::from_value(serde_json::json!({
        "text": {"plain": "Cast off."}, "wanted": {"named": "heron/pellin"}, "model": null, "language": null,
        "unsupported": "adapt", "shaping": {}, "format": {"codec": "wav", "rate": 24000, "channels": 1},
        "trace": null,
    }))
    .expect("a request");
    let plan = gateway.estimate_speech(&caller, &request).await.expect("an estimate").plan;
    let first = plan.into_iter().next().expect("a candidate");
    (gateway, caller, first)
}

fn new_dispatch() -> NewDispatch<'static> {
    NewDispatch {
        hold: None,
        requested: "heron/pellin",
        media_type: "audio/wav".into(),
        language: None,
        characters: 9,
        audio_ms: 0,
        trace: None,
        rehearsal: false,
        job: None,
    }
}

#[tokio::test]
async fn an_attempt_that_is_dropped_is_recorded_and_charged_as_held() {
    let folder = tempfile::tempdir().expect("folder");
    let (gateway, caller, planned) = planned(folder.path()).await;
    let record = DispatchRecord::open(&gateway, &caller, Work::Synthesis, new_dispatch());
    let id = record.id().to_owned();
    let attempt = record.begin(&planned, planned.usage).await.expect("begun");
    drop(attempt);
    drop(record);
    gateway.finish().await;
    let (row, attempts, ledger) = gateway.inner.store.dispatch(id).await.expect("a record");
    assert_eq!((row.state, attempts[0].state), (DispatchState::Uncertain, AttemptState::Uncertain));
    assert_eq!((row.cost_nanos, row.currency.code()), (planned.estimate.nanos, "EUR"));
    let kinds: Vec<LedgerKind> = ledger.iter().map(|line| line.kind).collect();
    assert_eq!(kinds, [LedgerKind::Hold, LedgerKind::Release, LedgerKind::Settle]);
}

#[tokio::test]
async fn a_dispatch_that_is_settled_stays_as_it_was_settled() {
    let folder = tempfile::tempdir().expect("folder");
    let (gateway, caller, planned) = planned(folder.path()).await;
    let record = DispatchRecord::open(&gateway, &caller, Work::Synthesis, new_dispatch());
    let attempt = record.begin(&planned, planned.usage).await.expect("begun");
    let ended = attempt.delivered(planned.usage, None);
    let cost = record.settle(ended.into(), DispatchOutcome::done(900, Some(record.elapsed()))).await.expect("settled");
    let id = record.id().to_owned();
    drop(record);
    gateway.finish().await;
    let (row, attempts, _) = gateway.inner.store.dispatch(id).await.expect("a record");
    assert_eq!((row.state, attempts[0].state, row.audio_ms), (DispatchState::Done, AttemptState::Done, 900));
    assert_eq!((cost, row.cost_nanos), (planned.estimate, planned.estimate.nanos));
}

#[tokio::test]
async fn who_waits_for_somebody_to_speak_does_not_make_the_service_slow() {
    let folder = tempfile::tempdir().expect("folder");
    let (gateway, caller, planned) = planned(folder.path()).await;
    let begin_late = async |waits: bool| {
        let records: Vec<_> = (0..60)
            .map(|_| DispatchRecord::open(&gateway, &caller, Work::Recognition, new_dispatch()))
            .inspect(|record| {
                if waits {
                    record.wait_for_speech()
                }
            })
            .collect();
        tokio::time::sleep(std::time::Duration::from_millis(400)).await;
        for record in &records {
            drop(record.begin(&planned, planned.usage).await.expect("begun"));
        }
        gateway.inner.congestion.refuses(100_000, 0.0)
    };
    assert!(!begin_late(true).await, "a silent microphone is no overload");
    assert!(begin_late(false).await, "requests that wait for so long are one");
    gateway.finish().await;
}
