-- Origins whose pages may call for an app with its tokens, one a line.
ALTER TABLE apps ADD COLUMN origins TEXT;

-- Tokens of apps, without the tokens. What was used is in their dispatches.
CREATE TABLE tokens (
    id         TEXT    NOT NULL PRIMARY KEY,
    app        TEXT    NOT NULL,
    hash       TEXT    NOT NULL UNIQUE,
    label      TEXT    NOT NULL,
    calls      TEXT    NOT NULL,
    routes     TEXT    NOT NULL,
    origin     TEXT,
    characters INTEGER,
    audio_ms   INTEGER,
    cost_nanos INTEGER,
    currency   TEXT,
    made_by    TEXT    NOT NULL,
    made_at    INTEGER NOT NULL,
    expires_at INTEGER NOT NULL,
    revoked_at INTEGER
) STRICT;
CREATE INDEX tokens_by_app ON tokens (app, made_at);
CREATE INDEX tokens_by_end ON tokens (expires_at);

ALTER TABLE dispatches ADD COLUMN token TEXT;
CREATE INDEX dispatches_by_token ON dispatches (token) WHERE token IS NOT NULL;
