//! Utterances, transcripts and estimates.

use dispatcher_core::{Revised, Transcript};
use dispatcher_gateway::PlannedCall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, CommandAnswer, CriteriaSchema, LanguageAnswer, TranscriptChangeAnswer, thousandths};

/// How `voice` is written; read by hand, so that faults name their member.
#[derive(ToSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) enum VoiceSchema {
    /// A route, or `engine/voice`.
    Name(String),
    Like(CriteriaSchema),
}

/// A synthesis request.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct UtteranceRequest {
    /// Plain text; or `ssml`.
    #[schema(example = "The 06:15 to Gullsay is delayed by twenty minutes.")]
    pub(crate) text: Option<String>,
    /// A document of SSML 1.1.
    pub(crate) ssml: Option<String>,
    /// A dialogue, in place of `text`.
    pub(crate) lines: Option<Vec<LineWish>>,
    /// A route, a voice id `engine/voice`, or criteria
    /// (`{"languages", "gender", "style", "name", "site"}`).
    #[schema(value_type = Option<VoiceSchema>, example = "quayside")]
    pub(crate) voice: Option<serde_json::Value>,
    /// Model of the engine (default: the engine's first).
    pub(crate) model: Option<String>,
    /// BCP 47 tag of the text, or `auto` to detect it.
    #[schema(example = "en-GB")]
    pub(crate) language: Option<String>,
    /// How to handle what the engine does not support: `refuse`, `adapt` or `omit`.
    pub(crate) unsupported: Option<String>,
    pub(crate) audio: Option<AudioWish>,
    /// `rate`, `pitch`, `volume` in SSML 1.1's value forms.
    #[schema(value_type = Option<Object>)]
    pub(crate) prosody: Option<Prosody>,
    /// `name` and `strength`.
    #[schema(value_type = Option<Object>)]
    pub(crate) style: Option<StyleWish>,
    /// A free-text instruction on how to speak.
    pub(crate) direction: Option<String>,
    pub(crate) variation: Option<f64>,
    pub(crate) seed: Option<u64>,
    /// URL to notify when the job ends; for `Prefer: respond-async`.
    pub(crate) webhook: Option<String>,
    /// Seconds until the first audio, after which the next engine is tried; for texts of up to
    /// 1,000 characters. Default: the deadline of the route or sheet.
    pub(crate) deadline: Option<f64>,
    /// Credential for the call, instead of the engine's default one.
    pub(crate) credential: Option<String>,
    /// Region of the engine; engines without this region are not used.
    pub(crate) region: Option<String>,
    /// `link`: the answer is JSON with a link to the audio, which is deleted when the link expires.
    pub(crate) deliver: Option<String>,
    /// Seconds until the link expires, 60 to 2592000 (default: 3600).
    pub(crate) expires_in: Option<u32>,
}

/// One line of a dialogue.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct LineWish {
    #[schema(example = "All aboard.")]
    pub(crate) text: String,
    /// Voice id (default: that of the request).
    #[schema(example = "heron/pellin")]
    pub(crate) voice: Option<String>,
    /// BCP 47 tag of the line.
    pub(crate) language: Option<String>,
    /// Silence before it, such as `300ms` or `1.5s`.
    #[schema(example = "300ms")]
    pub(crate) gap: Option<String>,
}

impl From<LineWish> for dispatcher_markup::DialogueLine {
    fn from(wish: LineWish) -> Self {
        let LineWish { text, voice, language, gap } = wish;
        dispatcher_markup::DialogueLine { text, voice, language, gap }
    }
}

/// How it is spoken, in SSML 1.1's value forms.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Prosody {
    pub(crate) rate: Option<NumberOrText>,
    pub(crate) pitch: Option<NumberOrText>,
    pub(crate) volume: Option<NumberOrText>,
}

/// A value as text, or a bare factor as a number.
#[derive(Debug, Clone, Deserialize)]
#[serde(untagged)]
pub(crate) enum NumberOrText {
    Number(f64),
    Text(String),
}

impl NumberOrText {
    pub(crate) fn text(self) -> String {
        match self {
            NumberOrText::Number(number) => number.to_string(),
            NumberOrText::Text(text) => text,
        }
    }
}

/// A manner of speaking.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct StyleWish {
    pub(crate) name: String,
    /// 0 to 1.
    pub(crate) strength: Option<f64>,
}

/// The requested audio format.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AudioWish {
    /// A media type, a file extension, or a preset: `web`, `phone`, `editor`,
    /// `device`, `assistive` or the operator's own.
    #[serde(rename = "type")]
    #[schema(example = "audio/mpeg")]
    pub(crate) kind: Option<String>,
    /// Hertz.
    pub(crate) sample_rate: Option<u32>,
    /// Bits per second.
    pub(crate) bitrate: Option<u32>,
    /// 1 or 2.
    pub(crate) channels: Option<u8>,
    /// A variable bit rate, for MP3.
    #[serde(default)]
    pub(crate) vbr: bool,
    /// Send the answer when the audio is complete, with `Content-Length` and the true length in
    /// the file header, for players that do not support streams.
    #[serde(default)]
    pub(crate) whole: bool,
}

/// The JSON answer of a synthesis.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UtteranceAnswer {
    pub(crate) audio: AudioAnswer,
    /// Words with their times, if the engine reports them.
    #[schema(value_type = Vec<Object>)]
    pub(crate) words: Vec<serde_json::Value>,
    /// Marks of the script, with their times in seconds.
    #[schema(value_type = Vec<Object>)]
    pub(crate) marks: Vec<serde_json::Value>,
    pub(crate) engine: String,
    pub(crate) voice: String,
    pub(crate) model: Option<String>,
    pub(crate) cost: Amount,
    /// Fidelity of each element of the markup.
    #[schema(value_type = Vec<FidelitySchema>)]
    pub(crate) fidelity: Vec<dispatcher_markup::Fidelity>,
    pub(crate) warnings: Vec<String>,
    pub(crate) dispatch: String,
}

/// Fidelity of an element of the script, or of an option outside of it.
#[derive(ToSchema)]
#[expect(dead_code, reason = "for the API document alone")]
pub(crate) struct FidelitySchema {
    element: String,
    /// From 1; missing for options outside of the script.
    line: Option<usize>,
    /// From 1, in characters.
    column: Option<usize>,
    /// `native`, `rewritten`, `emulated`, `plain` or `omitted`.
    outcome: String,
    /// Explanation.
    note: Option<String>,
}

/// Audio of a JSON answer: inside it, or by a link.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AudioAnswer {
    #[serde(rename = "type")]
    pub(crate) kind: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) base64: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) data_uri: Option<String>,
    /// With `"deliver": "link"`: URL of the audio, for anyone, without a key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) link: Option<String>,
    /// When the link expires.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) expires: Option<String>,
    /// Seconds.
    pub(crate) duration: f64,
}

/// A recognition request as JSON.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TranscriptRequest {
    pub(crate) audio: Option<Base64Audio>,
    /// URL of the audio, in place of `audio`; its host must be in fetch_hosts.
    pub(crate) url: Option<String>,
    pub(crate) engine: Option<String>,
    pub(crate) route: Option<String>,
    pub(crate) model: Option<String>,
    /// `local` or `cloud`: where the engine must run.
    pub(crate) site: Option<String>,
    /// Region of the engine; engines without this region are not used.
    pub(crate) region: Option<String>,
    /// BCP 47 tag of what is spoken, or `auto`. Default: the language of the app.
    pub(crate) language: Option<String>,
    /// 2 to 4 tags if the language is not known: the first 8 seconds are recognised in each, and charged.
    #[serde(default)]
    pub(crate) languages: Vec<String>,
    /// Preceding text, for engines that take context.
    pub(crate) context: Option<String>,
    /// 0 to 1.
    pub(crate) variation: Option<f64>,
    /// Likely words.
    #[serde(default)]
    pub(crate) hints: Vec<String>,
    /// Label the speakers.
    #[serde(default)]
    pub(crate) speakers: bool,
    /// Recognise each of two channels by itself, as a speaker of its own; each is charged.
    #[serde(default)]
    pub(crate) channels: bool,
    /// Number of alternative transcripts.
    pub(crate) alternatives: Option<u64>,
    /// Title of the job.
    pub(crate) title: Option<String>,
    /// URL to notify when the job ends; for `Prefer: respond-async`.
    pub(crate) webhook: Option<String>,
    /// Seconds until the transcript, in addition to those that grow with the audio, after which
    /// the next engine is tried. Default: the deadline of the route or sheet.
    pub(crate) deadline: Option<f64>,
    /// Credential for the call, instead of the engine's default one.
    pub(crate) credential: Option<String>,
    /// How to handle what the engine does not support: `refuse`, `adapt` or `omit`.
    pub(crate) unsupported: Option<String>,
}

/// Audio as base64.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Base64Audio {
    #[serde(rename = "type")]
    pub(crate) kind: Option<String>,
    #[expect(dead_code, reason = "taken out of the body as it comes in; here for the API document")]
    pub(crate) base64: String,
}

/// A word of a transcript.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WordAnswer {
    pub(crate) text: String,
    /// Seconds.
    pub(crate) start: Option<f64>,
    /// Seconds.
    pub(crate) end: Option<f64>,
    /// 0 to 1.
    pub(crate) confidence: Option<f64>,
    pub(crate) speaker: Option<String>,
}

/// A channel of a recording, which was recognised by itself.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ChannelAnswer {
    /// From 1; the speaker of its words.
    pub(crate) channel: usize,
    pub(crate) dispatch: String,
    pub(crate) cost: Amount,
}

impl From<dispatcher_gateway::RecognisedChannel> for ChannelAnswer {
    fn from(one: dispatcher_gateway::RecognisedChannel) -> Self {
        ChannelAnswer { channel: one.channel, dispatch: one.dispatch, cost: one.cost.into() }
    }
}

/// The JSON answer of a recognition.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TranscriptAnswer {
    pub(crate) text: String,
    /// BCP 47 tag, or `und`.
    pub(crate) language: String,
    /// Source of the language: `request`, `app`, `compared`, `engine` or `text`; null if it is not known.
    pub(crate) language_from: Option<&'static str>,
    /// Languages that were compared.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) languages: Vec<LanguageAnswer>,
    /// Channels that were recognised one by one, with the dispatch and cost of each.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) channels: Vec<ChannelAnswer>,
    /// Seconds of audio.
    pub(crate) duration: f64,
    pub(crate) engine: String,
    pub(crate) model: Option<String>,
    pub(crate) words: Vec<WordAnswer>,
    #[schema(value_type = Vec<Object>)]
    pub(crate) alternatives: Vec<dispatcher_core::Alternative>,
    /// Stretches of audio in which nothing was recognised, `start` and `end` in seconds.
    #[schema(value_type = Vec<Object>)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) unrecognised: Vec<dispatcher_core::Gap>,
    /// Words that the vocabulary and masks of the app changed.
    pub(crate) changes: Vec<TranscriptChangeAnswer>,
    /// Command of the phrase that was said; null if it is none.
    pub(crate) command: Option<CommandAnswer>,
    /// Whether it is kept; then `/transcripts/{dispatch}` has it.
    pub(crate) kept: bool,
    pub(crate) cost: Amount,
    pub(crate) warnings: Vec<String>,
    pub(crate) dispatch: String,
}

impl From<dispatcher_core::Word> for WordAnswer {
    fn from(word: dispatcher_core::Word) -> Self {
        WordAnswer {
            text: word.text,
            start: word.start.map(thousandths),
            end: word.end.map(thousandths),
            confidence: word.confidence.map(thousandths),
            speaker: word.speaker,
        }
    }
}

impl From<dispatcher_gateway::Recognised> for TranscriptAnswer {
    fn from(heard: dispatcher_gateway::Recognised) -> Self {
        let Revised { transcript, changes, command } = heard.revised;
        let Transcript { text, language, words, alternatives, unrecognised } = transcript;
        TranscriptAnswer {
            text,
            language: language.unwrap_or_else(|| "und".into()),
            duration: thousandths(heard.length),
            engine: heard.engine,
            model: heard.model,
            words: words.into_iter().map(WordAnswer::from).collect(),
            alternatives,
            unrecognised,
            language_from: heard.language_from.map(dispatcher_gateway::LanguageSource::name),
            languages: heard.languages.into_iter().map(LanguageAnswer::from).collect(),
            channels: heard.channels.into_iter().map(ChannelAnswer::from).collect(),
            changes: changes.into_iter().map(TranscriptChangeAnswer::from).collect(),
            command: command.map(CommandAnswer::from),
            kept: heard.kept,
            cost: heard.cost.into(),
            warnings: heard.warnings,
            dispatch: heard.dispatch,
        }
    }
}

/// Plan and cost of a request; nothing was sent.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EstimateAnswer {
    /// Candidates in the order in which they are tried.
    pub(crate) plan: Vec<PlanLine>,
    /// Cost of the first candidate; the maximum if `exact` is false.
    pub(crate) cost: Amount,
    pub(crate) exact: bool,
    #[schema(value_type = Vec<FidelitySchema>)]
    pub(crate) fidelity: Vec<dispatcher_markup::Fidelity>,
    /// Equal for equal requested audio.
    pub(crate) fingerprint: Option<String>,
    /// Seconds of audio (recognition).
    pub(crate) duration: Option<f64>,
    /// Characters of text (synthesis).
    pub(crate) characters: u64,
    pub(crate) warnings: Vec<String>,
}

/// One candidate of a plan.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PlanLine {
    pub(crate) engine: String,
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) cost: Amount,
    /// Format requested from the engine.
    pub(crate) engine_format: String,
}

impl From<&PlannedCall> for PlanLine {
    fn from(planned: &PlannedCall) -> Self {
        PlanLine {
            engine: planned.engine_name().into(),
            voice: planned.voice_id(),
            model: planned.candidate.model.clone(),
            cost: planned.estimate.into(),
            engine_format: planned.format.format.media_type(),
        }
    }
}
