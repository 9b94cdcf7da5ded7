ALTER TABLE dispatches DROP COLUMN saved_nanos;
ALTER TABLE dispatches DROP COLUMN recalled;
DROP INDEX recalled_by_content;
DROP INDEX recalled_by_use;
CREATE TABLE before (
    fingerprint TEXT    PRIMARY KEY NOT NULL,
    content     TEXT    NOT NULL,
    media_type  TEXT    NOT NULL,
    bytes       INTEGER NOT NULL,
    engine      TEXT    NOT NULL,
    voice       TEXT    NOT NULL,
    made_at     INTEGER NOT NULL,
    used_at     INTEGER NOT NULL
) STRICT;
INSERT INTO before SELECT fingerprint, content, media_type, bytes, engine, voice, made_at, used_at FROM recalled WHERE app = '';
DROP TABLE recalled;
ALTER TABLE before RENAME TO recalled;
ALTER TABLE apps DROP COLUMN recall;
