DROP INDEX dispatches_by_token;
ALTER TABLE dispatches DROP COLUMN token;
DROP TABLE tokens;
ALTER TABLE apps DROP COLUMN origins;
