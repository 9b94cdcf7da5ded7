//! Transcripts that an app keeps: read, and corrected version by version.
//!
//! What does not live here: their end, when their days are over (`desk/retention.rs`).

use dispatcher_core::Revised;
use dispatcher_store::{App, Identified, StoreError, StoredTranscript, TranscriptVersion};

use crate::clock::MICROS_OF_DAY;
use crate::{Caller, Gateway, GatewayError, now_micros};

/// Characters of a corrected text.
const MOST_TEXT: usize = 2_000_000;

/// A kept transcript in one of its versions.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptTranscript {
    pub row: StoredTranscript,
    /// The version that is given.
    pub version: i64,
    pub revised: Revised,
    /// All versions, the newest first.
    pub versions: Vec<TranscriptVersion>,
}

/// What is to be kept, beside the transcript.
pub(crate) struct NewTranscript<'t> {
    /// That of the dispatch or job.
    pub(crate) id: &'t str,
    pub(crate) title: &'t str,
    pub(crate) engine: &'t str,
    /// Seconds of audio.
    pub(crate) length: f64,
    pub(crate) end_user: Option<String>,
}

impl Gateway {
    /// Keeps a transcript where its app wants that; says whether it is kept.
    pub(crate) async fn keep_transcript(
        &self,
        app: &App,
        new: NewTranscript<'_>,
        revised: &Revised,
    ) -> Result<bool, GatewayError> {
        let Some(days) = app.transcript_days else { return Ok(false) };
        self.check_room()?;
        let made_at = now_micros();
        let row = StoredTranscript {
            id: new.id.to_owned(),
            app: app.name.clone(),
            title: new.title.to_owned(),
            engine: new.engine.to_owned(),
            language: revised.transcript.language.clone(),
            audio_ms: (new.length * 1_000.0).round() as i64,
            made_at,
            expires_at: made_at.saturating_add(days.saturating_mul(MICROS_OF_DAY)),
            end_user: new.end_user.clone(),
        };
        let first = TranscriptVersion {
            transcript: new.id.to_owned(),
            version: 1,
            document: written(revised)?,
            made_by: new.engine.to_owned(),
            made_at,
        };
        self.inner.store.put_transcript(row, first).await?;
        Ok(true)
    }

    /// The transcripts that a caller may see, the newest first, behind the one of
    /// this time and id where it is given; an operator may name an app.
    ///
    /// # Errors
    /// When the records cannot be read; so with all of these.
    pub async fn kept_transcripts(
        &self,
        caller: &Caller,
        app: Option<String>,
        behind: Option<(i64, String)>,
        limit: i64,
    ) -> Result<Vec<StoredTranscript>, GatewayError> {
        Ok(self.inner.store.transcripts(caller.visible(app), behind, limit).await?)
    }

    /// A transcript by its id or a unique beginning of it; its newest version
    /// where none is named.
    ///
    /// # Errors
    /// Where the caller has none, or several, that begin so; where it has not
    /// this version.
    pub async fn kept_transcript(
        &self,
        caller: &Caller,
        id: &str,
        version: Option<i64>,
    ) -> Result<KeptTranscript, GatewayError> {
        let id = self.inner.store.id_of(Identified::Transcript, caller.visible_apps(), id.to_owned()).await?;
        let (row, versions) = self.inner.store.transcript(id).await?;
        let found = versions.iter().find(|it| version.is_none_or(|wanted| it.version == wanted));
        let missing = || StoreError::Missing { what: "version", name: version.unwrap_or(1).to_string() };
        let found = found.ok_or_else(missing)?;
        let revised = serde_json::from_str(&found.document).map_err(GatewayError::document("a transcript"))?;
        Ok(KeptTranscript { version: found.version, row, revised, versions })
    }

    /// Keeps a corrected text as the next version. Words that stay keep their
    /// times; those between them share the time that there is.
    ///
    /// # Errors
    /// Where `from`, the version that was corrected, is not the newest any more.
    pub async fn correct_transcript(
        &self,
        caller: &Caller,
        id: &str,
        from: i64,
        text: String,
    ) -> Result<KeptTranscript, GatewayError> {
        if text.chars().count() > MOST_TEXT {
            let limit = MOST_TEXT as u64;
            let given = text.chars().count() as u64;
            return Err(GatewayError::TooLong { engine: "a transcript".into(), given, limit, unit: "characters" });
        }
        let kept = self.kept_transcript(caller, id, None).await?;
        if kept.version != from {
            let (name, version) = (kept.row.id, kept.version);
            return Err(StoreError::Changed { what: "transcript", name, version }.into());
        }
        self.check_room()?;
        let (rules, before) = (self.rules_of(&kept.row.app).rules, kept.revised);
        let accept = move || {
            let Revised { transcript, changes, command } = rules.accept(before.transcript.with_text(&text));
            Revised { transcript, changes: [before.changes, changes].concat(), command }
        };
        let revised = tokio::task::spawn_blocking(accept).await?;
        let next = TranscriptVersion {
            transcript: kept.row.id.clone(),
            version: from + 1,
            document: written(&revised)?,
            made_by: caller.who.clone(),
            made_at: now_micros(),
        };
        self.inner.store.correct_transcript(next).await?;
        self.kept_transcript(caller, &kept.row.id, None).await
    }

    /// Deletes a transcript with all its versions.
    ///
    /// # Errors
    /// As [`Gateway::kept_transcript`].
    pub async fn delete_transcript(&self, caller: &Caller, id: &str) -> Result<(), GatewayError> {
        let id = self.inner.store.id_of(Identified::Transcript, caller.visible_apps(), id.to_owned()).await?;
        Ok(self.inner.store.delete_transcript(id).await?)
    }
}

fn written(revised: &Revised) -> Result<String, GatewayError> {
    serde_json::to_string(revised).map_err(GatewayError::document("a transcript"))
}
