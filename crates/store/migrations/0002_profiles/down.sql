ALTER TABLE apps DROP COLUMN default_format;
DROP TABLE profiles;
