DROP TABLE sounds;
DROP TABLE lexicons;
