-- Everything is STRICT: a column holds what it says, and integers keep 64 bits.
-- Times are microseconds since 1970 in UTC; money is 10^-9 of a unit.

CREATE TABLE sheets (
    engine     TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    document   TEXT    NOT NULL,
    origin     TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    PRIMARY KEY (engine, version)
) STRICT;

CREATE TABLE routes (
    name       TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    document   TEXT    NOT NULL,
    created_by TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    retired_at INTEGER,
    PRIMARY KEY (name, version)
) STRICT;

CREATE TABLE credentials (
    name         TEXT    NOT NULL,
    version      INTEGER NOT NULL,
    engine       TEXT    NOT NULL,
    state        TEXT    NOT NULL,
    cause        TEXT,
    part_names   TEXT    NOT NULL,
    hosts        TEXT    NOT NULL,
    wrapped_key  BLOB    NOT NULL,
    ciphertext   BLOB    NOT NULL,
    created_by   TEXT    NOT NULL,
    created_at   INTEGER NOT NULL,
    last_used_at INTEGER,
    PRIMARY KEY (name, version)
) STRICT;

CREATE TABLE apps (
    name                TEXT    PRIMARY KEY NOT NULL,
    title               TEXT    NOT NULL,
    rehearsal           INTEGER NOT NULL,
    default_voice       TEXT,
    default_recognition TEXT,
    created_at          INTEGER NOT NULL
) STRICT;

CREATE TABLE access_keys (
    id           TEXT    PRIMARY KEY NOT NULL,
    app          TEXT    NOT NULL REFERENCES apps (name),
    operator     INTEGER NOT NULL,
    hash         TEXT    NOT NULL UNIQUE,
    hint         TEXT    NOT NULL,
    label        TEXT    NOT NULL,
    created_at   INTEGER NOT NULL,
    last_used_at INTEGER,
    revoked_at   INTEGER
) STRICT;

CREATE TABLE people (
    name          TEXT    PRIMARY KEY NOT NULL,
    password_hash TEXT    NOT NULL,
    created_at    INTEGER NOT NULL
) STRICT;

CREATE TABLE sessions (
    hash       TEXT    PRIMARY KEY NOT NULL,
    person     TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL
) STRICT;

CREATE TABLE dispatches (
    id           TEXT    PRIMARY KEY NOT NULL,
    app          TEXT    NOT NULL,
    work         TEXT    NOT NULL,
    wanted       TEXT    NOT NULL,
    rehearsal    INTEGER NOT NULL,
    state        TEXT    NOT NULL,
    engine       TEXT,
    voice        TEXT,
    model        TEXT,
    media_type   TEXT    NOT NULL,
    language     TEXT,
    characters   INTEGER NOT NULL,
    audio_ms     INTEGER NOT NULL,
    first_us     INTEGER,
    total_us     INTEGER,
    cost_nanos   INTEGER NOT NULL,
    currency     TEXT    NOT NULL,
    problem      TEXT,
    trace        TEXT,
    started_at   INTEGER NOT NULL
) STRICT;
CREATE INDEX dispatches_by_app ON dispatches (app, id);

CREATE TABLE attempts (
    dispatch   TEXT    NOT NULL REFERENCES dispatches (id),
    number     INTEGER NOT NULL,
    engine     TEXT    NOT NULL,
    voice      TEXT,
    model      TEXT,
    state      TEXT    NOT NULL,
    cause      TEXT,
    detail     TEXT,
    offset_us  INTEGER NOT NULL,
    first_us   INTEGER,
    total_us   INTEGER,
    PRIMARY KEY (dispatch, number)
) STRICT;
CREATE INDEX attempts_open ON attempts (state) WHERE state = 'open';

CREATE TABLE ledger (
    id         INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    dispatch   TEXT    NOT NULL,
    attempt    INTEGER NOT NULL,
    kind       TEXT    NOT NULL,
    app        TEXT    NOT NULL,
    engine     TEXT    NOT NULL,
    model      TEXT,
    work       TEXT    NOT NULL,
    day        TEXT    NOT NULL,
    characters INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    nanos      INTEGER NOT NULL,
    currency   TEXT    NOT NULL,
    at         INTEGER NOT NULL
) STRICT;
CREATE INDEX ledger_by_day ON ledger (day, app, engine);
CREATE INDEX ledger_by_dispatch ON ledger (dispatch, attempt);

-- The ledger is append-only: corrections are entries of their own.
CREATE TRIGGER ledger_is_append_only BEFORE UPDATE ON ledger
BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER ledger_keeps_everything BEFORE DELETE ON ledger
BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;

CREATE TABLE audit (
    id      INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    at      INTEGER NOT NULL,
    who     TEXT    NOT NULL,
    action  TEXT    NOT NULL,
    subject TEXT    NOT NULL
) STRICT;
