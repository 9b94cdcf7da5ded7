-- What every request writes lies in fewer trees: rows by their own keys, and
-- numbers of ledger entries without a table that counts them.

CREATE TABLE kept_dispatches (
    id         TEXT    PRIMARY KEY NOT NULL,
    app        TEXT    NOT NULL,
    work       TEXT    NOT NULL,
    requested  TEXT    NOT NULL,
    rehearsal  INTEGER NOT NULL,
    state      TEXT    NOT NULL,
    engine     TEXT,
    voice      TEXT,
    model      TEXT,
    media_type TEXT    NOT NULL,
    language   TEXT,
    characters INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    first_us   INTEGER,
    total_us   INTEGER,
    cost_nanos INTEGER NOT NULL,
    currency   TEXT    NOT NULL,
    problem    TEXT,
    trace      TEXT,
    started_at INTEGER NOT NULL,
    job        TEXT,
    sample     INTEGER NOT NULL DEFAULT 0
) STRICT, WITHOUT ROWID;

CREATE TABLE kept_attempts (
    dispatch   TEXT    NOT NULL,
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
    credential TEXT,
    PRIMARY KEY (dispatch, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE kept_ledger (
    id         INTEGER PRIMARY KEY NOT NULL,
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

INSERT INTO kept_dispatches
    SELECT id, app, work, requested, rehearsal, state, engine, voice, model, media_type, language, characters, audio_ms,
           first_us, total_us, cost_nanos, currency, problem, trace, started_at, job, sample
    FROM dispatches ORDER BY id;
INSERT INTO kept_attempts
    SELECT dispatch, number, engine, voice, model, state, cause, detail, offset_us, first_us, total_us, credential
    FROM attempts ORDER BY dispatch, number;
INSERT INTO kept_ledger
    SELECT id, dispatch, attempt, kind, app, engine, model, work, day, characters, audio_ms, nanos, currency, at
    FROM ledger ORDER BY id;

DROP TABLE attempts;
DROP TABLE ledger;
DROP TABLE dispatches;
ALTER TABLE kept_dispatches RENAME TO dispatches;
ALTER TABLE kept_attempts RENAME TO attempts;
ALTER TABLE kept_ledger RENAME TO ledger;

CREATE INDEX dispatches_by_app ON dispatches (app, id);
CREATE INDEX dispatches_by_job ON dispatches (job) WHERE job IS NOT NULL;
CREATE INDEX dispatches_sample ON dispatches (id) WHERE sample = 1;
CREATE INDEX attempts_running ON attempts (state) WHERE state = 'running';
CREATE INDEX ledger_by_day ON ledger (day, app, engine);
CREATE INDEX ledger_by_dispatch ON ledger (dispatch, attempt);
