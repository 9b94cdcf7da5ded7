-- Voices as engines list them, what changed in them, what people like, sheets
-- that were taken out of use, and sound that is kept.

-- The last good list of each engine, and how the last look went.
CREATE TABLE catalogues (
    engine    TEXT    PRIMARY KEY NOT NULL,
    document  TEXT    NOT NULL,
    read_at   INTEGER,
    tried_at  INTEGER NOT NULL,
    problem   TEXT
) STRICT;

CREATE TABLE catalogue_changes (
    id     INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    engine TEXT    NOT NULL,
    at     INTEGER NOT NULL,
    voice  TEXT    NOT NULL,
    kind   TEXT    NOT NULL,
    detail TEXT    NOT NULL
) STRICT;
CREATE INDEX catalogue_changes_by_engine ON catalogue_changes (engine, id);

CREATE TABLE favourites (
    voice TEXT    PRIMARY KEY NOT NULL,
    by    TEXT    NOT NULL,
    at    INTEGER NOT NULL
) STRICT;

CREATE TABLE clips (
    sound      TEXT    PRIMARY KEY NOT NULL,
    content    TEXT    NOT NULL,
    media_type TEXT    NOT NULL,
    bytes      INTEGER NOT NULL,
    engine     TEXT    NOT NULL,
    voice      TEXT    NOT NULL,
    made_at    INTEGER NOT NULL,
    used_at    INTEGER NOT NULL
) STRICT;

ALTER TABLE sheets ADD COLUMN retired_at INTEGER;

-- Which credential an attempt was made with, and which version of it.
ALTER TABLE attempts ADD COLUMN credential TEXT;

-- Voices made for this account that the app may use, one a line.
ALTER TABLE apps ADD COLUMN custom_voices TEXT;
