//! Comparisons: the same text by several voices, side by side, and how people
//! rated them without knowing which was which.

use std::path::PathBuf;
use std::time::Instant;

use dispatcher_audio::{Codec, Format, LoudnessMeter, decode_all};
use dispatcher_core::{Currency, Preference, PreferenceRating, SCORES, Shaping, Wanted, preferences};
use dispatcher_store::{ComparedVoice, Identified, StoredComparison, StoredRating};

use crate::dispatch::dispatch_record::new_id;
use crate::dispatch::recalled::write_named;
use crate::{CacheWish, Caller, Gateway, GatewayError, SynthesisRequest, TextInput, Unsupported, now_micros};

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

/// What a voice gave.
struct Spoken {
    row: ComparedVoice,
    audio: Vec<u8>,
}

fn request(text: &str, voice: &str, language: Option<&str>) -> SynthesisRequest {
    SynthesisRequest {
        text: TextInput::Plain(text.to_owned()),
        wanted: Some(Wanted::Named(voice.to_owned())),
        model: None,
        language: language.map(str::to_owned),
        unsupported: Unsupported::Adapt,
        shaping: Shaping::default(),
        format: Format::new(Codec::Wav, RATE),
        deadline: None,
        credential: None,
        region: None,
        trace: None,
        // What is measured is the engine.
        cache: CacheWish::Off,
        notes: Vec::new(),
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
            let spoken = self.compared(caller, &id, (number, voice), request(text, voice, language)).await?;
            if !spoken.audio.is_empty() {
                write_named(folder.join(&id), format!("{number}.wav"), spoken.audio.into()).await?;
            }
            rows.push(spoken.row);
        }
        for old in self.inner.store.add_comparison(row, rows, MOST_KEPT).await? {
            remove_folder(folder.join(old)).await;
        }
        self.comparison(caller, &id).await
    }

    async fn compared(
        &self,
        caller: &Caller,
        comparison: &str,
        (number, voice): (i64, &str),
        request: SynthesisRequest,
    ) -> Result<Spoken, GatewayError> {
        let begun = Instant::now();
        let nothing = ComparedVoice {
            comparison: comparison.to_owned(),
            number,
            voice: voice.to_owned(),
            model: None,
            dispatch: None,
            nanos: 0,
            currency: Currency::EUR,
            first_us: None,
            total_us: None,
            audio_ms: 0,
            loudness: None,
            fault: None,
        };
        let utterance = match self.speak(caller, request).await {
            Ok(utterance) => utterance,
            Err(GatewayError::AllFailed { dispatch, attempts }) => {
                let fault = attempts.iter().map(crate::FailedAttempt::for_anybody).collect::<Vec<_>>().join("; ");
                let row = ComparedVoice { dispatch: Some(dispatch), fault: Some(fault), ..nothing };
                return Ok(Spoken { row, audio: Vec::new() });
            }
            Err(error) => return Err(error),
        };
        let (format, mut body) = (utterance.format, utterance.body);
        let mut audio = Vec::new();
        let mut fault = None;
        while let Some(piece) = body.next().await {
            match piece {
                Ok(piece) if audio.len() + piece.len() > MOST_AUDIO => {
                    fault = Some(format!("the audio is longer than {} s", MOST_AUDIO / (2 * RATE as usize)));
                    break;
                }
                Ok(piece) => audio.extend_from_slice(&piece),
                Err(broken) => fault = Some(broken.0.for_anybody()),
            }
        }
        if fault.is_some() {
            audio.clear();
        }
        body.completion().complete_bytes(&mut audio);
        // What an engine still sends is not waited for.
        drop(body);
        let total = i64::try_from(begun.elapsed().as_micros()).unwrap_or(i64::MAX);
        let cost = self.cost_of(&utterance.dispatch).await?;
        let measured = audio.clone();
        let (audio_ms, loudness) = self.in_turn(move || measure(&measured, format)).await?;
        let row = ComparedVoice {
            voice: utterance.voice,
            model: utterance.model,
            dispatch: Some(utterance.dispatch),
            nanos: cost.nanos,
            currency: cost.currency,
            first_us: Some(utterance.first_us),
            total_us: Some(total),
            audio_ms,
            loudness,
            fault,
            ..nothing
        };
        Ok(Spoken { row, audio })
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

/// Milliseconds and loudness of audio; 0 and nothing where there is none.
fn measure(audio: &[u8], format: Format) -> (i64, Option<f64>) {
    let Ok((samples, layout)) = decode_all(audio, format) else { return (0, None) };
    let frames = samples.len() as u64 / u64::from(layout.channels).max(1);
    let milliseconds = i64::try_from(frames * 1_000 / u64::from(layout.rate).max(1)).unwrap_or(i64::MAX);
    let loudness = LoudnessMeter::new(layout).and_then(|mut meter| {
        meter.push(&samples)?;
        meter.finish()
    });
    (milliseconds, loudness.ok().map(|loudness| loudness.integrated).filter(|it| it.is_finite()))
}

/// What is gone already, or cannot be removed, is swept with its folder later.
async fn remove_folder(folder: PathBuf) {
    let _ = tokio::fs::remove_dir_all(folder).await;
}
