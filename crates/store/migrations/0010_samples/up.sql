-- Made-up records of the demo are marked, so that nobody takes them for use.
ALTER TABLE dispatches ADD COLUMN sample INTEGER NOT NULL DEFAULT 0;
CREATE INDEX dispatches_sample ON dispatches (id) WHERE sample = 1;
