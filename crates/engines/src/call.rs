//! The calls of an engine: what is to be spoken or recognised, in which format.

use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_core::{Cause, Shaped, Sheet, Voice};
use minijinja::context;
use minijinja::value::Value;

use crate::EngineError;
use crate::engine::all_formats;
use crate::template::to_xml;

/// A format of an engine, chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EngineFormat {
    /// The key in the sheet.
    pub key: String,
    /// What the engine calls it.
    pub tag: String,
    pub format: Format,
}

/// A synthesis call.
#[derive(Debug, Clone)]
pub struct Speak {
    pub text: String,
    /// The text with the markup that the engine takes, as the inside of an
    /// XML element; the text alone, escaped, where this is missing.
    pub markup: Option<String>,
    pub voice: Voice,
    pub model: Option<String>,
    pub language: Option<String>,
    pub format: EngineFormat,
    /// What is asked for beyond the text.
    pub shaped: Shaped,
}

/// Audio to recognise: in memory where it is small, otherwise a file.
#[derive(Debug, Clone)]
pub enum AudioSource {
    Memory(Bytes),
    File(Arc<tempfile::TempPath>),
}

/// A recognition call.
#[derive(Debug, Clone)]
pub struct Hear {
    pub audio: AudioSource,
    pub format: EngineFormat,
    pub model: Option<String>,
    pub language: Option<String>,
    pub context: Option<String>,
    pub variation: Option<f64>,
    /// Words that are likely.
    pub hints: Vec<String>,
    /// Label the speakers.
    pub speakers: bool,
    /// Number of alternative transcripts.
    pub alternatives: Option<u64>,
    /// How long the audio is.
    pub seconds: f64,
}
impl Speak {
    /// What templates of `[synthesis]` can name.
    pub(crate) fn context(&self) -> Value {
        context! {
            text => &self.text,
            markup => self.markup.clone().map_or_else(|| to_xml(&Value::from(self.text.as_str())), Value::from_safe_string),
            voice => context! { id => &self.voice.id, name => &self.voice.name, language => self.voice.languages.first() },
            model => self.model.as_deref().unwrap_or_default(),
            language => self.language.as_ref().or(self.voice.languages.first()),
            format => self.format.context(),
            controls => controls(&self.shaped),
        }
    }

    /// A call to try templates on when a sheet is loaded.
    pub(crate) fn probe(sheet: &Sheet) -> Option<Speak> {
        let synthesis = sheet.synthesis.as_ref()?;
        Some(Speak {
            text: "probe".into(),
            markup: None,
            voice: synthesis.voices.first().cloned().unwrap_or_else(probe_voice),
            model: synthesis.models.first().map(|model| model.name.clone()),
            language: Some("en".into()),
            format: all_formats(&synthesis.formats).next()?,
            shaped: Shaped::default(),
        })
    }
}

fn probe_voice() -> Voice {
    Voice { id: "probe".into(), name: "Probe".into(), languages: vec!["en".into()], ..Voice::default() }
}

/// What is asked for, as templates see it: a missing one is `none`.
fn controls(shaped: &Shaped) -> Value {
    context! {
        rate => shaped.rate,
        pitch => shaped.pitch,
        volume => shaped.volume,
        style => shaped.style.as_ref().map(|style| &style.name),
        strength => shaped.style.as_ref().and_then(|style| style.strength),
        direction => shaped.direction.as_deref(),
        variation => shaped.variation,
        seed => shaped.seed.map(|seed| seed as i64),
    }
}

impl Hear {
    /// A call that asks for the words alone, of a second of audio.
    #[must_use]
    pub fn new(audio: AudioSource, format: EngineFormat) -> Self {
        Hear {
            audio,
            format,
            model: None,
            language: None,
            context: None,
            variation: None,
            hints: Vec::new(),
            speakers: false,
            alternatives: None,
            seconds: 1.0,
        }
    }

    /// What templates of `[recognition]` can name.
    pub(crate) fn context(&self) -> Value {
        context! {
            language => self.language.as_deref(),
            model => self.model.as_deref().unwrap_or_default(),
            format => self.format.context(),
            context => self.context.as_deref(),
            variation => self.variation,
            hints => &self.hints,
            speakers => self.speakers,
            alternatives => self.alternatives,
            seconds => self.seconds,
        }
    }

    pub(crate) fn probe(sheet: &Sheet) -> Option<Hear> {
        let recognition = sheet.recognition.as_ref()?;
        Some(Hear {
            audio: AudioSource::Memory(Bytes::new()),
            format: all_formats(&recognition.formats).next()?,
            model: recognition.models.first().map(|model| model.name.clone()),
            language: Some("en".into()),
            context: Some("before".into()),
            variation: Some(0.0),
            hints: vec!["probe".into()],
            speakers: true,
            alternatives: Some(2),
            seconds: 1.0,
        })
    }
}

impl EngineFormat {
    fn context(&self) -> Value {
        context! {
            tag => &self.tag,
            type => self.format.media_type(),
            sample_rate => self.format.rate,
            bitrate => self.format.effective_bitrate(),
            channels => self.format.channels,
        }
    }
}

impl AudioSource {
    /// The audio as a file, written out where it is in memory.
    pub(crate) fn to_file(&self, extension: &str) -> Result<Arc<tempfile::TempPath>, EngineError> {
        let failed =
            |error: std::io::Error| EngineError::new(Cause::Unavailable, format!("no temporary file: {error}"));
        match self {
            AudioSource::File(path) => Ok(path.clone()),
            AudioSource::Memory(bytes) => {
                use std::io::Write as _;
                let suffix = format!(".{extension}");
                let mut file = tempfile::Builder::new().suffix(&suffix).tempfile().map_err(failed)?;
                file.write_all(bytes).map_err(failed)?;
                Ok(Arc::new(file.into_temp_path()))
            }
        }
    }
}
