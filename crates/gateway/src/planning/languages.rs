//! The language of a recording: as it is stated, else the app's, else the one
//! of several in which its first seconds are recognised with most confidence.

use dispatcher_audio::Format;
use dispatcher_core::{Money, Transcript};
use dispatcher_engines::AudioSource;

use crate::dispatch::hear::{LanguageSource, transcode_to_file};
use crate::{Caller, Gateway, GatewayError, GivenAudio, HearerWish, RecognitionRequest};

/// What a request says where no language is known.
const AUTO: &str = "auto";
/// Seconds of a recording that are compared.
const COMPARED: f64 = 8.0;
/// How sure a recogniser counts that does not say it.
const SURE_UNTOLD: f64 = 0.5;
/// The rate at which the first seconds are cut: what recognisers use.
const RATE: u32 = 16_000;

/// A language that might be spoken, and what speaks for it.
#[derive(Debug, Clone, PartialEq)]
pub struct ComparedLanguage {
    pub language: String,
    /// 0 to 1.
    pub confidence: f64,
    /// The dispatch that found it out, and its cost.
    pub dispatch: Option<String>,
    pub cost: Option<Money>,
}

/// The language that a recording is recognised in, and why.
pub(crate) struct StatedLanguage {
    pub(crate) from: LanguageSource,
    pub(crate) compared: Vec<ComparedLanguage>,
}

impl HearerWish {
    /// Fills in the language of the app, where the request leaves it open; says
    /// whose it is.
    pub(crate) fn state_language(&mut self, caller: &Caller) -> Option<LanguageSource> {
        let auto = self.language.take_if(|language| language.eq_ignore_ascii_case(AUTO)).is_some();
        if self.language.is_some() {
            return Some(LanguageSource::Request);
        }
        self.language = caller.app.language.clone().filter(|_| !auto);
        self.language.is_some().then_some(LanguageSource::App)
    }

    /// The same, of a wish that is kept as it is.
    pub(crate) fn stated(&self, caller: &Caller) -> HearerWish {
        let mut stated = self.clone();
        stated.state_language(caller);
        stated
    }
}

impl Gateway {
    /// Settles the language of a request. `None` if the engine is to find
    /// it out.
    pub(crate) async fn state_language(
        &self,
        caller: &Caller,
        request: &mut RecognitionRequest,
    ) -> Result<Option<StatedLanguage>, GatewayError> {
        if let Some(from) = request.hearer.state_language(caller) {
            return Ok(Some(StatedLanguage { from, compared: Vec::new() }));
        }
        if request.languages.len() < 2 || caller.app.rehearsal {
            request.hearer.language = request.languages.first().cloned();
            let stated = StatedLanguage { from: LanguageSource::Request, compared: Vec::new() };
            return Ok(request.hearer.language.is_some().then_some(stated));
        }
        let compared = self.compare_languages(caller, request).await?;
        let best = compared.iter().reduce(|one, other| if other.confidence > one.confidence { other } else { one });
        request.hearer.language = best.map(|best| best.language.clone());
        Ok(Some(StatedLanguage { from: LanguageSource::Compared, compared }))
    }

    /// Has the first seconds recognised in each language.
    async fn compare_languages(
        &self,
        caller: &Caller,
        request: &RecognitionRequest,
    ) -> Result<Vec<ComparedLanguage>, GatewayError> {
        let (audio, probed) = request.audio.take(self, request.unsupported).await?;
        let (source, format) = (audio.source, probed.format);
        let first = self.in_turn(move || first_seconds(&source, format)).await?;
        let first = GivenAudio { source: first.map_err(GatewayError::files("the first seconds"))?, told: None };
        let mut compared = Vec::with_capacity(request.languages.len());
        for language in &request.languages {
            let hearer = HearerWish { language: Some(language.clone()), ..request.hearer.clone() };
            let trial = RecognitionRequest {
                audio: first.clone(),
                hearer,
                languages: Vec::new(),
                channels: false,
                ..request.clone()
            };
            compared.push(match self.recognise_for(caller, trial, None).await {
                Ok(heard) => ComparedLanguage {
                    language: language.clone(),
                    confidence: likelihood(language, &heard.revised.transcript),
                    dispatch: Some(heard.dispatch),
                    cost: Some(heard.cost),
                },
                // No engine knows it, or none made anything of it in this language.
                Err(GatewayError::Plan(_) | GatewayError::AllFailed { .. }) => {
                    ComparedLanguage { language: language.clone(), confidence: 0.0, dispatch: None, cost: None }
                }
                Err(error) => return Err(error),
            });
        }
        if compared.iter().all(|one| one.dispatch.is_none()) {
            // The whole is tried in the first of them, and says why it fails.
            compared.truncate(1);
        }
        Ok(compared)
    }
}

/// How much speaks for a language in which something was recognised, 0 to 1.
fn likelihood(language: &str, transcript: &Transcript) -> f64 {
    if transcript.text.trim().is_empty() {
        return 0.0;
    }
    let told: Vec<f64> = transcript.words.iter().filter_map(|word| word.confidence).collect();
    let sure = if told.is_empty() { SURE_UNTOLD } else { told.iter().sum::<f64>() / told.len() as f64 };
    // An engine that knows better, or a text in another script, speaks against it.
    let primary = |tag: &str| dispatcher_core::primary_language(tag).to_ascii_lowercase();
    let heard = transcript.language.as_deref().or_else(|| dispatcher_markup::evident(&transcript.text));
    match heard {
        Some(heard) if primary(heard) != primary(language) => sure / 2.0,
        _ => sure,
    }
}

/// The first seconds of a recording, as plain samples.
fn first_seconds(source: &AudioSource, format: Format) -> std::io::Result<AudioSource> {
    let wav = Format::new(dispatcher_audio::Codec::Wav, RATE);
    let made = transcode_to_file(source, format, wav).map_err(|error| std::io::Error::other(error.detail))?;
    let AudioSource::File(path) = &made else { return Ok(made) };
    let mut start = vec![0; dispatcher_audio::WAV_START + (COMPARED * f64::from(RATE) * 2.0) as usize];
    let mut file = std::fs::File::open(&***path)?;
    let mut read = 0;
    while read < start.len() {
        match std::io::Read::read(&mut file, &mut start[read..])? {
            0 => break,
            count => read += count,
        }
    }
    start.truncate(read);
    let length = start.len() as u64;
    dispatcher_audio::mend_wav_lengths(&mut start, length);
    Ok(AudioSource::Memory(start.into()))
}
