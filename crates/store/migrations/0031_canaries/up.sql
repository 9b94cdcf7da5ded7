-- What was measured each time that a voice spoke its canary. A run that failed
-- says why and has none of it. The reference is what later runs are held against.
CREATE TABLE canary_runs (
    id            TEXT    NOT NULL PRIMARY KEY,
    canary        TEXT    NOT NULL,
    version       INTEGER NOT NULL,
    run_at        INTEGER NOT NULL,
    is_reference  INTEGER NOT NULL,
    dispatch      TEXT,
    audio_ms      INTEGER NOT NULL,
    loudness      REAL,
    pitch         REAL,
    heard         TEXT,
    word_errors   REAL,
    words_missing INTEGER NOT NULL,
    fault         TEXT
) STRICT;
CREATE INDEX canary_runs_by_canary ON canary_runs (canary, run_at);
