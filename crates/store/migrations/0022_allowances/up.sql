-- How much an app, or one of its keys, may use in a period. `amount` counts
-- billionths of the currency, characters, milliseconds or requests.
CREATE TABLE allowances (
    id       TEXT    NOT NULL PRIMARY KEY,
    app      TEXT    NOT NULL,
    key      TEXT,
    unit     TEXT    NOT NULL,
    amount   INTEGER NOT NULL,
    currency TEXT,
    period   TEXT    NOT NULL,
    made_by  TEXT    NOT NULL,
    made_at  INTEGER NOT NULL
) STRICT;

-- The key, token or person that made the request.
ALTER TABLE dispatches ADD COLUMN caller TEXT NOT NULL DEFAULT '';
CREATE INDEX dispatches_by_caller ON dispatches (app, caller, id);
