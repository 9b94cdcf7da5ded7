-- Where the engines of an app's requests must run; anywhere unless given.
ALTER TABLE apps ADD COLUMN site TEXT;
