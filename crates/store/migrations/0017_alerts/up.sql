-- What alerts have told: one row for each time that something was wrong.
CREATE TABLE notices (
    id         TEXT    NOT NULL PRIMARY KEY,
    rule       TEXT    NOT NULL,
    watched    TEXT    NOT NULL,
    subject    TEXT    NOT NULL,
    detail     TEXT    NOT NULL,
    since      INTEGER NOT NULL,
    told_at    INTEGER NOT NULL,
    over_at    INTEGER,
    problem    TEXT
) STRICT, WITHOUT ROWID;
CREATE INDEX notices_by_time ON notices (told_at);

-- When a credential ends, as its owner says.
ALTER TABLE credentials ADD COLUMN ends_at INTEGER;

-- How many requests may be made with a key in a minute, and at once.
ALTER TABLE access_keys ADD COLUMN per_minute INTEGER;
ALTER TABLE access_keys ADD COLUMN at_once INTEGER;
