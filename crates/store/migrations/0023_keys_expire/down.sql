ALTER TABLE access_keys DROP COLUMN expires_at;
