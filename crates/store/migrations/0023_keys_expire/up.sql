-- When a key expires; never if missing.
ALTER TABLE access_keys ADD COLUMN expires_at INTEGER;
