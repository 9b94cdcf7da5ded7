//! Kept transcripts and their corrections.

use diesel::prelude::*;

use crate::models::{StoredTranscript, TranscriptVersion};
use crate::schema::{transcript_versions, transcripts};
use crate::{Durability, Store, StoreError};

/// Versions that are kept of a transcript, beside the first.
const MOST_VERSIONS: i64 = 50;
/// Expired transcripts that are deleted at once.
const MOST_EXPIRED: i64 = 500;

impl Store {
    /// Keeps a transcript with its first version. One that is kept already,
    /// since its job was resumed, is replaced.
    pub async fn put_transcript(&self, row: StoredTranscript, first: TranscriptVersion) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            delete(c, &row.id)?;
            diesel::insert_into(transcripts::table).values(row).execute(c)?;
            diesel::insert_into(transcript_versions::table).values(first).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Transcripts of an app, or of all, the newest first; those that come behind
    /// the one with this time and id, where it is given.
    pub async fn transcripts(
        &self,
        apps: Option<Vec<String>>,
        behind: Option<(i64, String)>,
        limit: i64,
    ) -> Result<Vec<StoredTranscript>, StoreError> {
        self.read(move |c| {
            let mut found = transcripts::table.order((transcripts::made_at.desc(), transcripts::id)).into_boxed();
            if let Some(apps) = apps {
                found = found.filter(transcripts::app.eq_any(apps));
            }
            if let Some((at, id)) = behind {
                let same = transcripts::made_at.eq(at).and(transcripts::id.gt(id));
                found = found.filter(transcripts::made_at.lt(at).or(same));
            }
            Ok(found.limit(limit).select(StoredTranscript::as_select()).load(c)?)
        })
        .await
    }

    /// A transcript and its versions, the newest first.
    pub async fn transcript(&self, id: String) -> Result<(StoredTranscript, Vec<TranscriptVersion>), StoreError> {
        self.read(move |c| {
            let row = transcripts::table.find(&id).select(StoredTranscript::as_select()).first(c).optional()?;
            let row = row.ok_or_else(|| missing(&id))?;
            let versions = transcript_versions::table
                .filter(transcript_versions::transcript.eq(&id))
                .order(transcript_versions::version.desc())
                .select(TranscriptVersion::as_select())
                .load(c)?;
            Ok((row, versions))
        })
        .await
    }

    /// Keeps a correction of the version before it. The first version stays;
    /// of the others the oldest go.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where that is not the newest version any more.
    pub async fn correct_transcript(&self, new: TranscriptVersion) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let of_it = transcript_versions::table.filter(transcript_versions::transcript.eq(&new.transcript));
            let newest: Option<i64> = of_it.select(diesel::dsl::max(transcript_versions::version)).first(c)?;
            let newest = newest.ok_or_else(|| missing(&new.transcript))?;
            if newest + 1 != new.version {
                return Err(StoreError::Changed { what: "transcript", name: new.transcript, version: newest });
            }
            let old = of_it
                .filter(transcript_versions::version.gt(1))
                .filter(transcript_versions::version.le(new.version - MOST_VERSIONS));
            diesel::delete(old).execute(c)?;
            diesel::insert_into(transcript_versions::table).values(new).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Deletes a transcript with all its versions.
    pub async fn delete_transcript(&self, id: String) -> Result<(), StoreError> {
        self.writer
            .submit(Durability::Disk, move |c| match delete(c, &id)? {
                0 => Err(missing(&id)),
                _ => Ok(()),
            })
            .await
    }

    /// Deletes transcripts whose time is over; gives how many.
    pub async fn delete_expired_transcripts(&self, now: i64) -> Result<usize, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let over = transcripts::table.filter(transcripts::expires_at.le(now)).limit(MOST_EXPIRED);
            let ids: Vec<String> = over.select(transcripts::id).load(c)?;
            for id in &ids {
                delete(c, id)?;
            }
            Ok(ids.len())
        };
        self.writer.submit(Durability::Disk, write).await
    }
}

fn missing(id: &str) -> StoreError {
    StoreError::Missing { what: "transcript", name: id.to_owned() }
}

/// Deletes a transcript with its versions; gives how many there were.
pub(crate) fn delete(c: &mut SqliteConnection, id: &str) -> Result<usize, StoreError> {
    diesel::delete(transcript_versions::table.filter(transcript_versions::transcript.eq(id))).execute(c)?;
    Ok(diesel::delete(transcripts::table.find(id)).execute(c)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(id: &str, app: &str, made_at: i64) -> StoredTranscript {
        StoredTranscript {
            id: id.into(),
            app: app.into(),
            title: String::new(),
            engine: "turnstone".into(),
            language: None,
            audio_ms: 900,
            made_at,
            expires_at: made_at + 100,
            end_user: None,
        }
    }

    fn version(id: &str, version: i64, document: &str) -> TranscriptVersion {
        let (transcript, document) = (id.into(), document.into());
        TranscriptVersion { transcript, version, document, made_by: "ada".into(), made_at: version }
    }

    async fn store() -> (tempfile::TempDir, Store) {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("records.sqlite")).expect("a store");
        (folder, store)
    }

    #[tokio::test]
    async fn a_correction_of_an_older_version_is_refused_and_the_first_stays() {
        let (_folder, store) = store().await;
        store.put_transcript(row("t1", "kiosk", 1), version("t1", 1, "first")).await.expect("kept");
        for number in 2..=MOST_VERSIONS + 4 {
            store.correct_transcript(version("t1", number, "more")).await.expect("corrected");
        }
        let refused = store.correct_transcript(version("t1", 3, "late")).await;
        assert!(matches!(refused, Err(StoreError::Changed { version: 54, .. })), "{refused:?}");
        let (_, versions) = store.transcript("t1".into()).await.expect("a transcript");
        assert_eq!(versions.first().map(|it| it.version), Some(54));
        assert_eq!(versions.last().map(|it| it.document.as_str()), Some("first"));
        assert_eq!(versions.len() as i64, MOST_VERSIONS + 1);
        let nobody = store.correct_transcript(version("t2", 2, "x")).await;
        assert!(matches!(nobody, Err(StoreError::Missing { .. })));
    }

    #[tokio::test]
    async fn what_expires_goes_with_its_versions_and_an_app_sees_its_own() {
        let (_folder, store) = store().await;
        for (id, app, at) in [("t1", "kiosk", 1), ("t2", "signs", 50), ("t3", "kiosk", 60)] {
            store.put_transcript(row(id, app, at), version(id, 1, id)).await.expect("kept");
        }
        let of = |list: Vec<StoredTranscript>| list.into_iter().map(|row| row.id).collect::<Vec<_>>();
        assert_eq!(of(store.transcripts(None, None, 10).await.expect("all")), ["t3", "t2", "t1"]);
        assert_eq!(of(store.transcripts(Some(vec!["kiosk".into()]), None, 10).await.expect("some")), ["t3", "t1"]);
        let behind = Some((60, "t3".into()));
        assert_eq!(of(store.transcripts(None, behind.clone(), 1).await.expect("a page")), ["t2"]);
        assert_eq!(of(store.transcripts(Some(vec!["kiosk".into()]), behind, 10).await.expect("a page")), ["t1"]);
        store.put_transcript(row("t0", "kiosk", 60), version("t0", 1, "t0")).await.expect("kept");
        let behind = Some((60, "t0".into()));
        assert_eq!(of(store.transcripts(None, behind, 1).await.expect("a page")), ["t3"], "of the same time");
        store.delete_transcript("t0".into()).await.expect("deleted");
        assert_eq!(store.delete_expired_transcripts(101).await.expect("gone"), 1);
        assert!(store.transcript("t1".into()).await.is_err());
        assert!(store.correct_transcript(version("t1", 2, "x")).await.is_err(), "no version is left");
        store.delete_transcript("t2".into()).await.expect("deleted");
        assert!(store.delete_transcript("t2".into()).await.is_err());
    }
}
