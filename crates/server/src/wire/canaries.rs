//! Canaries and their runs, as JSON.

use dispatcher_core::{Canary, Departure, VoiceTrait};
use dispatcher_gateway::{CanaryView, StoredCanaryRun};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{rfc3339, thousandths};

/// A sentence that a voice speaks at intervals.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CanaryRequest {
    /// Voice, as `engine/voice`.
    #[schema(example = "heron/pellin")]
    voice: String,
    /// Text of 1 to 200 characters.
    #[schema(example = "The ferry to Gullsay leaves at a quarter past six.")]
    text: String,
    /// App that pays for the runs.
    #[schema(example = "console")]
    app: String,
    /// Language of the text, if the voice speaks several (BCP 47).
    language: Option<String>,
    /// Engine or route that recognises the audio; without it, words are not compared.
    #[schema(example = "turnstone")]
    ear: Option<String>,
    /// Minutes between two runs: 5 to 43200 (default: 1440, a day).
    every: Option<u64>,
}

/// Minutes of a day.
const DAILY: u64 = 1_440;

impl CanaryRequest {
    pub(crate) fn into_canary(self, name: &str) -> Canary {
        let CanaryRequest { voice, text, app, language, ear, every } = self;
        Canary { name: name.to_owned(), voice, text, app, language, ear, every: every.unwrap_or(DAILY) }
    }
}

/// A canary: a sentence that a voice speaks at intervals, so that a change of the voice is noticed.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CanaryAnswer {
    pub(crate) name: String,
    pub(crate) version: i64,
    pub(crate) voice: String,
    pub(crate) text: String,
    pub(crate) app: String,
    pub(crate) language: Option<String>,
    pub(crate) ear: Option<String>,
    /// Minutes between two runs.
    pub(crate) every: u64,
    /// State of the last run: `waiting` (not run yet), `unchanged`, `changed` or `failed`.
    #[schema(example = "unchanged")]
    pub(crate) state: &'static str,
    /// Run that later runs are compared with; null before the first successful run.
    pub(crate) reference: Option<CanaryRunAnswer>,
    /// Last run; null before the first one.
    pub(crate) latest: Option<CanaryRunAnswer>,
    /// Time of the next run; null if it is due now.
    pub(crate) next_at: Option<String>,
}

impl From<CanaryView> for CanaryAnswer {
    fn from(view: CanaryView) -> Self {
        let state = match &view.latest {
            None => "waiting",
            Some(run) if run.fault.is_some() => "failed",
            Some(run) if view.departures(run).is_empty() => "unchanged",
            Some(_) => "changed",
        };
        let of = |run: &Option<StoredCanaryRun>| run.clone().map(|run| CanaryRunAnswer::of(&view, run));
        CanaryAnswer {
            state,
            reference: of(&view.reference),
            latest: of(&view.latest),
            next_at: view.next_at().map(rfc3339),
            version: view.version,
            name: view.canary.name,
            voice: view.canary.voice,
            text: view.canary.text,
            app: view.canary.app,
            language: view.canary.language,
            ear: view.canary.ear,
            every: view.canary.every,
        }
    }
}

/// One run of a canary.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CanaryRunAnswer {
    pub(crate) id: String,
    /// Version of the canary.
    pub(crate) version: i64,
    pub(crate) at: String,
    /// Later runs are compared with this one.
    pub(crate) is_reference: bool,
    /// Dispatch of the synthesis.
    pub(crate) dispatch: Option<String>,
    /// Seconds of audio.
    pub(crate) duration: f64,
    /// Integrated loudness in LUFS (EBU R 128); null for silence.
    pub(crate) loudness: Option<f64>,
    /// Median fundamental frequency in hertz; null if nothing is voiced.
    pub(crate) pitch: Option<f64>,
    /// Text that the ear recognised.
    pub(crate) heard: Option<String>,
    /// Word error rate of that text.
    pub(crate) word_error_rate: Option<f64>,
    /// Reason why the run failed.
    pub(crate) fault: Option<String>,
    /// Differences from the reference: more than 15 % in duration, 3 LU in loudness, 2 semitones in pitch, a
    /// missing word, or 15 % more of the words misheard. Runs of other versions have none.
    pub(crate) departures: Vec<DepartureAnswer>,
}

impl CanaryRunAnswer {
    pub(crate) fn of(view: &CanaryView, run: StoredCanaryRun) -> Self {
        let departures = if run.version == view.version { view.departures(&run) } else { Vec::new() };
        CanaryRunAnswer {
            departures: departures.iter().map(DepartureAnswer::from).collect(),
            at: rfc3339(run.run_at),
            duration: run.audio_ms as f64 / 1_000.0,
            loudness: run.loudness.map(thousandths),
            pitch: run.pitch.map(thousandths),
            word_error_rate: run.word_errors.map(thousandths),
            id: run.id,
            version: run.version,
            is_reference: run.is_reference,
            dispatch: run.dispatch,
            heard: run.heard,
            fault: run.fault,
        }
    }
}

/// A difference from the reference.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DepartureAnswer {
    /// `duration` (seconds), `loudness` (LUFS), `pitch` (Hz) or `words` (word error rate).
    #[schema(example = "pitch")]
    pub(crate) of: &'static str,
    /// Value of the reference; null if it had none.
    pub(crate) was: Option<f64>,
    /// Value of this run; null if it has none.
    pub(crate) is: Option<f64>,
    /// In words.
    #[schema(example = "7.0 semitones higher (165 Hz, was 110 Hz)")]
    pub(crate) told: String,
}

impl From<&Departure> for DepartureAnswer {
    fn from(departure: &Departure) -> Self {
        let Departure { of, was, is } = *departure;
        DepartureAnswer {
            of: VoiceTrait::name(of),
            was: was.map(thousandths),
            is: is.map(thousandths),
            told: departure.to_string(),
        }
    }
}
