//! Sums of usage, charges of an engine, comparisons and erasure.

use crate::support::{attempt, dispatch, entry, store};
use dispatcher_core::Currency;
use dispatcher_store::{
    AttemptState, ComparedVoice, DispatchState, ErasureMode, ErasureScope, GroupBy, LedgerKind, Store, StoredAttempt,
    StoredComparison, StoredDispatch, StoredRating,
};

/// A dispatch of one attempt with a number, which failed or was charged.
async fn attempted(store: &Store, id: &str, number: i64, charged: Option<i64>, first_us: i64) {
    attempted_later(store, 0, (id, number), charged, first_us).await;
}

/// The same some hours later.
async fn attempted_later(store: &Store, hours: i64, (id, number): (&str, i64), charged: Option<i64>, first_us: i64) {
    let numbered = |row: StoredAttempt| StoredAttempt { number, ..row };
    let line = |kind, nanos| {
        let entry = entry(id, "quay", kind, nanos);
        dispatcher_store::LedgerEntry { attempt: number, at: entry.at + hours * 3_600_000_000, ..entry }
    };
    let first = (number == 1).then(|| dispatch(id, "quay"));
    store.begin_attempt(first, numbered(attempt(id)), line(LedgerKind::Hold, 900)).await.unwrap();
    let state = if charged.is_some() { AttemptState::Done } else { AttemptState::Failed };
    let ended =
        StoredAttempt { state, first_us: charged.map(|_| first_us), total_us: Some(90_000), ..numbered(attempt(id)) };
    let mut lines = vec![line(LedgerKind::Release, -900)];
    lines.extend(charged.map(|nanos| line(LedgerKind::Settle, nanos)));
    let state = if charged.is_some() { DispatchState::Done } else { DispatchState::Failed };
    let cost_nanos = charged.unwrap_or_default();
    store.settle(Some((ended, lines)), StoredDispatch { state, cost_nanos, ..dispatch(id, "quay") }).await.unwrap();
}

fn days() -> (String, String) {
    ("2026-11-01".into(), "2026-11-30".into())
}

#[tokio::test]
async fn what_is_added_to_the_sums_is_added_once() {
    let (_folder, store) = store();
    attempted(&store, "d1", 1, None, 0).await;
    attempted(&store, "d1", 2, Some(300), 20_000).await;
    attempted(&store, "d2", 1, Some(200), 40_000).await;
    let near = |told: Option<i64>, micros: i64| (told.unwrap() - micros).abs() * 20 <= micros;
    let group = async |by| {
        let rows = store.usage((by, None), days(), None).await.unwrap();
        assert_eq!(rows.len(), 1, "{rows:?}");
        rows.into_iter().next().unwrap()
    };
    for _ in 0..3 {
        let told = group(GroupBy::Route).await;
        assert_eq!((told.requests, told.failures, told.fallbacks, told.nanos), (2, 1, 1, 500));
        assert!(near(told.median_us, 20_000) && near(told.p95_us, 40_000), "{told:?}");
    }
    attempted(&store, "d3", 1, Some(50), 10_000).await;
    assert_eq!(group(GroupBy::Engine).await.nanos, 550);
    attempted_later(&store, 1, ("d5", 1), Some(50), 80_000).await;
    let by_hour = store.usage((GroupBy::Hour, Some(GroupBy::Engine)), days(), None).await.unwrap();
    assert_eq!(by_hour.iter().map(|hour| hour.requests).collect::<Vec<_>>(), [3, 1]);
    assert!(near(by_hour[0].median_us, 20_000) && near(by_hour[0].p95_us, 40_000), "{by_hour:?}");
    assert!(near(by_hour[1].median_us, 80_000) && near(by_hour[1].p95_us, 80_000), "{by_hour:?}");
    assert!(near(group(GroupBy::Engine).await.median_us, 20_000), "of all hours");
    let recalled =
        StoredDispatch { recalled: true, saved_nanos: 70, state: DispatchState::Done, ..dispatch("d4", "quay") };
    store.settle(None, StoredDispatch { started_at: 1_795_587_300_000_000, ..recalled }).await.unwrap();
    let days = store.usage((GroupBy::Day, None), days(), None).await.unwrap();
    let of_day: Vec<_> = days.iter().map(|day| (&*day.first, day.recalled, day.saved_nanos)).collect();
    assert_eq!(of_day, [("2026-11-25", 1, 70)]);
    assert!(
        store
            .check_ledger()
            .await
            .unwrap()
            .rules
            .iter()
            .any(|rule| rule.rule.contains("sums of usage") && rule.count == 0)
    );
}

#[tokio::test]
async fn charges_of_an_engine_have_the_time_of_their_call_and_say_which_failed() {
    let (_folder, store) = store();
    attempted(&store, "d1", 1, None, 0).await;
    attempted(&store, "d2", 1, Some(200), 9).await;
    let charges = store.engine_charges("heron".into(), days()).await.unwrap();
    let told: Vec<_> = charges.iter().map(|it| (&*it.dispatch, it.amount.nanos, it.failed)).collect();
    assert_eq!(told, [("d1", 900, true), ("d2", 200, false)]);
    assert!(store.engine_charges("godwit".into(), days()).await.unwrap().is_empty());
}

fn voice(comparison: &str, number: i64) -> ComparedVoice {
    ComparedVoice {
        comparison: comparison.into(),
        number,
        voice: format!("heron/{number}"),
        model: None,
        dispatch: None,
        nanos: 5,
        currency: Currency::EUR,
        first_us: Some(7),
        total_us: None,
        audio_ms: 900,
        loudness: Some(-18.5),
        fault: None,
    }
}

#[tokio::test]
async fn a_comparison_keeps_its_ratings_and_the_oldest_goes() {
    let (_folder, store) = store();
    let add = async |id: &str, app: &str| {
        let row =
            StoredComparison { id: id.into(), app: app.into(), text: "Ahoy".into(), made_by: "ada".into(), made_at: 1 };
        store.add_comparison(row, vec![voice(id, 1), voice(id, 2)], 2).await.unwrap()
    };
    for (id, app, gone) in
        [("c1", "quay", vec![]), ("c2", "help", vec![]), ("c3", "quay", vec![]), ("c4", "quay", vec!["c1"])]
    {
        assert_eq!(add(id, app).await, gone, "{id}");
    }
    let rating = |score| StoredRating {
        comparison: "c3".into(),
        number: 0,
        first: 1,
        second: 2,
        score,
        made_by: "ben".into(),
        made_at: 2,
    };
    assert!(store.add_rating(rating(2), 2).await.unwrap() && store.add_rating(rating(-1), 2).await.unwrap());
    assert!(!store.add_rating(rating(0), 2).await.unwrap(), "there are two already");
    let (row, voices, ratings) = store.comparison("c3".into()).await.unwrap();
    assert_eq!((&*row.text, voices, ratings.len()), ("Ahoy", vec![voice("c3", 1), voice("c3", 2)], 2));
    assert_eq!((ratings[1].number, ratings[1].score), (2, -1));
    assert!(store.comparison("c1".into()).await.is_err());
    // Erased with its app, and counted before.
    let scope = || ErasureScope { app: "quay".into(), end_user: None };
    let erase = async |mode| store.erase(scope(), mode, "ada".into(), 3).await.unwrap().comparisons;
    assert_eq!(erase(ErasureMode::Count).await, ["c3", "c4"]);
    assert_eq!(store.comparisons(None, 9).await.unwrap().len(), 3);
    assert_eq!(erase(ErasureMode::Erase).await, ["c3", "c4"]);
    let left = store.comparisons(None, 9).await.unwrap();
    assert_eq!(left.iter().map(|row| &*row.id).collect::<Vec<_>>(), ["c2"], "another app's stays");
}
