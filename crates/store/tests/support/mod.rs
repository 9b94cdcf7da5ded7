//! Records of tests.

use dispatcher_core::{Currency, Work};
use dispatcher_store::{App, LedgerEntry, LedgerKind, Store, StoredAttempt, StoredDispatch};

pub fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("records.db")).unwrap();
    (folder, store)
}

pub fn app(name: &str) -> App {
    App::new(name, name, 1)
}

pub fn dispatch(id: &str, app: &str) -> StoredDispatch {
    StoredDispatch {
        requested: "quayside".into(),
        media_type: "audio/mpeg".into(),
        characters: 50,
        ..StoredDispatch::begun(id, app, Work::Synthesis, 5)
    }
}

pub fn attempt(dispatch: &str) -> StoredAttempt {
    StoredAttempt {
        voice: Some("pellin".into()),
        model: Some("fine".into()),
        ..StoredAttempt::begun(dispatch, 1, "heron")
    }
}

pub fn entry(dispatch: &str, app: &str, kind: LedgerKind, nanos: i64) -> LedgerEntry {
    LedgerEntry {
        dispatch: dispatch.into(),
        attempt: 1,
        kind,
        app: app.into(),
        engine: "heron".into(),
        model: Some("fine".into()),
        work: Work::Synthesis,
        day: "2026-11-25".into(),
        characters: if kind == LedgerKind::Release { -50 } else { 50 },
        audio_ms: 0,
        nanos,
        currency: Currency::EUR,
        at: 7,
    }
}
