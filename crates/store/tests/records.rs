//! The store as the gateway uses it.

use crate::support::{app, attempt, dispatch, entry, store};
use dispatcher_core::Currency;
use dispatcher_store::{
    AccessKey, AttemptState, DispatchFilter, DispatchState, GroupBy, Identified, LedgerEntry, LedgerKind, Store,
    StoreError, StoredAttempt, StoredClip, StoredDispatch,
};

fn dollar() -> Currency {
    "USD".parse().unwrap()
}

async fn settled(store: &Store, id: &str, app: &str, nanos: i64) {
    let hold = entry(id, app, LedgerKind::Hold, nanos);
    store.begin_attempt(Some(dispatch(id, app)), attempt(id), hold).await.unwrap();
    let ended = StoredAttempt { state: AttemptState::Done, first_us: Some(20), total_us: Some(90), ..attempt(id) };
    let entries = vec![entry(id, app, LedgerKind::Release, -nanos), entry(id, app, LedgerKind::Settle, nanos)];
    let settled = StoredDispatch {
        state: DispatchState::Done,
        engine: Some("heron".into()),
        voice: Some("pellin".into()),
        model: Some("fine".into()),
        audio_ms: 900,
        first_us: Some(20),
        total_us: Some(95),
        cost_nanos: nanos,
        ..dispatch(id, app)
    };
    store.settle(Some((ended, entries)), settled).await.unwrap();
}

#[tokio::test]
async fn money_beyond_32_bits_and_beyond_doubles_comes_back_whole() {
    let (_folder, store) = store();
    let large = 9_007_199_254_740_993;
    settled(&store, "d1", "quay", large).await;
    let (row, _, entries) = store.dispatch("d1".into()).await.unwrap();
    assert_eq!(row.cost_nanos, large);
    assert_eq!(entries.iter().map(|entry| entry.nanos).collect::<Vec<_>>(), [large, -large, large]);
    let usage = store.usage((GroupBy::App, None), ("2026-11-25".into(), "2026-11-25".into()), None).await.unwrap();
    assert_eq!(usage[0].nanos, large);
}

#[tokio::test]
async fn usage_counts_what_was_settled_and_groups_it() {
    let (_folder, store) = store();
    settled(&store, "d1", "quay", 100).await;
    settled(&store, "d2", "quay", 200).await;
    settled(&store, "d3", "help", 400).await;
    // A hold that was never settled is no usage.
    store.settle(None, dispatch("d4", "help")).await.unwrap();
    store.begin_attempt(None, attempt("d4"), entry("d4", "help", LedgerKind::Hold, 999)).await.unwrap();
    let days = || ("2026-11-01".to_owned(), "2026-11-30".to_owned());
    let rows = store.usage((GroupBy::App, Some(GroupBy::Engine)), days(), None).await.unwrap();
    let seen: Vec<_> =
        rows.iter().map(|r| (r.first.as_str(), r.second.as_deref(), r.requests, r.characters, r.nanos)).collect();
    assert_eq!(seen, [("help", Some("heron"), 1, 50, 400), ("quay", Some("heron"), 2, 100, 300)]);
    let only = store.usage((GroupBy::Day, None), days(), Some(vec!["quay".into()])).await.unwrap();
    assert_eq!((only.len(), only[0].nanos), (1, 300));
    // Every grouping has the same sum, alone and with each other one.
    for first in GroupBy::ALL {
        for second in GroupBy::ALL.map(Some).into_iter().chain([None]) {
            let rows = store.usage((first, second), days(), None).await.unwrap();
            let (requests, nanos) = rows.iter().fold((0, 0), |sum, row| (sum.0 + row.requests, sum.1 + row.nanos));
            assert_eq!((requests, nanos), (3, 700), "{first:?} {second:?}: {rows:?}");
        }
    }
    let names = async |by: GroupBy| {
        let rows = store.usage((by, None), days(), None).await.unwrap();
        rows.into_iter().map(|row| row.first).collect::<Vec<_>>()
    };
    assert_eq!(names(GroupBy::Work).await, ["synthesis"]);
    assert_eq!(names(GroupBy::Voice).await, [format!("heron/{}", attempt("d1").voice.unwrap())]);
    assert_eq!(names(GroupBy::Route).await, [dispatch("d1", "quay").requested]);
    assert!(names(GroupBy::Hour).await[0].ends_with(":00Z"));
}

#[tokio::test]
async fn what_a_crash_left_open_is_charged_as_held_and_marked() {
    let (folder, store) = store();
    settled(&store, "d1", "quay", 100).await;
    store.settle(None, dispatch("d2", "quay")).await.unwrap();
    store.begin_attempt(None, attempt("d2"), entry("d2", "quay", LedgerKind::Hold, 70)).await.unwrap();
    store.close();
    let store = Store::open(&folder.path().join("records.db")).unwrap();
    assert_eq!(store.mark_uncertain(9, "2026-11-26".into()).await.unwrap(), 1);
    assert_eq!(store.mark_uncertain(9, "2026-11-26".into()).await.unwrap(), 0, "only once");
    let (row, attempts, entries) = store.dispatch("d2".into()).await.unwrap();
    assert_eq!((row.state.name(), row.cost_nanos, attempts[0].state.name()), ("uncertain", 70, "uncertain"));
    assert_eq!(entries.iter().map(|entry| entry.nanos).sum::<i64>(), 70);
    assert_eq!(store.dispatch("d1".into()).await.unwrap().0.state, DispatchState::Done);
}

#[tokio::test]
async fn dispatches_page_backwards_and_filter() {
    let (_folder, store) = store();
    for (id, app) in [("d1", "quay"), ("d2", "help"), ("d3", "quay")] {
        settled(&store, id, app, 1).await;
    }
    let list = async |filter: DispatchFilter| -> Vec<String> {
        store.dispatches(filter).await.unwrap().into_iter().map(|row| row.id).collect()
    };
    assert_eq!(list(DispatchFilter { limit: 2, ..Default::default() }).await, ["d3", "d2"]);
    assert_eq!(list(DispatchFilter { limit: 2, before: Some("d2".into()), ..Default::default() }).await, ["d1"]);
    assert_eq!(list(DispatchFilter { limit: 9, apps: Some(vec!["help".into()]), ..Default::default() }).await, ["d2"]);
    assert!(matches!(store.dispatch("d9".into()).await, Err(StoreError::Missing { what: "dispatch", .. })));
}

#[tokio::test]
async fn a_revoked_key_speaks_for_nobody() {
    let (_folder, store) = store();
    store.add_app(app("quay"), "ops".into()).await.unwrap();
    assert!(matches!(store.add_app(app("quay"), "ops".into()).await, Err(StoreError::Taken { .. })));
    let key = AccessKey {
        id: "k1".into(),
        app: "quay".into(),
        operator: false,
        hash: "h".into(),
        hint: "dispatch_app_ab…".into(),
        label: "test".into(),
        created_at: 1,
        last_used_at: None,
        revoked_at: None,
        per_minute: None,
        at_once: None,
        expires_at: None,
        calls: None,
        routes: None,
        engines: None,
        voices: None,
        networks: None,
    };
    store.add_key(key.clone(), "ops".into()).await.unwrap();
    assert_eq!(store.grant("h".into()).await.unwrap().unwrap().app.name, "quay");
    store.revoke_key("quay".into(), "k1".into(), "ops".into(), 2).await.unwrap();
    assert!(store.grant("h".into()).await.unwrap().is_none());
    let orphan = AccessKey { app: "nobody".into(), id: "k2".into(), hash: "i".into(), ..key };
    assert!(matches!(store.add_key(orphan, "ops".into()).await, Err(StoreError::Missing { what: "app", .. })));
}

#[tokio::test]
async fn each_app_has_its_own_record_of_a_clip() {
    let (_folder, store) = store();
    let sound = |app: &str, title: &str| StoredClip {
        id: "c0ffee".into(),
        app: app.into(),
        title: title.into(),
        media_type: "audio/wav".into(),
        bytes: 9,
        audio_ms: 3,
        created_by: "tess".into(),
        created_at: 6,
    };
    store.put_clip(sound("helpline", "gong")).await.unwrap();
    assert_eq!(store.put_clip(sound("helpline", "chime")).await.unwrap().title, "gong", "the app has it already");
    assert_eq!(store.put_clip(sound("console", "bell")).await.unwrap().title, "bell", "each app has its own record");
    assert_eq!(store.clips(Some("console".into())).await.unwrap(), [sound("console", "bell")]);
    assert!(store.remove_clip("c0ffee".into(), "helpline".into(), "tess".into(), 7).await.unwrap(), "one still has it");
    assert_eq!(store.clip_records("c0ffee".into()).await.unwrap(), [sound("console", "bell")]);
    assert!(store.remove_clip("c0ffee".into(), "helpline".into(), "tess".into(), 8).await.is_err(), "its own is gone");
    assert!(!store.remove_clip("c0ffee".into(), "console".into(), "tess".into(), 9).await.unwrap(), "nobody has it");
    assert_eq!(store.clip_records("c0ffee".into()).await.unwrap(), []);
}

#[tokio::test]
async fn an_id_is_found_by_its_unique_beginning() {
    let (_folder, store) = store();
    store.add_app(app("quay"), "test".into()).await.unwrap();
    for id in ["01aa01", "01aa02", "01bb"] {
        store.settle(None, dispatch(id, "quay")).await.unwrap();
    }
    let find = async |app: Option<&str>, beginning: &str| {
        store
            .id_of(Identified::Dispatch, app.map(|app| vec![app.to_owned()]), beginning.into())
            .await
            .map_err(|error| error.to_string())
    };
    assert_eq!(find(None, "01b").await, Ok("01bb".into()));
    assert_eq!(find(None, "01aa01").await, Ok("01aa01".into()), "a whole id");
    assert_eq!(find(None, "01aa").await, Err("several ids begin with '01aa'; give more of the dispatch's id".into()));
    assert_eq!(find(None, "02").await, Err("there is no dispatch '02'".into()));
    assert_eq!(find(None, "").await, Err("there is no dispatch ''".into()));
    store.add_app(app("pier"), "test".into()).await.unwrap();
    store.settle(None, dispatch("01bc", "pier")).await.unwrap();
    assert_eq!(find(Some("quay"), "01b").await, Ok("01bb".into()), "another app's does not make it ambiguous");
    assert_eq!(find(Some("nobody"), "01b").await, Err("there is no dispatch '01b'".into()), "of another app");
}

#[tokio::test]
async fn what_a_crash_leaves_open_is_charged_in_the_currency_of_its_hold() {
    let (_folder, store) = store();
    store.settle(None, dispatch("d1", "quay")).await.unwrap();
    let dollars = LedgerEntry { currency: dollar(), ..entry("d1", "quay", LedgerKind::Hold, 70) };
    store.begin_attempt(None, attempt("d1"), dollars).await.unwrap();
    store.mark_uncertain(9, "2026-11-26".into()).await.unwrap();
    let (row, _, ledger) = store.dispatch("d1".into()).await.unwrap();
    assert_eq!((row.state, row.cost_nanos, row.currency.code()), (DispatchState::Uncertain, 70, "USD"));
    assert!(ledger.iter().all(|line| line.currency.code() == "USD"), "{ledger:?}");
}
