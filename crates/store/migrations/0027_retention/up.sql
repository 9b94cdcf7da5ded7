-- Days after which records of a kind are removed. A kind without a rule stays.
CREATE TABLE retention_rules (
    kind    TEXT    NOT NULL PRIMARY KEY,
    days    INTEGER NOT NULL CHECK (days > 0),
    made_by TEXT    NOT NULL,
    made_at INTEGER NOT NULL
) STRICT;

-- The key or person that made a request, or the token of a request: the token
-- itself is deleted some days after its end.
ALTER TABLE dispatches ADD COLUMN principal TEXT NOT NULL DEFAULT '';
UPDATE dispatches SET principal = coalesce((SELECT made_by FROM tokens WHERE id = dispatches.token), caller);

-- What removed dispatches used, for allowances without a period. Their entries
-- of the ledger stay.
CREATE TABLE removed_requests (
    app        TEXT    NOT NULL,
    principal  TEXT    NOT NULL,
    work       TEXT    NOT NULL,
    requests   INTEGER NOT NULL,
    characters INTEGER NOT NULL,
    audio_ms   INTEGER NOT NULL,
    PRIMARY KEY (app, principal, work)
) STRICT, WITHOUT ROWID;

CREATE TABLE removed_costs (
    app       TEXT    NOT NULL,
    principal TEXT    NOT NULL,
    currency  TEXT    NOT NULL,
    nanos     INTEGER NOT NULL,
    PRIMARY KEY (app, principal, currency)
) STRICT, WITHOUT ROWID;

-- Id of the last dispatch that was removed: those with smaller ids may be gone.
CREATE TABLE removed_dispatches (
    one  INTEGER NOT NULL PRIMARY KEY CHECK (one = 1),
    last TEXT    NOT NULL
) STRICT;
INSERT INTO removed_dispatches VALUES (1, '');

CREATE INDEX transcripts_by_time ON transcripts (made_at);
