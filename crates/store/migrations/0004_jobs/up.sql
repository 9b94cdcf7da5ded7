-- Long work: jobs, the pieces that were made for them, and their files.

CREATE TABLE jobs (
    id             TEXT    PRIMARY KEY NOT NULL,
    app            TEXT    NOT NULL,
    by             TEXT    NOT NULL,
    work           TEXT    NOT NULL,
    title          TEXT    NOT NULL,
    state          TEXT    NOT NULL,
    reason         TEXT,
    request        TEXT    NOT NULL,
    pieces         INTEGER NOT NULL,
    estimate_nanos INTEGER NOT NULL,
    currency       TEXT    NOT NULL,
    webhook        TEXT,
    told_at        INTEGER,
    created_at     INTEGER NOT NULL,
    started_at     INTEGER,
    ended_at       INTEGER,
    expires_at     INTEGER
) STRICT;
CREATE INDEX jobs_by_app ON jobs (app, id);
CREATE INDEX jobs_at_work ON jobs (state) WHERE state IN ('queued', 'running', 'waiting');

-- A piece is here once an engine has delivered it whole and its file is safe.
CREATE TABLE job_pieces (
    job      TEXT    NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    track    INTEGER NOT NULL,
    piece    INTEGER NOT NULL,
    sound    TEXT    NOT NULL,
    engine   TEXT    NOT NULL,
    dispatch TEXT    NOT NULL,
    audio_ms INTEGER NOT NULL,
    made_at  INTEGER NOT NULL,
    PRIMARY KEY (job, track, piece)
) STRICT;

CREATE TABLE job_files (
    job        TEXT    NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    name       TEXT    NOT NULL,
    title      TEXT    NOT NULL,
    media_type TEXT    NOT NULL,
    bytes      INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    PRIMARY KEY (job, number)
) STRICT;

ALTER TABLE dispatches ADD COLUMN job TEXT;
CREATE INDEX dispatches_by_job ON dispatches (job) WHERE job IS NOT NULL;
