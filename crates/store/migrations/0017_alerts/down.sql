ALTER TABLE access_keys DROP COLUMN at_once;
ALTER TABLE access_keys DROP COLUMN per_minute;
ALTER TABLE credentials DROP COLUMN ends_at;
DROP TABLE notices;
