ALTER TABLE jobs DROP COLUMN given_up_at;
ALTER TABLE jobs RENAME COLUMN notified_at TO told_at;
DROP INDEX dispatches_sample;
ALTER TABLE dispatches RENAME COLUMN requested TO wanted;
ALTER TABLE dispatches DROP COLUMN sample;
