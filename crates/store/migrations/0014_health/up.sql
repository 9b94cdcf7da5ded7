-- What was measured of engines, voices, models and routes in each hour. Times
-- are HDR histograms of microseconds in their V2 encoding.
CREATE TABLE health_hours (
    scope TEXT NOT NULL,
    name TEXT NOT NULL,
    work TEXT NOT NULL,
    hour INTEGER NOT NULL,
    calls INTEGER NOT NULL,
    failures INTEGER NOT NULL,
    fallbacks INTEGER NOT NULL,
    first BLOB NOT NULL,
    total BLOB NOT NULL,
    PRIMARY KEY (scope, name, work, hour)
) STRICT, WITHOUT ROWID;
CREATE INDEX health_by_hour ON health_hours (hour);
