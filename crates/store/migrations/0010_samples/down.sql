DROP INDEX dispatches_sample;
ALTER TABLE dispatches DROP COLUMN sample;
