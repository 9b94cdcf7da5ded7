-- Tables of prompts, and the files that were made of them.

CREATE TABLE prompt_sets (
    name       TEXT    PRIMARY KEY NOT NULL,
    app        TEXT    NOT NULL,
    document   TEXT    NOT NULL,
    changed_by TEXT    NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;

CREATE TABLE prompt_files (
    prompt_set  TEXT    NOT NULL REFERENCES prompt_sets (name) ON DELETE CASCADE,
    prompt      TEXT    NOT NULL,
    format      TEXT    NOT NULL,
    sound       TEXT    NOT NULL,
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
