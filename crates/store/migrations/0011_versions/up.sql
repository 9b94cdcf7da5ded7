-- Everything that is put in version by version lies in one table.

CREATE TABLE versions (
    kind       TEXT    NOT NULL,
    name       TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    app        TEXT,
    always     INTEGER NOT NULL DEFAULT 0,
    document   TEXT    NOT NULL,
    origin     TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    retired_at INTEGER,
    PRIMARY KEY (kind, name, version)
) STRICT;

INSERT INTO versions (kind, name, version, document, origin, created_at, retired_at)
    SELECT 'sheet', engine, version, document, origin, created_at,
           (SELECT newest.retired_at FROM sheets newest
            WHERE newest.engine = sheets.engine ORDER BY newest.version DESC LIMIT 1)
    FROM sheets;
INSERT INTO versions (kind, name, version, document, origin, created_at, retired_at)
    SELECT 'route', name, version, document, 'by ' || created_by, created_at, retired_at FROM routes;
INSERT INTO versions (kind, name, version, document, origin, created_at, retired_at)
    SELECT 'preset', name, version, document, 'by ' || created_by, created_at, retired_at FROM presets;
INSERT INTO versions (kind, name, version, app, always, document, origin, created_at, retired_at)
    SELECT 'lexicon', name, version, app, always, document, 'by ' || created_by, created_at, retired_at FROM lexicons;
INSERT INTO versions (kind, name, version, app, document, origin, created_at)
    SELECT 'prompt set', name, 1, app, document, 'by ' || changed_by, changed_at FROM prompt_sets;

-- Without its reference, since a set is retired and not deleted.
CREATE TABLE files_of_prompts (
    prompt_set  TEXT    NOT NULL,
    prompt      TEXT    NOT NULL,
    format      TEXT    NOT NULL,
    fingerprint TEXT    NOT NULL,
    file        TEXT    NOT NULL,
    media_type  TEXT    NOT NULL,
    bytes       INTEGER NOT NULL,
    audio_ms    INTEGER NOT NULL,
    dispatch    TEXT    NOT NULL,
    made_at     INTEGER NOT NULL,
    approved_by TEXT,
    approved_at INTEGER,
    PRIMARY KEY (prompt_set, prompt, format)
) STRICT;
INSERT INTO files_of_prompts SELECT * FROM prompt_files;
DROP TABLE prompt_files;
ALTER TABLE files_of_prompts RENAME TO prompt_files;

DROP TABLE sheets;
DROP TABLE routes;
DROP TABLE presets;
DROP TABLE lexicons;
DROP TABLE prompt_sets;
