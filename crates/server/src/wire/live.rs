//! Messages of a live recognition, as JSON.

use dispatcher_gateway::LiveEvent;
use serde::Serialize;

use super::{Amount, CommandAnswer, TranscriptChangeAnswer, TranscriptRequest, WordAnswer, thousandths};

/// What begins a session.
#[derive(Debug)]
pub(crate) struct LiveOpening {
    /// Media type of the audio; without it, the format is detected.
    pub(crate) format: Option<String>,
    /// Whether interim results are sent (default: true).
    pub(crate) interim: bool,
    pub(crate) request: TranscriptRequest,
}

/// What a caller sends beside audio.
#[derive(Debug)]
pub(crate) enum LiveOrder {
    Open(Box<LiveOpening>),
    /// No more audio comes.
    EndOfInput,
    /// Nothing more is needed.
    Close,
}

impl LiveOrder {
    /// Reads a message of JSON; says in words what is wrong with it.
    pub(crate) fn read(text: &str) -> Result<LiveOrder, String> {
        let message: serde_json::Value = serde_json::from_str(text).map_err(|error| format!("not JSON: {error}"))?;
        let serde_json::Value::Object(mut members) = message else { return Err("a message is an object".into()) };
        let kind = members.remove("type");
        match kind.as_ref().and_then(serde_json::Value::as_str) {
            Some("open") => {
                let text = |value: serde_json::Value| value.as_str().map(str::to_owned).ok_or("format is a media type");
                let format = members.remove("format").filter(|it| !it.is_null()).map(text).transpose()?;
                let flag = |value: serde_json::Value| value.as_bool().ok_or("interim is true or false");
                let interim = members.remove("interim").map(flag).transpose()?.unwrap_or(true);
                let request = serde_json::from_value(serde_json::Value::Object(members));
                let request = request.map_err(|error| format!("open: {error}"))?;
                Ok(LiveOrder::Open(Box::new(LiveOpening { format, interim, request })))
            }
            Some("end-of-input") if members.is_empty() => Ok(LiveOrder::EndOfInput),
            Some("close") if members.is_empty() => Ok(LiveOrder::Close),
            Some(kind @ ("end-of-input" | "close")) => Err(format!("{kind} has no members")),
            _ => Err("a message has a type: open, end-of-input or close".into()),
        }
    }
}

/// Messages to the caller.
#[derive(Debug, Serialize)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub(crate) enum LiveMessage {
    Open {
        dispatch: String,
        engine: String,
    },
    /// Somebody begins to speak, in seconds of the session.
    StartOfInput {
        at: f64,
    },
    /// A later result of the same segment takes its place.
    Interim(LiveSegment),
    /// It does not change again.
    Final(LiveSegment),
    /// A further call goes on.
    Renewed {
        engine: String,
    },
    /// All events were sent.
    EndOfInput {
        text: String,
        duration: f64,
        cost: Amount,
        dispatch: String,
        /// Whether it is kept; then `/transcripts/{dispatch}` has it.
        kept: bool,
    },
}

/// What is heard of a segment.
#[derive(Debug, Serialize)]
pub(crate) struct LiveSegment {
    /// From 1, in the order in which they are said.
    pub(crate) segment: u64,
    pub(crate) text: String,
    /// Seconds of the session; null if the engine does not report them.
    pub(crate) start: Option<f64>,
    pub(crate) end: Option<f64>,
    pub(crate) words: Vec<WordAnswer>,
    /// Words that the vocabulary and masks of the app changed.
    pub(crate) changes: Vec<TranscriptChangeAnswer>,
    /// Command of the phrase that was said; null if it is none, and in interim results.
    pub(crate) command: Option<CommandAnswer>,
}

impl LiveMessage {
    /// Whether a later one takes its place.
    pub(crate) fn is_interim(&self) -> bool {
        matches!(self, LiveMessage::Interim(_))
    }

    /// The message of an event of a dispatch.
    pub(crate) fn of(event: LiveEvent, dispatch: &str) -> LiveMessage {
        match event {
            LiveEvent::Speech { at } => LiveMessage::StartOfInput { at: thousandths(at) },
            LiveEvent::Renewed { engine } => LiveMessage::Renewed { engine },
            LiveEvent::Ended { text, length, cost, kept } => LiveMessage::EndOfInput {
                text,
                duration: thousandths(length),
                cost: cost.into(),
                dispatch: dispatch.to_owned(),
                kept,
            },
            LiveEvent::Result { segment, settled, transcript, changes, command } => {
                let words: Vec<WordAnswer> = transcript.words.into_iter().map(WordAnswer::from).collect();
                let told = LiveSegment {
                    segment,
                    text: transcript.text,
                    start: words.iter().filter_map(|word| word.start).reduce(f64::min),
                    end: words.iter().filter_map(|word| word.end).reduce(f64::max),
                    words,
                    changes: changes.into_iter().map(TranscriptChangeAnswer::from).collect(),
                    command: command.map(CommandAnswer::from),
                };
                if settled { LiveMessage::Final(told) } else { LiveMessage::Interim(told) }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_read_strictly() {
        let Ok(LiveOrder::Open(opening)) = LiveOrder::read(
            r#"{"type": "open", "format": "audio/pcm;rate=16000", "interim": false, "route": "captions"}"#,
        ) else {
            panic!("an opening");
        };
        assert_eq!((opening.interim, opening.request.route.as_deref()), (false, Some("captions")));
        assert!(matches!(LiveOrder::read(r#"{"type": "end-of-input"}"#), Ok(LiveOrder::EndOfInput)));
        for (wrong, why) in [
            ("{", "not JSON"),
            ("[]", "a message is an object"),
            ("{}", "a message has a type"),
            (r#"{"type": "tide"}"#, "a message has a type"),
            (r#"{"type": "close", "now": true}"#, "close has no members"),
            (r#"{"type": "open", "interim": 1}"#, "interim is true or false"),
            (r#"{"type": "open", "rout": "captions"}"#, "open: unknown field `rout`"),
        ] {
            let error = LiveOrder::read(wrong).expect_err(wrong);
            assert!(error.starts_with(why), "{wrong}: {error}");
        }
    }
}
