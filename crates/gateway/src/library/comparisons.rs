//! Comparisons: the same text by several voices, side by side, and how people
//! rated them without knowing which was which.

use std::path::PathBuf;

use dispatcher_audio::{Codec, Format};
use dispatcher_core::{Currency, Preference, PreferenceRating, SCORES, preferences};
use dispatcher_store::{ComparedVoice, Identified, StoredComparison, StoredRating};

use crate::dispatch::dispatch_record::new_id;
use crate::dispatch::recalled::write_named;
use crate::library::whole_utterance::{WholeUtterance, fresh_request};
use crate::{Caller, Gateway, GatewayError, SynthesisRequest, now_micros};

/// Voices of a comparison.
const MOST_VOICES: usize = 6;
/// Characters of its text.
const MOST_CHARACTERS: usize = 500;
/// Bytes of the audio of a voice: 87 seconds.
const MOST_AUDIO: usize = 4 << 20;
/// Comparisons of an app; the oldest goes.
const MOST_KEPT: i64 = 100;
/// Ratings of a comparison.
const MOST_RATINGS: i64 = 10_000;
/// Samples a second of its audio.
const RATE: u32 = 24_000;

/// A comparison with its voices, ratings and what they say.
#[derive(Debug, Clone)]
pub struct ComparisonView {
    pub row: StoredComparison,
    pub voices: Vec<ComparedVoice>,
    pub ratings: Vec<StoredRating>,
    pub preferences: Vec<Preference>,
}

impl ComparisonView {
    /// How many times as much one voice costs as another; `None` where that
    /// cannot be said.
    pub fn price_ratio(&self, one: i64, other: i64) -> Option<f64> {
        let cost = |number| self.voices.iter().find(|voice| voice.number == number).map(ComparedVoice::cost);
        let (one, other) = (cost(one)?, cost(other)?);
        let comparable = one.currency == other.currency && one.nanos > 0 && other.nanos > 0;
        comparable.then(|| other.nanos as f64 / one.nanos as f64)
    }
}

impl Gateway {
    fn comparison_folder(&self) -> Result<PathBuf, GatewayError> {
        let folder = self.inner.host.clips.as_ref().map(|clips| clips.join("compared"));
        folder.ok_or_else(|| GatewayError::NoFolder("comparisons"))
    }

    /// Has several voices speak a text, one after the other, and keeps what
    /// they gave. Each is charged to the caller's app.
    ///
    /// # Errors
    /// Where fewer than two voices are given, or the text is too long; a voice
    /// that fails is in the comparison with its fault.
    pub async fn compare_voices(
        &self,
        caller: &Caller,
        text: &str,
        voices: &[String],
        language: Option<&str>,
    ) -> Result<ComparisonView, GatewayError> {
        let characters = text.chars().count();
        if text.trim().is_empty() || characters > MOST_CHARACTERS {
            return Err(GatewayError::ComparedText { given: characters, limit: MOST_CHARACTERS });
        }
        if !(2..=MOST_VOICES).contains(&voices.len()) {
            return Err(GatewayError::ComparedVoices { given: voices.len(), limit: MOST_VOICES });
        }
        self.check_room()?;
        let (id, folder) = (new_id(), self.comparison_folder()?);
        let row = StoredComparison {
            id: id.clone(),
            app: caller.app.name.clone(),
            text: text.to_owned(),
            made_by: caller.who.clone(),
            made_at: now_micros(),
        };
        let mut rows = Vec::new();
        for (number, voice) in (1..).zip(voices) {
            let request = fresh_request(text, voice, language, Format::new(Codec::Wav, RATE));
            let (row, audio) = self.compared(caller, &id, (number, voice), request).await?;
            if !audio.is_empty() {
                write_named(folder.join(&id), format!("{number}.wav"), audio.into()).await?;
            }
            rows.push(row);
        }
        for old in self.inner.store.add_comparison(row, rows, MOST_KEPT).await? {
            remove_folder(folder.join(old)).await;
        }
        self.comparison(caller, &id).await
    }

    /// A voice of a comparison, and its audio.
    async fn compared(
        &self,
        caller: &Caller,
        comparison: &str,
        (number, voice): (i64, &str),
        request: SynthesisRequest,
    ) -> Result<(ComparedVoice, Vec<u8>), GatewayError> {
        let WholeUtterance { spoken, dispatch, fault } = self.speak_whole(caller, request, MOST_AUDIO).await?;
        let row = ComparedVoice {
            comparison: comparison.to_owned(),
            number,
            voice: voice.to_owned(),
            model: None,
            dispatch: Some(dispatch),
            nanos: 0,
            currency: Currency::EUR,
            first_us: None,
            total_us: None,
            audio_ms: 0,
            loudness: None,
            fault,
        };
        let Some(spoken) = spoken else { return Ok((row, Vec::new())) };
        let row = ComparedVoice {
            voice: spoken.voice,
            model: spoken.model,
            nanos: spoken.cost.nanos,
            currency: spoken.cost.currency,
            first_us: Some(spoken.first_us),
            total_us: Some(spoken.total_us),
            audio_ms: spoken.measured.milliseconds,
            loudness: spoken.measured.loudness,
            ..row
        };
        Ok((row, spoken.audio))
    }

    /// A comparison by its id or a unique beginning of it.
    ///
    /// # Errors
    /// Where the caller sees none, or several, that begin so.
    pub async fn comparison(&self, caller: &Caller, id: &str) -> Result<ComparisonView, GatewayError> {
        let id = self.inner.store.id_of(Identified::Comparison, caller.visible_apps(), id.to_owned()).await?;
        let (row, voices, ratings) = self.inner.store.comparison(id).await?;
        let rated = |it: &StoredRating| PreferenceRating { first: it.first, second: it.second, score: it.score };
        let preferences = preferences(&ratings.iter().map(rated).collect::<Vec<_>>());
        Ok(ComparisonView { row, voices, ratings, preferences })
    }

    /// Comparisons that the caller sees, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn comparisons(&self, caller: &Caller, limit: i64) -> Result<Vec<StoredComparison>, GatewayError> {
        Ok(self.inner.store.comparisons(caller.visible_apps(), limit).await?)
    }

    /// The audio of a voice of a comparison, as WAV.
    ///
    /// # Errors
    /// Where there is none.
    pub async fn compared_audio(&self, caller: &Caller, id: &str, number: i64) -> Result<Vec<u8>, GatewayError> {
        let view = self.comparison(caller, id).await?;
        let file = self.comparison_folder()?.join(&view.row.id).join(format!("{number}.wav"));
        let missing =
            || dispatcher_store::StoreError::Missing { what: "voice of the comparison", name: number.to_string() };
        if !view.voices.iter().any(|voice| voice.number == number && voice.fault.is_none()) {
            return Err(missing().into());
        }
        tokio::fs::read(file).await.map_err(|_| missing().into())
    }

    /// Rates the second of two voices against the first, from -3 to 3 (ITU-T
    /// P.800, annex E).
    ///
    /// # Errors
    /// Where the score is none, or the comparison has no such voices.
    pub async fn rate(
        &self,
        caller: &Caller,
        id: &str,
        PreferenceRating { first, second, score }: PreferenceRating,
    ) -> Result<ComparisonView, GatewayError> {
        if !SCORES.contains(&score) {
            return Err(GatewayError::Rating(format!("a score is -3 to 3, not {score}")));
        }
        let view = self.comparison(caller, id).await?;
        let spoke = |number| view.voices.iter().any(|voice| voice.number == number && voice.fault.is_none());
        if first == second || !spoke(first) || !spoke(second) {
            let detail = format!("{first} and {second} are no two voices of this comparison");
            return Err(GatewayError::Rating(detail));
        }
        let (made_by, made_at) = (caller.who.clone(), now_micros());
        let rating =
            StoredRating { comparison: view.row.id.clone(), number: 0, first, second, score, made_by, made_at };
        if !self.inner.store.add_rating(rating, MOST_RATINGS).await? {
            return Err(GatewayError::Rating(format!("a comparison has at most {MOST_RATINGS} ratings")));
        }
        self.comparison(caller, &view.row.id).await
    }

    /// Removes a comparison with its audio and ratings.
    ///
    /// # Errors
    /// Where the caller sees none, or several, that begin so.
    pub async fn remove_comparison(&self, caller: &Caller, id: &str) -> Result<(), GatewayError> {
        let view = self.comparison(caller, id).await?;
        self.inner.store.remove_comparison(view.row.id.clone(), caller.who.clone(), now_micros()).await?;
        remove_folder(self.comparison_folder()?.join(view.row.id)).await;
        Ok(())
    }
}

/// What is gone already, or cannot be removed, is swept with its folder later.
async fn remove_folder(folder: PathBuf) {
    let _ = tokio::fs::remove_dir_all(folder).await;
}
