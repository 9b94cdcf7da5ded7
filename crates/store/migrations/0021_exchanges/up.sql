-- Who answers what is said to an app, and what is spoken where that fails.
ALTER TABLE apps ADD COLUMN reply_hook TEXT;
ALTER TABLE apps ADD COLUMN apology TEXT;

-- Exchanges that are over, without what was said in them. Times of the stages
-- are milliseconds from the end of what the caller said.
CREATE TABLE exchanges (
    id               TEXT    NOT NULL PRIMARY KEY,
    app              TEXT    NOT NULL,
    who              TEXT    NOT NULL,
    state            TEXT    NOT NULL,
    fault            TEXT,
    begun_at         INTEGER NOT NULL,
    ear_dispatch     TEXT,
    ear_ms           INTEGER,
    said_characters  INTEGER NOT NULL,
    reply_first_ms   INTEGER,
    reply_ms         INTEGER,
    reply_characters INTEGER NOT NULL,
    voice_first_ms   INTEGER,
    voice_ms         INTEGER,
    audio_ms         INTEGER NOT NULL,
    voice_dispatches TEXT    NOT NULL
) STRICT;
CREATE INDEX exchanges_by_app ON exchanges (app, id);
