-- The operator's own named formats, and the format an app gets unless it asks.

CREATE TABLE profiles (
    name       TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    document   TEXT    NOT NULL,
    created_by TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    retired_at INTEGER,
    PRIMARY KEY (name, version)
) STRICT;

ALTER TABLE apps ADD COLUMN default_format TEXT;
