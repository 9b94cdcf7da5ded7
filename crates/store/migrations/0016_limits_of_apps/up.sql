-- How many requests an app may make in a minute, and at once; without limit
-- unless given.
ALTER TABLE apps ADD COLUMN per_minute INTEGER;
ALTER TABLE apps ADD COLUMN at_once INTEGER;
