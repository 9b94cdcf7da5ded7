-- The counts of usage_latency once more by hour, so that a report of a month
-- reads one row a day. Entries that are in the sums already have none.
CREATE TABLE usage_latency_hours (
    day      TEXT    NOT NULL,
    hour     TEXT    NOT NULL,
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
    PRIMARY KEY (day, hour, app, caller, engine, voice, model, route, language, work, bucket)
) STRICT, WITHOUT ROWID;
