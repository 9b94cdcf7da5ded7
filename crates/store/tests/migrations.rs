//! Records of an earlier version of the service are read as they were.

use diesel::connection::SimpleConnection as _;
use diesel::prelude::*;
use dispatcher_store::{DispatchState, LedgerKind, Store, VersionedKind};

/// The schema of the last version that had a table for each kind of document.
const BEFORE: [(&str, &str); 10] = [
    ("0001", include_str!("../migrations/0001_records/up.sql")),
    ("0002", include_str!("../migrations/0002_profiles/up.sql")),
    ("0003", include_str!("../migrations/0003_catalogues/up.sql")),
    ("0004", include_str!("../migrations/0004_jobs/up.sql")),
    ("0005", include_str!("../migrations/0005_lexicons/up.sql")),
    ("0006", include_str!("../migrations/0006_prompt_sets/up.sql")),
    ("0007", include_str!("../migrations/0007_sessions_and_clips/up.sql")),
    ("0008", include_str!("../migrations/0008_job_warnings/up.sql")),
    ("0009", include_str!("../migrations/0009_names/up.sql")),
    ("0010", include_str!("../migrations/0010_requested_and_samples/up.sql")),
];

const ROWS: &str = "
    INSERT INTO sheets VALUES ('heron', 1, 'a', 'heron.toml', 1, NULL), ('heron', 2, 'b', 'by ada', 2, NULL);
    INSERT INTO sheets VALUES ('gull', 1, 'c', 'by ada', 3, NULL), ('gull', 2, 'd', 'by ada', 4, 9);
    INSERT INTO routes VALUES ('quayside', 1, 'r', 'ben', 5, NULL);
    INSERT INTO presets VALUES ('gate', 1, 'p', 'ben', 6, 7);
    INSERT INTO lexicons VALUES ('harbour', 1, 'helpline', 1, 'l', 'tess', 8, NULL);
    INSERT INTO prompt_sets VALUES ('gates', 'quay', 's', 'tess', 9);
    INSERT INTO prompt_files VALUES
        ('gates', 'open', 'mp3', 'f', 'open.mp3', 'audio/mpeg', 9, 3, 'd1', 2, 'ada', 3);
    INSERT INTO dispatches
        (id, app, work, requested, rehearsal, state, media_type, characters, audio_ms, cost_nanos, currency, started_at)
        VALUES ('d1', 'quay', 'synthesis', 'quayside', 0, 'done', 'audio/mpeg', 50, 900, 800, 'EUR', 5);
    INSERT INTO attempts (dispatch, number, engine, state, offset_us, credential)
        VALUES ('d1', 1, 'heron', 'done', 7, 'heron 2');
    INSERT INTO ledger (dispatch, attempt, kind, app, engine, work, day, characters, audio_ms, nanos, currency, at)
        VALUES ('d1', 1, 'hold', 'quay', 'heron', 'synthesis', '2026-11-25', 50, 0, 900, 'EUR', 7),
               ('d1', 1, 'release', 'quay', 'heron', 'synthesis', '2026-11-25', -50, 0, -900, 'EUR', 8),
               ('d1', 1, 'settle', 'quay', 'heron', 'synthesis', '2026-11-25', 50, 900, 800, 'EUR', 8);
";

#[tokio::test]
async fn what_an_earlier_version_kept_is_read_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("records.db");
    let mut connection = SqliteConnection::establish(&path.to_string_lossy()).unwrap();
    let applied = "CREATE TABLE __diesel_schema_migrations (version VARCHAR(50) PRIMARY KEY NOT NULL,
        run_on TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP);";
    connection.batch_execute(applied).unwrap();
    for (version, schema) in BEFORE {
        connection.batch_execute(schema).unwrap();
        let told = format!("INSERT INTO __diesel_schema_migrations (version) VALUES ('{version}')");
        connection.batch_execute(&told).unwrap();
    }
    connection.batch_execute(ROWS).unwrap();
    drop(connection);

    let store = Store::open(&path).unwrap();
    let in_force = async |kind| {
        let rows = store.in_force(kind).await.unwrap();
        rows.into_iter().map(|row| (row.name, row.version, row.document, row.origin.to_string())).collect::<Vec<_>>()
    };
    let row = |name: &str, version, document: &str, origin: &str| {
        (name.to_owned(), version, document.to_owned(), origin.to_owned())
    };
    assert_eq!(in_force(VersionedKind::Sheet).await, [row("heron", 2, "b", "by ada")], "gull stays retired");
    let gull = store.versions(VersionedKind::Sheet, "gull".into()).await.unwrap();
    assert_eq!(gull.iter().map(|one| (one.version, one.retired_at)).collect::<Vec<_>>(), [(2, Some(9)), (1, Some(9))]);
    assert_eq!(in_force(VersionedKind::Route).await, [row("quayside", 1, "r", "by ben")]);
    assert_eq!(in_force(VersionedKind::Preset).await, []);
    let lexicon = store.version_in_force(VersionedKind::Lexicon, "harbour".into()).await.unwrap();
    assert_eq!((lexicon.app.as_deref(), lexicon.always, lexicon.created_at), (Some("helpline"), true, 8));
    let (set, files) = store.prompt_set("gates".into()).await.unwrap();
    assert_eq!((set.app.as_deref(), set.document.as_str(), set.origin.name()), (Some("quay"), "s", "tess"));
    assert_eq!((files.len(), files[0].approved_by.as_deref()), (1, Some("ada")), "the file is still approved");
    let (dispatch, attempts, ledger) = store.dispatch("d1".into()).await.unwrap();
    assert_eq!((dispatch.state, dispatch.cost().to_string()), (DispatchState::Done, "0.0000008 EUR".to_owned()));
    assert_eq!((attempts.len(), attempts[0].credential.as_deref()), (1, Some("heron 2")));
    let lines: Vec<_> = ledger.iter().map(|line| (line.kind, line.nanos)).collect();
    assert_eq!(lines, [(LedgerKind::Hold, 900), (LedgerKind::Release, -900), (LedgerKind::Settle, 800)]);
}
