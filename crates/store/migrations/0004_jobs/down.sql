DROP INDEX dispatches_by_job;
ALTER TABLE dispatches DROP COLUMN job;
DROP TABLE job_files;
DROP TABLE job_pieces;
DROP TABLE jobs;
