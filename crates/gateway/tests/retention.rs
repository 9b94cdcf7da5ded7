//! Records that are removed by their age, and what must stay as it was.

use crate::support::{TestGateway, collect, say};
use dispatcher_core::{Allowance, AllowanceAmount, AllowancePeriod, Currency, Work};
use dispatcher_gateway::{GatewayError, GroupBy, RetentionKind, RetentionRun, now_micros};
use dispatcher_store::{
    AttemptState, DispatchState, LedgerEntry, LedgerKind, SampleDispatch, StoredAttempt, StoredDispatch,
};

const DAY: i64 = 86_400_000_000;

/// A dispatch of an app that ended so many days ago.
fn old(app: &str, days: i64) -> SampleDispatch {
    let at = now_micros() - days * DAY;
    let id = format!("{:012x}-{app}", at / 1_000);
    let attempt = StoredAttempt { state: AttemptState::Done, ..StoredAttempt::begun(&id, 1, "heron") };
    let entry = |kind, nanos| LedgerEntry {
        dispatch: id.clone(),
        attempt: 1,
        kind,
        app: app.into(),
        engine: "heron".into(),
        model: None,
        work: Work::Synthesis,
        day: dispatcher_gateway::day_of(at),
        characters: 0,
        audio_ms: 0,
        nanos,
        currency: Currency::EUR,
        at,
    };
    use LedgerKind::{Hold, Release, Settle};
    let dispatch = StoredDispatch {
        state: DispatchState::Done,
        characters: 50,
        cost_nanos: 800_000,
        ..StoredDispatch::begun(id.clone(), app, Work::Synthesis, at)
    };
    let ledger = vec![entry(Hold, 800_000), entry(Release, -800_000), entry(Settle, 800_000)];
    SampleDispatch { dispatch, attempts: vec![attempt], ledger }
}

#[tokio::test]
async fn old_dispatches_go_and_allowances_usage_and_the_ledger_stay() {
    let fixture = TestGateway::open().await;
    let gateway = &fixture.gateway;
    gateway.add_samples(vec![old("quay", 70), old("quay", 60), old("quay", 20)]).await.unwrap();
    let four = Allowance { amount: AllowanceAmount::Requests(4), period: AllowancePeriod::Total };
    gateway.add_allowance("quay", None, four, "ada").await.unwrap();
    let operator =
        dispatcher_gateway::Caller { role: dispatcher_gateway::CallerRole::Operator, ..fixture.caller.clone() };
    let usage = async || {
        let days = ("2020-01-01".to_owned(), "2099-12-31".to_owned());
        gateway.usage(&operator, (GroupBy::Day, None), days, None).await.unwrap().groups
    };
    let before = usage().await;

    let few = gateway.set_retention(RetentionKind::Dispatches, Some(39), "ada").await;
    assert!(matches!(few, Err(GatewayError::RetentionDays(RetentionKind::Dispatches, 40, _))), "{few:?}");
    gateway.set_retention(RetentionKind::Dispatches, Some(45), "ada").await.unwrap();
    let two = [RetentionRun { kind: RetentionKind::Dispatches, days: 45, records: 2 }];
    assert_eq!(gateway.preview_retention().await.unwrap(), two);
    assert_eq!(gateway.run_retention().await.unwrap(), two);
    assert_eq!(gateway.run_retention().await.unwrap()[0].records, 0);

    assert_eq!(usage().await, before);
    let check = gateway.check_ledger().await.unwrap();
    assert!(check.holds() && check.entries == 9, "{check:?}");
    // Three of four requests are used, two of them by dispatches that are gone.
    collect(fixture.speak(say("Ahoy", "heron/pellin")).await.body).await.unwrap();
    let over = gateway.speak(&fixture.caller, say("Ahoy again", "heron/pellin")).await.err().unwrap();
    assert!(over.to_string().contains("4 requests"), "{over}");
}
