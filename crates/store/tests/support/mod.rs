//! Records of tests.

use dispatcher_store::{App, AttemptRow, AttemptState, DispatchRow, DispatchState, LedgerKind, LedgerRow, Store};

pub fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("records.db")).unwrap();
    (folder, store)
}

pub fn app(name: &str) -> App {
    App::new(name, name, 1)
}

pub fn dispatch(id: &str, app: &str) -> DispatchRow {
    DispatchRow {
        id: id.into(),
        app: app.into(),
        work: "synthesis".into(),
        requested: "quayside".into(),
        rehearsal: 0,
        state: DispatchState::Running,
        engine: None,
        voice: None,
        model: None,
        media_type: "audio/mpeg".into(),
        language: None,
        characters: 50,
        audio_ms: 0,
        first_us: None,
        total_us: None,
        cost_nanos: 0,
        currency: "EUR".into(),
        problem: None,
        trace: None,
        started_at: 5,
        job: None,
        sample: 0,
    }
}

pub fn attempt(dispatch: &str) -> AttemptRow {
    AttemptRow {
        dispatch: dispatch.into(),
        number: 1,
        engine: "heron".into(),
        voice: Some("pellin".into()),
        model: Some("fine".into()),
        state: AttemptState::Running,
        cause: None,
        detail: None,
        offset_us: 0,
        first_us: None,
        total_us: None,
        credential: None,
    }
}

pub fn entry(dispatch: &str, app: &str, kind: LedgerKind, nanos: i64) -> LedgerRow {
    LedgerRow {
        id: None,
        dispatch: dispatch.into(),
        attempt: 1,
        kind,
        app: app.into(),
        engine: "heron".into(),
        model: Some("fine".into()),
        work: "synthesis".into(),
        day: "2026-11-25".into(),
        characters: if kind == LedgerKind::Release { -50 } else { 50 },
        audio_ms: 0,
        nanos,
        currency: "EUR".into(),
        at: 7,
    }
}
