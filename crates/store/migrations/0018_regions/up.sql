-- The region in which the engines of an app's requests must be called.
ALTER TABLE apps ADD COLUMN region TEXT;
