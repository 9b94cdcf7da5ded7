-- Made-up records of the demo are marked, so that nobody takes them for use.
ALTER TABLE dispatches ADD COLUMN sample INTEGER NOT NULL DEFAULT 0;
ALTER TABLE dispatches RENAME COLUMN wanted TO requested;
CREATE INDEX dispatches_sample ON dispatches (id) WHERE sample = 1;
-- A webhook that is given up was not notified.
ALTER TABLE jobs RENAME COLUMN told_at TO notified_at;
ALTER TABLE jobs ADD COLUMN given_up_at INTEGER;
