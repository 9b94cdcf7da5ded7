DELETE FROM sessions;
ALTER TABLE sessions DROP COLUMN key;

CREATE TABLE sounds_once (
    id         TEXT    PRIMARY KEY NOT NULL,
    app        TEXT    NOT NULL,
    title      TEXT    NOT NULL,
    media_type TEXT    NOT NULL,
    bytes      INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    created_by TEXT    NOT NULL,
    created_at INTEGER NOT NULL
) STRICT;
INSERT OR IGNORE INTO sounds_once
    SELECT id, app, title, media_type, bytes, audio_ms, created_by, created_at FROM sounds ORDER BY created_at;
DROP TABLE sounds;
ALTER TABLE sounds_once RENAME TO sounds;
