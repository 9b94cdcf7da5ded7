DROP TABLE transcript_versions;
DROP TABLE transcripts;
ALTER TABLE apps DROP COLUMN language;
ALTER TABLE apps DROP COLUMN transcript_days;
