-- A session belongs to the key or person that began it and ends with it.
-- Sessions of before do not say which: their owners sign in again.
DELETE FROM sessions;
ALTER TABLE sessions ADD COLUMN key TEXT;

-- Each app has a record of its own of a clip that several keep.
CREATE TABLE sounds_by_app (
    id         TEXT    NOT NULL,
    app        TEXT    NOT NULL,
    title      TEXT    NOT NULL,
    media_type TEXT    NOT NULL,
    bytes      INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    created_by TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    PRIMARY KEY (id, app)
) STRICT;
INSERT INTO sounds_by_app SELECT id, app, title, media_type, bytes, audio_ms, created_by, created_at FROM sounds;
DROP TABLE sounds;
ALTER TABLE sounds_by_app RENAME TO sounds;
