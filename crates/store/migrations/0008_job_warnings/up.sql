-- What the submitter and the reader of the results are warned of, and the
-- estimate in each currency: JSON arrays.
ALTER TABLE jobs ADD COLUMN warnings  TEXT NOT NULL DEFAULT '[]';
ALTER TABLE jobs ADD COLUMN estimates TEXT NOT NULL DEFAULT '[]';
