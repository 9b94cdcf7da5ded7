-- What people and keys may do. Lists have one entry per line.
ALTER TABLE people ADD COLUMN role TEXT NOT NULL DEFAULT 'operator';
ALTER TABLE people ADD COLUMN apps TEXT;
ALTER TABLE access_keys ADD COLUMN calls TEXT;
ALTER TABLE access_keys ADD COLUMN routes TEXT;
ALTER TABLE access_keys ADD COLUMN engines TEXT;
ALTER TABLE access_keys ADD COLUMN voices TEXT;
ALTER TABLE access_keys ADD COLUMN networks TEXT;
