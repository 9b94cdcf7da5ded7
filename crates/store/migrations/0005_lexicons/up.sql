-- What scripts name beside their text: lexicons, and sounds that are kept.

CREATE TABLE lexicons (
    name       TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    app        TEXT,
    always     INTEGER NOT NULL,
    document   TEXT    NOT NULL,
    created_by TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    retired_at INTEGER,
    PRIMARY KEY (name, version)
) STRICT;

CREATE TABLE sounds (
    id         TEXT    PRIMARY KEY NOT NULL,
    app        TEXT    NOT NULL,
    title      TEXT    NOT NULL,
    media_type TEXT    NOT NULL,
    bytes      INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    created_by TEXT    NOT NULL,
    created_at INTEGER NOT NULL
) STRICT;
