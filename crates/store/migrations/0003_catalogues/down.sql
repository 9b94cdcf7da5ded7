ALTER TABLE apps DROP COLUMN custom_voices;
ALTER TABLE attempts DROP COLUMN credential;
ALTER TABLE sheets DROP COLUMN retired_at;
DROP TABLE clips;
DROP TABLE favourites;
DROP TABLE catalogue_changes;
DROP TABLE catalogues;
