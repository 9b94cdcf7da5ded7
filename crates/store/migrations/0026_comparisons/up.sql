-- The same text by several voices, side by side, and how they were rated.
CREATE TABLE comparisons (
    id       TEXT    NOT NULL PRIMARY KEY,
    app      TEXT    NOT NULL,
    text     TEXT    NOT NULL,
    made_by  TEXT    NOT NULL,
    made_at  INTEGER NOT NULL
) STRICT;
CREATE INDEX comparisons_by_app ON comparisons (app, id);

-- `fault` of a voice that did not speak; it has no audio then.
CREATE TABLE compared_voices (
    comparison TEXT    NOT NULL REFERENCES comparisons (id) ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    voice      TEXT    NOT NULL,
    model      TEXT,
    dispatch   TEXT,
    nanos      INTEGER NOT NULL,
    currency   TEXT    NOT NULL,
    first_us   INTEGER,
    total_us   INTEGER,
    audio_ms   INTEGER NOT NULL,
    loudness   REAL,
    fault      TEXT,
    PRIMARY KEY (comparison, number)
) STRICT;

-- ITU-T P.800, annex E: the second, heard after the first, from -3 (much worse)
-- to 3 (much better).
CREATE TABLE preference_ratings (
    comparison TEXT    NOT NULL REFERENCES comparisons (id) ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    first      INTEGER NOT NULL,
    second     INTEGER NOT NULL,
    score      INTEGER NOT NULL,
    made_by    TEXT    NOT NULL,
    made_at    INTEGER NOT NULL,
    PRIMARY KEY (comparison, number)
) STRICT;
