//! Exchanges, as JSON.

use dispatcher_gateway::{ConversationEvent, ExchangeEnd, ExchangeEvent, Recognised, StoredExchange};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{
    Amount, AudioAnswer, Base64Audio, CommandAnswer, LiveMessage, NarrationAnswer, TranscriptRequest, UtteranceRequest,
    WordAnswer, rfc3339,
};

/// A request for an exchange: what is said, and the options of its stages.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ExchangeWish {
    /// What is said, as audio; or `text`.
    pub(crate) audio: Option<Base64Audio>,
    /// What is said, as text.
    #[schema(example = "When is the next ferry to Gullsay?")]
    pub(crate) text: Option<String>,
    /// Recognition: members of `TranscriptRequest`, without audio.
    #[serde(default)]
    pub(crate) ear: TranscriptRequest,
    /// The reply hook of the app.
    #[serde(default)]
    pub(crate) reply: ReplyRequest,
    /// Synthesis: members of `UtteranceRequest`, without a text.
    #[serde(default)]
    pub(crate) voice: UtteranceRequest,
    /// A file for the hook, such as a picture.
    pub(crate) attachment: Option<AttachmentWish>,
    /// `local`: the engines and the hook must be on this machine. `cloud`: the engines must be elsewhere.
    pub(crate) site: Option<String>,
    /// `link`: the answer has a link to the audio in place of the audio.
    pub(crate) deliver: Option<String>,
    /// Seconds until the link expires, 60 to 2592000 (default: 3600).
    pub(crate) expires_in: Option<u32>,
}

/// Options of the stage `reply`.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ReplyRequest {
    /// Passed to the hook unchanged, such as the id of a conversation.
    #[schema(value_type = Option<Object>)]
    pub(crate) context: Option<serde_json::Value>,
    /// Seconds until the first text, 0.5 to 60 (default: 8).
    pub(crate) within: Option<f64>,
    /// Characters of the whole reply, 1 to 20000 (default: 2000).
    pub(crate) characters: Option<usize>,
}

/// A file for the hook.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AttachmentWish {
    /// Media type.
    #[serde(rename = "type")]
    #[schema(example = "image/png")]
    pub(crate) kind: String,
    pub(crate) base64: String,
}

/// The answer of an exchange.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ExchangeAnswer {
    pub(crate) id: String,
    /// `answered`, or `apologised` if the hook failed, stalled or went on for too long.
    pub(crate) state: &'static str,
    pub(crate) transcript: SaidAnswer,
    pub(crate) reply: ReplyAnswer,
    /// The spoken reply.
    pub(crate) audio: AudioAnswer,
    /// Words of the spoken reply with their times, if the engine reports them.
    pub(crate) words: Vec<SpokenWord>,
    pub(crate) stages: StagesAnswer,
    /// By currency.
    pub(crate) costs: Vec<Amount>,
}

/// What was said.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SaidAnswer {
    pub(crate) text: String,
    /// BCP 47 tag; null if it is not known.
    pub(crate) language: Option<String>,
    /// Null if text was sent.
    pub(crate) engine: Option<String>,
    pub(crate) words: Vec<WordAnswer>,
    /// Command of the phrase that was said; null if it is none.
    pub(crate) command: Option<CommandAnswer>,
}

impl SaidAnswer {
    pub(crate) fn of(text: String, recognised: Option<Recognised>) -> SaidAnswer {
        let Some(recognised) = recognised else {
            return SaidAnswer { text, language: None, engine: None, words: Vec::new(), command: None };
        };
        let revised = recognised.revised;
        SaidAnswer {
            text,
            language: revised.transcript.language,
            engine: Some(recognised.engine),
            words: revised.transcript.words.into_iter().map(WordAnswer::from).collect(),
            command: revised.command.map(CommandAnswer::from),
        }
    }
}

/// What the hook answered.
#[derive(Debug, Default, Serialize, ToSchema)]
pub(crate) struct ReplyAnswer {
    /// Text of the hook.
    pub(crate) text: String,
    /// Text that was spoken: that of the hook, and the apology if there was a fault.
    pub(crate) spoken: String,
    /// What was wrong with the hook; null if nothing was.
    pub(crate) fault: Option<String>,
}

/// A word of the spoken reply.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SpokenWord {
    pub(crate) text: String,
    /// Seconds.
    pub(crate) start: f64,
    /// Seconds.
    pub(crate) end: Option<f64>,
}

/// The stages of an exchange.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StagesAnswer {
    /// Null if text was sent.
    pub(crate) ear: Option<StageAnswer>,
    pub(crate) reply: StageAnswer,
    pub(crate) voice: StageAnswer,
}

/// A stage. Times are seconds from the end of what was said.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StageAnswer {
    /// Until its first result: of `ear` the transcript, of `reply` text, of `voice` audio.
    pub(crate) first: Option<f64>,
    /// Until its last result.
    pub(crate) end: Option<f64>,
    /// Its dispatches.
    pub(crate) dispatches: Vec<String>,
}

impl From<&StoredExchange> for StagesAnswer {
    fn from(row: &StoredExchange) -> Self {
        let seconds = |ms: Option<i64>| ms.map(|ms| ms as f64 / 1_000.0);
        let stage = |first, end, dispatches| StageAnswer { first: seconds(first), end: seconds(end), dispatches };
        StagesAnswer {
            ear: row.ear_dispatch.clone().map(|dispatch| stage(row.ear_ms, row.ear_ms, vec![dispatch])),
            reply: stage(row.reply_first_ms, row.reply_ms, Vec::new()),
            voice: stage(row.voice_first_ms, row.voice_ms, row.voice_dispatches.lines().map(str::to_owned).collect()),
        }
    }
}

/// An exchange on record, without what was said in it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ExchangeLine {
    pub(crate) id: String,
    pub(crate) app: String,
    /// Key, token or person.
    pub(crate) by: String,
    /// `answered`, `apologised`, `stopped`, `failed` or `abandoned`.
    pub(crate) state: &'static str,
    /// What was wrong with the hook or an engine.
    pub(crate) fault: Option<String>,
    pub(crate) begun: String,
    pub(crate) said_characters: i64,
    pub(crate) reply_characters: i64,
    /// Seconds of audio that were spoken.
    pub(crate) duration: f64,
    pub(crate) stages: StagesAnswer,
}

impl From<StoredExchange> for ExchangeLine {
    fn from(row: StoredExchange) -> Self {
        ExchangeLine {
            stages: StagesAnswer::from(&row),
            id: row.id,
            app: row.app,
            by: row.who,
            state: row.state.name(),
            fault: row.fault,
            begun: rfc3339(row.begun_at),
            said_characters: row.said_characters,
            reply_characters: row.reply_characters,
            duration: row.audio_ms as f64 / 1_000.0,
        }
    }
}

impl ExchangeAnswer {
    pub(crate) fn of(
        end: ExchangeEnd,
        transcript: SaidAnswer,
        reply: ReplyAnswer,
        audio: AudioAnswer,
        words: Vec<SpokenWord>,
    ) -> ExchangeAnswer {
        let stages = StagesAnswer::from(&end.record);
        let costs = end.costs.amounts().iter().copied().map(Amount::from).collect();
        ExchangeAnswer {
            id: end.record.id,
            state: end.record.state.name(),
            transcript,
            reply,
            audio,
            words,
            stages,
            costs,
        }
    }
}

/// What begins a live exchange.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct ConversationOpening {
    /// Media type of the caller's audio (default: `audio/pcm;rate=16000`).
    pub(crate) format: Option<String>,
    /// `silence` (default) or `push`: when a turn is over.
    pub(crate) turns: Option<String>,
    /// Seconds of silence after which a turn is over, 0.3 to 3 (default: 0.8).
    pub(crate) silence: Option<f64>,
    /// Whether speaking into a reply ends it (default: true).
    pub(crate) barge_in: Option<bool>,
    /// Whether interim results are sent (default: true).
    pub(crate) interim: Option<bool>,
    #[serde(default)]
    pub(crate) ear: TranscriptRequest,
    #[serde(default)]
    pub(crate) reply: ReplyRequest,
    #[serde(default)]
    pub(crate) voice: UtteranceRequest,
    pub(crate) site: Option<String>,
}

/// What a caller sends beside audio.
#[derive(Debug, Deserialize)]
#[serde(tag = "type", rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) enum ConversationMessage {
    Open(Box<ConversationOpening>),
    /// The turn is over.
    EndOfTurn,
    /// A turn that is typed.
    Text {
        text: String,
    },
    /// A file for the hook, with the next turn.
    Attachment {
        #[serde(rename = "media_type")]
        kind: String,
        base64: String,
    },
    /// Seconds of the reply that were heard.
    Heard {
        position: f64,
    },
    /// Nothing more of the reply is spoken.
    Stop {
        #[serde(default)]
        position: Option<f64>,
    },
    /// The turn that was said last is answered, and nothing more comes.
    EndOfInput,
    /// Nothing more is needed.
    Close,
}

impl ConversationMessage {
    /// Reads a message of JSON; says in words what is wrong with it.
    pub(crate) fn read(text: &str) -> Result<ConversationMessage, String> {
        let message: ConversationMessage =
            serde_json::from_str(text).map_err(|error| format!("not a message of a live exchange: {error}"))?;
        let wrong = |position: f64| !position.is_finite() || position < 0.0;
        match message {
            ConversationMessage::Heard { position } | ConversationMessage::Stop { position: Some(position) }
                if wrong(position) =>
            {
                Err("position is in seconds".into())
            }
            message => Ok(message),
        }
    }
}

/// Messages to the caller, beside audio.
#[derive(Debug, Serialize)]
#[serde(untagged)]
pub(crate) enum ConversationAnswer {
    /// Of the turn that is being said.
    Ear(LiveMessage),
    /// Of the reply that sounds.
    Voice(NarrationAnswer),
    Note(ConversationNote),
}

/// Messages about turns.
#[derive(Debug, Serialize)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub(crate) enum ConversationNote {
    Open {
        /// Media type of the audio of replies.
        audio: String,
    },
    /// Nothing was understood of a turn.
    NothingSaid,
    /// A turn is over, and the hook is asked.
    Said { exchange: String, text: String },
    /// More text of the reply.
    Reply { text: String },
    /// The hook failed, stalled or went on for too long; the apology follows.
    Fault { detail: String },
    /// The reply is over.
    EndOfTurn(Box<TurnAnswer>),
}

/// How a turn ended.
#[derive(Debug, Serialize)]
pub(crate) struct TurnAnswer {
    exchange: String,
    state: &'static str,
    fault: Option<String>,
    /// Seconds of the audio of the reply.
    duration: f64,
    stages: StagesAnswer,
    costs: Vec<Amount>,
}

impl ConversationAnswer {
    /// The message of an event, or its audio.
    pub(crate) fn of(event: ConversationEvent) -> Result<ConversationAnswer, bytes::Bytes> {
        let note = match event {
            ConversationEvent::Ear(event) => return Ok(ConversationAnswer::Ear(LiveMessage::of(event, ""))),
            ConversationEvent::NothingSaid => ConversationNote::NothingSaid,
            ConversationEvent::Exchange(event) => match event {
                ExchangeEvent::Voice(event) => return NarrationAnswer::of(event).map(ConversationAnswer::Voice),
                ExchangeEvent::Said { exchange, text, .. } => ConversationNote::Said { exchange, text },
                ExchangeEvent::Reply(text) => ConversationNote::Reply { text },
                ExchangeEvent::Fault(detail) => ConversationNote::Fault { detail },
                ExchangeEvent::Ended(end) => ConversationNote::EndOfTurn(Box::new(TurnAnswer {
                    stages: StagesAnswer::from(&end.record),
                    exchange: end.record.id,
                    state: end.record.state.name(),
                    fault: end.record.fault,
                    duration: end.record.audio_ms as f64 / 1_000.0,
                    costs: end.costs.amounts().iter().copied().map(Amount::from).collect(),
                })),
            },
        };
        Ok(ConversationAnswer::Note(note))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_read_strictly() {
        let open = r#"{"type": "open", "turns": "push", "ear": {"route": "captions"}, "voice": {"voice": "quayside"}}"#;
        let Ok(ConversationMessage::Open(opening)) = ConversationMessage::read(open) else { panic!("an opening") };
        assert_eq!((opening.turns.as_deref(), opening.ear.route.as_deref()), (Some("push"), Some("captions")));
        assert!(matches!(ConversationMessage::read(r#"{"type": "end-of-turn"}"#), Ok(ConversationMessage::EndOfTurn)));
        for (wrong, why) in [
            (r#"{"type": "tide"}"#, "unknown variant `tide`"),
            (r#"{"type": "open", "voise": {}}"#, "unknown field `voise`"),
            (r#"{"type": "heard"}"#, "missing field `position`"),
            (r#"{"type": "heard", "position": -1}"#, "position is in seconds"),
            (r#"{"type": "text", "text": "Ahoy", "all": 1}"#, "unknown field `all`"),
            ("[]", "not a message"),
        ] {
            let error = ConversationMessage::read(wrong).expect_err(wrong);
            assert!(error.contains(why), "{wrong}: {error}");
        }
    }
}
