//! Jobs as the gateway keeps them.

use crate::support::{app, attempt, dispatch, entry};
use dispatcher_core::{Currency, Money, Work};
use dispatcher_store::{
    AttemptState, JobChange, JobFilter, JobProgress, JobState, LedgerKind, Store, StoreError, StoredAttempt,
    StoredDispatch, StoredJob, StoredJobFile, StoredJobPiece, WebhookResult,
};

/// A store with an app.
async fn store() -> (tempfile::TempDir, Store) {
    let (folder, store) = crate::support::store();
    store.add_app(app("quay"), "test".into()).await.unwrap();
    (folder, store)
}

fn job(id: &str, state: JobState) -> StoredJob {
    StoredJob {
        id: id.into(),
        app: "quay".into(),
        by: "test".into(),
        work: Work::Synthesis,
        title: "Handbook".into(),
        state,
        reason: None,
        request: "{}".into(),
        pieces: 3,
        estimate_nanos: 9,
        currency: Currency::EUR,
        webhook: None,
        notified_at: None,
        given_up_at: None,
        created_at: 1,
        started_at: None,
        ended_at: None,
        expires_at: None,
        warnings: "[]".into(),
        estimates: "[]".into(),
        end_user: None,
    }
}

fn piece(job: &str, piece: i64, audio_ms: i64) -> StoredJobPiece {
    StoredJobPiece {
        job: job.into(),
        track: 0,
        piece,
        fingerprint: format!("print-{piece}"),
        engine: "heron".into(),
        dispatch: "d1".into(),
        audio_ms,
        made_at: 2,
    }
}

fn state(state: JobState) -> JobChange {
    JobChange { state: Some(state), ..JobChange::default() }
}

#[tokio::test]
async fn a_job_that_is_over_stays_as_it_is() {
    let (_folder, store) = store().await;
    store.add_job(job("a", JobState::Queued)).await.unwrap();
    let waiting =
        JobChange { state: Some(JobState::Waiting), reason: Some(Some("heron: down".into())), ..JobChange::default() };
    assert!(store.change_job("a".into(), waiting).await.unwrap());
    assert_eq!(store.job("a".into()).await.unwrap().reason.as_deref(), Some("heron: down"));
    let running = JobChange { state: Some(JobState::Running), reason: Some(None), ..JobChange::default() };
    assert!(store.change_job("a".into(), running).await.unwrap());
    assert_eq!(store.job("a".into()).await.unwrap().reason, None, "the reason went with the wait");
    assert_eq!(store.jobs_at_work().await.unwrap().len(), 1);
    assert!(store.change_job("a".into(), state(JobState::Cancelled)).await.unwrap());
    assert!(!store.change_job("a".into(), state(JobState::Done)).await.unwrap(), "it was cancelled first");
    assert_eq!(store.job("a".into()).await.unwrap().state, JobState::Cancelled);
    assert!(store.jobs_at_work().await.unwrap().is_empty());
    assert!(store.reopen_job("a".into()).await.unwrap(), "what was cancelled may go on");
    let reopened = store.job("a".into()).await.unwrap();
    assert_eq!((reopened.state, reopened.ended_at, reopened.expires_at), (JobState::Queued, None, None));
    assert!(!store.reopen_job("a".into()).await.unwrap(), "it is at work");
    assert!(store.change_job("a".into(), state(JobState::Done)).await.unwrap());
    assert!(!store.reopen_job("a".into()).await.unwrap(), "what is done is done");
    assert!(matches!(store.job("b".into()).await, Err(StoreError::Missing { what: "job", .. })));
}

#[tokio::test]
async fn progress_adds_up_pieces_and_what_every_attempt_cost() {
    let (_folder, store) = store().await;
    store.add_job(job("a", JobState::Running)).await.unwrap();
    let dispatch = StoredDispatch { job: Some("a".into()), ..dispatch("d1", "quay") };
    let line = |kind: LedgerKind, nanos: i64| entry("d1", "quay", kind, nanos);
    store.begin_attempt(Some(dispatch), attempt("d1"), line(LedgerKind::Hold, 800)).await.unwrap();
    assert_eq!(store.job_progress("a".into()).await.unwrap(), JobProgress::default(), "a hold is no cost");
    let end = StoredAttempt { state: AttemptState::Done, total_us: Some(7), ..attempt("d1") };
    let lines = vec![line(LedgerKind::Release, -800), line(LedgerKind::Settle, 700)];
    store.end_piece(Some((end, lines)), piece("a", 0, 1_500)).await.unwrap();
    store.end_piece(None, piece("a", 1, 500)).await.unwrap();
    // The same piece again, as after a restart, counts once.
    store.end_piece(None, piece("a", 1, 500)).await.unwrap();
    let progress = store.job_progress("a".into()).await.unwrap();
    assert_eq!(
        progress,
        JobProgress { pieces: 2, audio_ms: 2_000, costs: vec![Money { nanos: 700, currency: Currency::EUR }] }
    );
    let (row, attempts, _) = store.dispatch("d1".into()).await.unwrap();
    assert_eq!((row.job.as_deref(), attempts[0].state.name()), (Some("a"), "done"));
}

#[tokio::test]
async fn old_results_go_and_a_removed_job_takes_all_with_it() {
    let (_folder, store) = store().await;
    let file = |job: &str| StoredJobFile {
        job: job.into(),
        number: 0,
        name: "a.mp3".into(),
        title: "A".into(),
        media_type: "audio/mpeg".into(),
        bytes: 10,
        audio_ms: 20,
    };
    for (id, over) in [("a", JobState::Done), ("b", JobState::Running)] {
        store.add_job(StoredJob { expires_at: Some(100), ..job(id, over) }).await.unwrap();
        store.put_job_file(file(id)).await.unwrap();
        store.end_piece(None, piece(id, 0, 1)).await.unwrap();
    }
    assert!(store.expired_jobs(99).await.unwrap().is_empty());
    assert_eq!(store.expired_jobs(100).await.unwrap(), ["a"], "what still runs keeps its files");
    store.forget_job_files("a".into()).await.unwrap();
    assert!(store.expired_jobs(100).await.unwrap().is_empty() && store.job_files("a".into()).await.unwrap().is_empty());
    assert_eq!(store.job("a".into()).await.unwrap().state, JobState::Done, "its record stays");
    assert!(!store.remove_job("b".into()).await.unwrap(), "it still runs");
    assert!(store.change_job("b".into(), state(JobState::Failed)).await.unwrap());
    assert!(store.remove_job("b".into()).await.unwrap());
    assert!(store.job_pieces("b".into()).await.unwrap().is_empty());
}

#[tokio::test]
async fn lists_are_by_app_and_state_newest_first_and_untold_ends_are_found() {
    let (_folder, store) = store().await;
    for (id, app, over, webhook) in [
        ("a", "quay", JobState::Done, Some("http://h/x")),
        ("b", "other", JobState::Done, None),
        ("c", "quay", JobState::Queued, Some("http://h/x")),
    ] {
        let row = StoredJob { app: app.into(), webhook: webhook.map(str::to_owned), ..job(id, over) };
        store.add_job(row).await.unwrap();
    }
    let ids = async |filter: JobFilter| -> Vec<String> {
        store.jobs(filter).await.unwrap().into_iter().map(|row| row.id).collect()
    };
    let all = JobFilter { limit: 10, ..JobFilter::default() };
    assert_eq!(ids(all.clone()).await, ["c", "b", "a"]);
    assert_eq!(ids(JobFilter { apps: Some(vec!["quay".into()]), ..all.clone() }).await, ["c", "a"]);
    assert_eq!(ids(JobFilter { state: Some(JobState::Done), ..all.clone() }).await, ["b", "a"]);
    assert_eq!(ids(JobFilter { before: Some("b".into()), ..all }).await, ["a"]);
    assert_eq!(store.jobs_to_notify().await.unwrap(), ["a"]);
    store.note_webhook("a".into(), WebhookResult::GivenUp, 5).await.unwrap();
    let row = store.job("a".into()).await.unwrap();
    assert_eq!((row.notified_at, row.given_up_at), (None, Some(5)), "nobody was notified");
    assert!(store.jobs_to_notify().await.unwrap().is_empty());
}
