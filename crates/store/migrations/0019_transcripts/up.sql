-- How many days an app's transcripts are kept; not at all where it is null. The
-- language of its recordings, where a request names none.
ALTER TABLE apps ADD COLUMN transcript_days INTEGER;
ALTER TABLE apps ADD COLUMN language TEXT;

-- Kept transcripts. The id is that of the dispatch or job that made it.
CREATE TABLE transcripts (
    id         TEXT    NOT NULL PRIMARY KEY,
    app        TEXT    NOT NULL,
    title      TEXT    NOT NULL,
    engine     TEXT    NOT NULL,
    language   TEXT,
    audio_ms   INTEGER NOT NULL,
    made_at    INTEGER NOT NULL,
    expires_at INTEGER NOT NULL
) STRICT;
CREATE INDEX transcripts_by_app ON transcripts (app, made_at);
CREATE INDEX transcripts_by_end ON transcripts (expires_at);

-- The first version is what was recognised; each correction is a further one.
CREATE TABLE transcript_versions (
    transcript TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    document   TEXT    NOT NULL,
    made_by    TEXT    NOT NULL,
    made_at    INTEGER NOT NULL,
    PRIMARY KEY (transcript, version)
) STRICT, WITHOUT ROWID;
