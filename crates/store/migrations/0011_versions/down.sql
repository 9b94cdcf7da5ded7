CREATE TABLE sheets (
    engine TEXT NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL, origin TEXT NOT NULL,
    created_at INTEGER NOT NULL, retired_at INTEGER, PRIMARY KEY (engine, version)
) STRICT;
INSERT INTO sheets SELECT name, version, document, origin, created_at, retired_at FROM versions WHERE kind = 'sheet';
CREATE TABLE routes (
    name TEXT NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL, created_by TEXT NOT NULL,
    created_at INTEGER NOT NULL, retired_at INTEGER, PRIMARY KEY (name, version)
) STRICT;
INSERT INTO routes
    SELECT name, version, document, substr(origin, 4), created_at, retired_at FROM versions WHERE kind = 'route';
CREATE TABLE presets (
    name TEXT NOT NULL, version INTEGER NOT NULL, document TEXT NOT NULL, created_by TEXT NOT NULL,
    created_at INTEGER NOT NULL, retired_at INTEGER, PRIMARY KEY (name, version)
) STRICT;
INSERT INTO presets
    SELECT name, version, document, substr(origin, 4), created_at, retired_at FROM versions WHERE kind = 'preset';
CREATE TABLE lexicons (
    name TEXT NOT NULL, version INTEGER NOT NULL, app TEXT, always INTEGER NOT NULL, document TEXT NOT NULL,
    created_by TEXT NOT NULL, created_at INTEGER NOT NULL, retired_at INTEGER, PRIMARY KEY (name, version)
) STRICT;
INSERT INTO lexicons
    SELECT name, version, app, always, document, substr(origin, 4), created_at, retired_at
    FROM versions WHERE kind = 'lexicon';
CREATE TABLE prompt_sets (
    name TEXT PRIMARY KEY NOT NULL, app TEXT NOT NULL, document TEXT NOT NULL, changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
INSERT INTO prompt_sets
    SELECT name, app, document, substr(origin, 4), created_at FROM versions AS kept
    WHERE kind = 'prompt set' AND retired_at IS NULL AND version =
        (SELECT max(version) FROM versions AS all_of_it WHERE all_of_it.kind = kept.kind AND all_of_it.name = kept.name);
DROP TABLE versions;
