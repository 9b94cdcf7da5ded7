DROP INDEX dispatches_by_caller;
ALTER TABLE dispatches DROP COLUMN caller;
DROP TABLE allowances;
