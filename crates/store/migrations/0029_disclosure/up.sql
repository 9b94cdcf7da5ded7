-- How an app says that its speech is synthetic: where ('header', 'tag'; one a
-- line, both if NULL), and in which words.
ALTER TABLE apps ADD COLUMN disclosure TEXT;
ALTER TABLE apps ADD COLUMN notice TEXT;
