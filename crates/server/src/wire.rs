//! The JSON of the API: what goes in and what comes out.

use dispatcher_core::{Money, Transcript};
use dispatcher_gateway::{CredentialView, EngineState, Planned};
use dispatcher_store::{AccessKey, App, AttemptRow, DispatchRow, LedgerRow, UsageRow};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::ToSchema;

/// RFC 3339 of microseconds since 1970.
pub(crate) fn rfc3339(micros: i64) -> String {
    let time = OffsetDateTime::from_unix_timestamp_nanos(i128::from(micros) * 1_000);
    time.ok().and_then(|time| time.format(&Rfc3339).ok()).unwrap_or_default()
}

fn milliseconds(micros: i64) -> f64 {
    (micros as f64 / 10.0).round() / 100.0
}

/// A list and where it goes on.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct List<T> {
    pub(crate) items: Vec<T>,
    /// To be sent as `cursor`; null at the end.
    pub(crate) next: Option<String>,
}

impl<T> List<T> {
    pub(crate) fn whole(items: Vec<T>) -> Self {
        List { items, next: None }
    }
}

/// An amount of money.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Amount {
    #[schema(example = "0.001250")]
    pub(crate) amount: String,
    #[schema(example = "EUR")]
    pub(crate) currency: String,
}

impl From<Money> for Amount {
    fn from(money: Money) -> Self {
        Amount { amount: money.amount(), currency: money.currency.to_string() }
    }
}

pub(crate) fn amount(nanos: i64, currency: &str) -> Amount {
    let currency = currency.parse().unwrap_or(dispatcher_core::Currency::EUR);
    Money { nanos, currency }.into()
}

/// How `voice` is written; read by hand, so that faults name their member.
#[derive(ToSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) enum VoiceSchema {
    /// A route, or `engine/voice`.
    Name(String),
    Like(CriteriaSchema),
}

/// What a voice must be like.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct CriteriaSchema {
    /// Language ranges (RFC 4647), best first.
    languages: Option<String>,
    gender: Option<String>,
    style: Option<String>,
    name: Option<String>,
}

/// A named, ordered plan.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct RouteSchema {
    name: Option<String>,
    /// `synthesis` or `recognition`.
    work: String,
    note: Option<String>,
    legs: Vec<LegSchema>,
}

/// One engine of a route.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct LegSchema {
    engine: String,
    voice: Option<String>,
    criteria: Option<CriteriaSchema>,
    model: Option<String>,
    /// Milliseconds until the first audio or the answer.
    deadline: Option<u64>,
    conditions: Option<ConditionsSchema>,
}

/// When a leg may be used.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct ConditionsSchema {
    languages: Option<Vec<String>>,
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
    /// A route, a voice id `engine/voice`, or criteria
    /// (`{"languages", "gender", "style", "name"}`).
    #[schema(value_type = Option<VoiceSchema>, example = "quayside")]
    pub(crate) voice: Option<serde_json::Value>,
    /// A model of the engine; the engine's first unless given.
    pub(crate) model: Option<String>,
    /// BCP 47 tag of the text.
    #[schema(example = "en-GB")]
    pub(crate) language: Option<String>,
    /// What to do with what an engine cannot: `refuse`, `adapt` or `omit`.
    pub(crate) unsupported: Option<String>,
    pub(crate) audio: Option<AudioWish>,
    /// `rate`, `pitch`, `volume` in SSML 1.1's value forms.
    #[schema(value_type = Option<Object>)]
    pub(crate) prosody: Option<serde_json::Value>,
    /// `name` and `degree`.
    #[schema(value_type = Option<Object>)]
    pub(crate) style: Option<serde_json::Value>,
    /// A free-text instruction on how to speak.
    pub(crate) direction: Option<String>,
    pub(crate) variation: Option<f64>,
    pub(crate) seed: Option<u64>,
}

/// The audio that is asked for.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AudioWish {
    /// A media type or a file extension.
    #[serde(rename = "type")]
    #[schema(example = "audio/mpeg")]
    pub(crate) kind: Option<String>,
    /// Hertz.
    pub(crate) rate: Option<u32>,
    /// Bits a second.
    pub(crate) bitrate: Option<u32>,
    /// 1 or 2.
    pub(crate) channels: Option<u8>,
}

/// The JSON answer of a synthesis.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UtteranceAnswer {
    pub(crate) audio: AudioAnswer,
    /// Words with their times, where the engine tells them.
    #[schema(value_type = Vec<Object>)]
    pub(crate) words: Vec<serde_json::Value>,
    #[schema(value_type = Vec<Object>)]
    pub(crate) marks: Vec<serde_json::Value>,
    pub(crate) engine: String,
    pub(crate) voice: String,
    pub(crate) model: Option<String>,
    pub(crate) cost: Amount,
    /// What became of each element of the markup.
    #[schema(value_type = Vec<Object>)]
    pub(crate) fidelity: Vec<dispatcher_markup::Fidelity>,
    pub(crate) warnings: Vec<String>,
    pub(crate) dispatch: String,
}

/// Audio inside JSON.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AudioAnswer {
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) base64: String,
    pub(crate) data_uri: String,
    /// Seconds.
    pub(crate) duration: f64,
}

/// A recognition request as JSON.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TranscriptRequest {
    pub(crate) audio: Option<Base64Audio>,
    pub(crate) engine: Option<String>,
    pub(crate) route: Option<String>,
    pub(crate) model: Option<String>,
    /// BCP 47 tag of what is spoken.
    pub(crate) language: Option<String>,
    /// Earlier lines, for engines that take context.
    pub(crate) context: Option<String>,
    /// 0 to 1.
    pub(crate) variation: Option<f64>,
}

/// Audio as base64.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Base64Audio {
    #[serde(rename = "type")]
    pub(crate) kind: Option<String>,
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

/// The JSON answer of a recognition.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TranscriptAnswer {
    pub(crate) text: String,
    /// BCP 47 tag, or `und`.
    pub(crate) language: String,
    /// Seconds of audio.
    pub(crate) length: f64,
    pub(crate) engine: String,
    pub(crate) model: Option<String>,
    pub(crate) words: Vec<WordAnswer>,
    #[schema(value_type = Vec<Object>)]
    pub(crate) alternatives: Vec<dispatcher_core::Alternative>,
    pub(crate) cost: Amount,
    pub(crate) warnings: Vec<String>,
    pub(crate) dispatch: String,
}

impl From<dispatcher_gateway::Recognised> for TranscriptAnswer {
    fn from(heard: dispatcher_gateway::Recognised) -> Self {
        let Transcript { text, language, words, alternatives } = heard.transcript;
        let round = |seconds: Option<f64>| seconds.map(|s| (s * 1_000.0).round() / 1_000.0);
        let word = |word: dispatcher_core::Word| WordAnswer {
            text: word.text,
            start: round(word.start),
            end: round(word.end),
            confidence: round(word.confidence),
            speaker: word.speaker,
        };
        TranscriptAnswer {
            text,
            language: language.unwrap_or_else(|| "und".into()),
            length: (heard.length * 1_000.0).round() / 1_000.0,
            engine: heard.engine,
            model: heard.model,
            words: words.into_iter().map(word).collect(),
            alternatives,
            cost: heard.cost.into(),
            warnings: heard.warnings,
            dispatch: heard.dispatch,
        }
    }
}

/// What a request would do and cost; nothing was sent.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EstimateAnswer {
    /// In the order in which they would be tried.
    pub(crate) plan: Vec<PlanLine>,
    /// What the first of the plan costs, or its top where `exact` is false.
    pub(crate) cost: Amount,
    pub(crate) exact: bool,
    #[schema(value_type = Vec<Object>)]
    pub(crate) fidelity: Vec<dispatcher_markup::Fidelity>,
    /// Equal for equal requested sound.
    pub(crate) sound: Option<String>,
    /// Seconds of audio (recognition).
    pub(crate) length: Option<f64>,
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
    /// The format asked of the engine.
    pub(crate) engine_format: String,
}

impl From<&Planned> for PlanLine {
    fn from(planned: &Planned) -> Self {
        PlanLine {
            engine: planned.engine_name().into(),
            voice: planned.voice_id(),
            model: planned.candidate.model.clone(),
            cost: planned.estimate.into(),
            engine_format: planned.format.format.media_type(),
        }
    }
}

/// A voice of the catalogue.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct VoiceAnswer {
    /// `engine/voice`.
    #[schema(example = "heron/marin")]
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) engine: String,
    pub(crate) site: String,
    pub(crate) languages: Vec<String>,
    pub(crate) gender: Option<String>,
    pub(crate) styles: Vec<String>,
    pub(crate) models: Vec<String>,
    pub(crate) character: String,
    /// List price of a thousand characters with the ordinary model.
    pub(crate) price: Amount,
    /// `ready`, `absent` or `refused`.
    pub(crate) availability: String,
    pub(crate) reason: Option<String>,
}

/// An engine, as its sheet and its state have it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EngineAnswer {
    pub(crate) name: String,
    pub(crate) title: String,
    pub(crate) site: String,
    pub(crate) driver: String,
    /// Where it is called, with the host's override.
    pub(crate) endpoint: Option<String>,
    pub(crate) state: String,
    pub(crate) reason: Option<String>,
    pub(crate) speaks: bool,
    pub(crate) listens: bool,
    pub(crate) voices: usize,
    pub(crate) models: Vec<String>,
    pub(crate) formats: Vec<String>,
    /// Parts of its credential.
    pub(crate) parts: Vec<String>,
    pub(crate) guide: Vec<String>,
    pub(crate) price: String,
}

impl EngineAnswer {
    pub(crate) fn new(sheet: &dispatcher_core::Sheet, state: &EngineState) -> Self {
        let word = |value: &dyn std::fmt::Debug| format!("{value:?}").to_lowercase();
        let formats = |map: &std::collections::BTreeMap<String, dispatcher_core::FormatSpec>| -> Vec<String> {
            map.values().map(|format| format.media_type.clone()).collect()
        };
        let models: Vec<String> = [dispatcher_core::Work::Synthesis, dispatcher_core::Work::Recognition]
            .into_iter()
            .flat_map(|work| sheet.model_names(work))
            .map(str::to_owned)
            .collect();
        EngineAnswer {
            name: sheet.name.clone(),
            title: sheet.title().to_owned(),
            site: word(&sheet.site),
            driver: word(&sheet.driver),
            endpoint: sheet.endpoint.clone(),
            state: state.name().into(),
            reason: state.reason().map(str::to_owned),
            speaks: sheet.synthesis.is_some(),
            listens: sheet.recognition.is_some(),
            voices: sheet.synthesis.as_ref().map_or(0, |synthesis| synthesis.voices.len()),
            models,
            formats: sheet
                .synthesis
                .iter()
                .flat_map(|s| formats(&s.formats))
                .chain(sheet.recognition.iter().flat_map(|r| formats(&r.formats)))
                .collect(),
            parts: sheet.access.parts.clone(),
            guide: sheet.guide.steps.clone(),
            price: format!("{} {} per {}", sheet.tariff.price, sheet.tariff.currency, word(&sheet.tariff.per)),
        }
    }
}

/// An app.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AppAnswer {
    pub(crate) name: String,
    pub(crate) title: String,
    pub(crate) rehearsal: bool,
    pub(crate) default_voice: Option<String>,
    pub(crate) default_recognition: Option<String>,
    pub(crate) created: String,
}

impl From<App> for AppAnswer {
    fn from(app: App) -> Self {
        AppAnswer {
            name: app.name,
            title: app.title,
            rehearsal: app.rehearsal == 1,
            default_voice: app.default_voice,
            default_recognition: app.default_recognition,
            created: rfc3339(app.created_at),
        }
    }
}

/// A new app, or what to change of one.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AppRequest {
    /// 1 to 40 small letters, digits and hyphens.
    pub(crate) name: Option<String>,
    pub(crate) title: Option<String>,
    /// Same calls and checks, no engine called, nothing charged.
    #[serde(default)]
    pub(crate) rehearsal: bool,
    /// The voice or route of requests that name none.
    pub(crate) default_voice: Option<String>,
    /// The engine or route of recognitions that name none.
    pub(crate) default_recognition: Option<String>,
}

/// A key, without its secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct KeyAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) operator: bool,
    pub(crate) label: String,
    pub(crate) hint: String,
    pub(crate) created: String,
    pub(crate) last_used: Option<String>,
    pub(crate) revoked: Option<String>,
    /// Only in the answer that made it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) key: Option<String>,
}

impl From<AccessKey> for KeyAnswer {
    fn from(key: AccessKey) -> Self {
        KeyAnswer {
            id: key.id,
            app: key.app,
            operator: key.operator == 1,
            label: key.label,
            hint: key.hint,
            created: rfc3339(key.created_at),
            last_used: key.last_used_at.map(rfc3339),
            revoked: key.revoked_at.map(rfc3339),
            key: None,
        }
    }
}

/// A new key.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct KeyRequest {
    #[serde(default)]
    pub(crate) label: String,
}

/// A new credential.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CredentialRequest {
    pub(crate) engine: String,
    /// The engine's name unless given.
    pub(crate) name: Option<String>,
    /// The parts that the engine's sheet names.
    #[schema(value_type = Object)]
    pub(crate) parts: dispatcher_vault::Parts,
}

/// A credential; never a secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CredentialAnswer {
    pub(crate) name: String,
    pub(crate) engine: String,
    pub(crate) version: i64,
    pub(crate) state: String,
    pub(crate) cause: Option<String>,
    pub(crate) parts: Vec<String>,
    pub(crate) host: String,
    pub(crate) created: String,
    pub(crate) created_by: String,
    pub(crate) last_used: Option<String>,
}

impl From<CredentialView> for CredentialAnswer {
    fn from(view: CredentialView) -> Self {
        CredentialAnswer {
            name: view.name,
            engine: view.engine,
            version: view.version,
            state: view.state,
            cause: view.cause,
            parts: view.parts,
            host: view.host,
            created: rfc3339(view.created_at),
            created_by: view.created_by,
            last_used: view.last_used_at.map(rfc3339),
        }
    }
}

/// One request and what came of it. Times are milliseconds.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DispatchAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) work: String,
    pub(crate) wanted: String,
    pub(crate) rehearsal: bool,
    /// `open`, `done`, `failed`, `abandoned` or `uncertain`.
    pub(crate) state: String,
    pub(crate) engine: Option<String>,
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) media_type: String,
    pub(crate) language: Option<String>,
    pub(crate) characters: i64,
    /// Seconds of audio.
    pub(crate) audio: f64,
    pub(crate) first_audio: Option<f64>,
    pub(crate) total: Option<f64>,
    pub(crate) cost: Amount,
    pub(crate) problem: Option<String>,
    pub(crate) started: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) trace: Option<String>,
    /// Only for a single dispatch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) attempts: Option<Vec<AttemptAnswer>>,
    /// Only for a single dispatch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) ledger: Option<Vec<LedgerAnswer>>,
}

impl From<DispatchRow> for DispatchAnswer {
    fn from(row: DispatchRow) -> Self {
        DispatchAnswer {
            id: row.id,
            app: row.app,
            work: row.work,
            wanted: row.wanted,
            rehearsal: row.rehearsal == 1,
            state: row.state,
            engine: row.engine,
            voice: row.voice,
            model: row.model,
            media_type: row.media_type,
            language: row.language,
            characters: row.characters,
            audio: row.audio_ms as f64 / 1_000.0,
            first_audio: row.first_us.map(milliseconds),
            total: row.total_us.map(milliseconds),
            cost: amount(row.cost_nanos, &row.currency),
            problem: row.problem,
            started: rfc3339(row.started_at),
            trace: row.trace,
            attempts: None,
            ledger: None,
        }
    }
}

/// One call of one engine. Times are milliseconds.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AttemptAnswer {
    pub(crate) number: i64,
    pub(crate) engine: String,
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) state: String,
    pub(crate) cause: Option<String>,
    pub(crate) detail: Option<String>,
    /// Since the dispatch began.
    pub(crate) offset: f64,
    pub(crate) first_audio: Option<f64>,
    pub(crate) total: Option<f64>,
}

impl From<AttemptRow> for AttemptAnswer {
    fn from(row: AttemptRow) -> Self {
        AttemptAnswer {
            number: row.number,
            engine: row.engine,
            voice: row.voice,
            model: row.model,
            state: row.state,
            cause: row.cause,
            detail: row.detail,
            offset: milliseconds(row.offset_us),
            first_audio: row.first_us.map(milliseconds),
            total: row.total_us.map(milliseconds),
        }
    }
}

/// One entry of the ledger.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LedgerAnswer {
    /// `hold`, `release`, `settle` or `adjust`.
    pub(crate) kind: String,
    pub(crate) attempt: i64,
    pub(crate) engine: String,
    pub(crate) model: Option<String>,
    pub(crate) characters: i64,
    /// Seconds.
    pub(crate) audio: f64,
    pub(crate) cost: Amount,
    pub(crate) at: String,
}

impl From<LedgerRow> for LedgerAnswer {
    fn from(row: LedgerRow) -> Self {
        LedgerAnswer {
            kind: row.kind,
            attempt: row.attempt,
            engine: row.engine,
            model: row.model,
            characters: row.characters,
            audio: row.audio_ms as f64 / 1_000.0,
            cost: amount(row.nanos, &row.currency),
            at: rfc3339(row.at),
        }
    }
}

/// Usage of one group in one currency.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UsageAnswer {
    /// Values of the columns grouped by, in their order.
    pub(crate) group: Vec<String>,
    pub(crate) requests: i64,
    pub(crate) characters: i64,
    /// Seconds of audio.
    pub(crate) audio: f64,
    pub(crate) cost: Amount,
}

impl From<UsageRow> for UsageAnswer {
    fn from(row: UsageRow) -> Self {
        UsageAnswer {
            group: std::iter::once(row.first).chain(row.second).collect(),
            requests: row.requests,
            characters: row.characters,
            audio: row.audio_ms as f64 / 1_000.0,
            cost: amount(row.nanos, &row.currency),
        }
    }
}

/// The usage of some days.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UsageList {
    pub(crate) by: Vec<String>,
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) items: Vec<UsageAnswer>,
    pub(crate) next: Option<String>,
    /// One amount a currency.
    pub(crate) total: Vec<Amount>,
}

/// Who is signed in.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SessionAnswer {
    /// Null where nobody is.
    pub(crate) person: Option<String>,
    pub(crate) version: String,
}

/// Signing in: a person and password, or an operator key.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignInRequest {
    pub(crate) person: Option<String>,
    #[schema(value_type = Option<String>)]
    pub(crate) password: Option<secrecy::SecretString>,
    #[schema(value_type = Option<String>)]
    pub(crate) key: Option<secrecy::SecretString>,
}

/// A person's new password.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonRequest {
    /// At least twelve characters.
    #[schema(value_type = String)]
    pub(crate) password: secrecy::SecretString,
}

/// One entry of the audit log.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AuditAnswer {
    pub(crate) at: String,
    pub(crate) who: String,
    pub(crate) action: String,
    pub(crate) subject: String,
}

/// What is going on now, and what went on today.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct OverviewAnswer {
    pub(crate) engines: Vec<EngineAnswer>,
    /// The newest dispatches.
    pub(crate) dispatches: Vec<DispatchAnswer>,
    /// Today's usage by engine.
    pub(crate) usage: Vec<UsageAnswer>,
    /// Of the newest 500 dispatches.
    pub(crate) requests: usize,
    pub(crate) failed: usize,
    /// Answered by a leg after the first.
    pub(crate) fallbacks: usize,
}
