-- Sums of the ledger by hour, so that a report does not read the ledger. An
-- entry is added once; the entries up to `rolled_up` are in the sums.
CREATE TABLE usage_hours (
    day         TEXT    NOT NULL,
    hour        TEXT    NOT NULL,
    app         TEXT    NOT NULL,
    caller      TEXT    NOT NULL,
    engine      TEXT    NOT NULL,
    voice       TEXT    NOT NULL,
    model       TEXT    NOT NULL,
    route       TEXT    NOT NULL,
    language    TEXT    NOT NULL,
    work        TEXT    NOT NULL,
    currency    TEXT    NOT NULL,
    requests    INTEGER NOT NULL,
    failures    INTEGER NOT NULL,
    fallbacks   INTEGER NOT NULL,
    recalled    INTEGER NOT NULL,
    characters  INTEGER NOT NULL,
    audio_ms    INTEGER NOT NULL,
    nanos       INTEGER NOT NULL,
    saved_nanos INTEGER NOT NULL,
    PRIMARY KEY (day, hour, app, caller, engine, voice, model, route, language, work, currency)
) STRICT, WITHOUT ROWID;

-- How many calls took how long until their first audio, or their transcript:
-- a bucket is a tenth longer than the one before it.
CREATE TABLE usage_latency (
    day      TEXT    NOT NULL,
    app      TEXT    NOT NULL,
    caller   TEXT    NOT NULL,
    engine   TEXT    NOT NULL,
    voice    TEXT    NOT NULL,
    model    TEXT    NOT NULL,
    route    TEXT    NOT NULL,
    language TEXT    NOT NULL,
    work     TEXT    NOT NULL,
    bucket   INTEGER NOT NULL,
    calls    INTEGER NOT NULL,
    PRIMARY KEY (day, app, caller, engine, voice, model, route, language, work, bucket)
) STRICT, WITHOUT ROWID;

CREATE TABLE rolled_up (
    one   INTEGER NOT NULL PRIMARY KEY CHECK (one = 1),
    entry INTEGER NOT NULL
) STRICT;
INSERT INTO rolled_up VALUES (1, 0);

-- Answers that were recalled have no entries.
INSERT INTO usage_hours
    SELECT date(started_at / 1000000, 'unixepoch'), strftime('%Y-%m-%dT%H:00Z', started_at / 1000000, 'unixepoch'),
           app, caller, coalesce(engine, ''), coalesce(engine || '/' || voice, ''), coalesce(model, ''), requested,
           coalesce(language, ''), work, currency, 0, 0, 0, count(*), 0, 0, 0, sum(saved_nanos)
    FROM dispatches WHERE recalled = 1 GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11;
