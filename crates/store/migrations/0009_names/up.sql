-- Tables and columns take the names that the API has for what they hold.
ALTER TABLE clips  RENAME TO recalled;
ALTER TABLE sounds RENAME TO clips;
ALTER TABLE recalled     RENAME COLUMN sound TO fingerprint;
ALTER TABLE job_pieces   RENAME COLUMN sound TO fingerprint;
ALTER TABLE prompt_files RENAME COLUMN sound TO fingerprint;
ALTER TABLE profiles RENAME TO presets;
UPDATE dispatches SET state = 'running' WHERE state = 'open';
UPDATE attempts   SET state = 'running' WHERE state = 'open';
DROP INDEX attempts_open;
CREATE INDEX attempts_running ON attempts (state) WHERE state = 'running';
