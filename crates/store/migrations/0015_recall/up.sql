-- What an app keeps of its answers: 'off', 'private' or 'shared'.
ALTER TABLE apps ADD COLUMN recall TEXT NOT NULL DEFAULT 'off';

-- Kept audio belongs to an app, or to all (an empty name).
CREATE TABLE kept_audio (
    fingerprint TEXT    NOT NULL,
    app         TEXT    NOT NULL,
    content     TEXT    NOT NULL,
    media_type  TEXT    NOT NULL,
    bytes       INTEGER NOT NULL,
    audio_ms    INTEGER NOT NULL,
    engine      TEXT    NOT NULL,
    voice       TEXT    NOT NULL,
    made_at     INTEGER NOT NULL,
    used_at     INTEGER NOT NULL,
    PRIMARY KEY (fingerprint, app)
) STRICT, WITHOUT ROWID;
INSERT INTO kept_audio SELECT fingerprint, '', content, media_type, bytes, 0, engine, voice, made_at, used_at FROM recalled;
DROP TABLE recalled;
ALTER TABLE kept_audio RENAME TO recalled;
CREATE INDEX recalled_by_use ON recalled (used_at);
CREATE INDEX recalled_by_content ON recalled (content);

-- A dispatch that was answered with kept audio, and what that saved.
ALTER TABLE dispatches ADD COLUMN recalled INTEGER NOT NULL DEFAULT 0;
ALTER TABLE dispatches ADD COLUMN saved_nanos INTEGER NOT NULL DEFAULT 0;
