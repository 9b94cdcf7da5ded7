-- The end user for whom a request was made, in the words of its app.
ALTER TABLE dispatches ADD COLUMN end_user TEXT;
ALTER TABLE transcripts ADD COLUMN end_user TEXT;
ALTER TABLE exchanges ADD COLUMN end_user TEXT;
ALTER TABLE jobs ADD COLUMN end_user TEXT;
ALTER TABLE recalled ADD COLUMN end_user TEXT;
ALTER TABLE tokens ADD COLUMN end_user TEXT;

CREATE INDEX dispatches_by_end_user ON dispatches (app, end_user) WHERE end_user IS NOT NULL;
