//! Messages of a narration, as JSON.

use dispatcher_gateway::{NarrationEvent, NarrationOrder};
use serde::Serialize;
use serde_json::Value;

use super::{Amount, UtteranceRequest, thousandths};

/// What a caller sends.
#[derive(Debug)]
pub(crate) enum NarrationMessage {
    /// The members of a request for an utterance, without its text.
    Open(Box<UtteranceRequest>),
    Order(NarrationOrder),
    /// Nothing more is needed.
    Close,
}

impl NarrationMessage {
    /// Reads a message of JSON; says in words what is wrong with it.
    pub(crate) fn read(text: &str) -> Result<NarrationMessage, String> {
        let message: Value = serde_json::from_str(text).map_err(|error| format!("not JSON: {error}"))?;
        let Value::Object(mut members) = message else { return Err("a message is an object".into()) };
        let kind = members.remove("type");
        let kind = kind.as_ref().and_then(Value::as_str).unwrap_or_default().to_owned();
        let seconds = |value: Option<Value>, name: &str| match value {
            None | Some(Value::Null) => Ok(None),
            Some(value) => value.as_f64().filter(|it| it.is_finite()).map(Some).ok_or(format!("{name} is in seconds")),
        };
        let order = match kind.as_str() {
            "open" => {
                let request = serde_json::from_value(Value::Object(members));
                return Ok(NarrationMessage::Open(Box::new(request.map_err(|error| format!("open: {error}"))?)));
            }
            "text" => match members.remove("text") {
                Some(Value::String(text)) => NarrationOrder::Text(text),
                _ => return Err("a message of the type text has the member text".into()),
            },
            "heard" => {
                let position = seconds(members.remove("position"), "position")?;
                NarrationOrder::Heard(position.ok_or("a message of the type heard has the member position")?)
            }
            "stop" => NarrationOrder::Stop(seconds(members.remove("position"), "position")?),
            "speak-now" => NarrationOrder::SpeakNow,
            "end-of-text" => NarrationOrder::End,
            "close" => {
                return if members.is_empty() {
                    Ok(NarrationMessage::Close)
                } else {
                    Err("close has no members".into())
                };
            }
            _ => return Err("a message has a type: open, text, speak-now, heard, stop, end-of-text or close".into()),
        };
        match members.keys().next() {
            Some(name) => Err(format!("{kind} has no member '{name}'")),
            None => Ok(NarrationMessage::Order(order)),
        }
    }
}

/// Messages to the caller, beside audio. Times are seconds of the session.
#[derive(Debug, Serialize)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub(crate) enum NarrationAnswer {
    Open {
        /// Media type of the audio.
        audio: String,
    },
    /// The audio of a sentence follows.
    Sentence {
        /// From 1.
        number: u64,
        text: String,
        from: f64,
        voice: String,
        dispatch: String,
    },
    Word {
        text: String,
        start: f64,
        end: Option<f64>,
    },
    /// Text up to a position that the caller has confirmed.
    Heard {
        position: f64,
        text: String,
    },
    /// Nothing of the text so far is spoken any more.
    Stopped {
        position: f64,
        text: String,
    },
    EndOfAudio {
        duration: f64,
        /// By currency.
        costs: Vec<Amount>,
        dispatches: u64,
    },
}

impl NarrationAnswer {
    /// The message of an event, or its audio.
    pub(crate) fn of(event: NarrationEvent) -> Result<NarrationAnswer, bytes::Bytes> {
        Ok(match event {
            NarrationEvent::Audio(bytes) => return Err(bytes),
            NarrationEvent::Sentence { number, text, from, dispatch, voice } => {
                NarrationAnswer::Sentence { number: number + 1, text, from: thousandths(from), voice, dispatch }
            }
            NarrationEvent::Word { text, start, end } => {
                NarrationAnswer::Word { text, start: thousandths(start), end: end.map(thousandths) }
            }
            NarrationEvent::Heard { position, text } => {
                NarrationAnswer::Heard { position: thousandths(position), text }
            }
            NarrationEvent::Stopped { position, text } => {
                NarrationAnswer::Stopped { position: thousandths(position), text }
            }
            NarrationEvent::Ended { duration, costs, dispatches } => NarrationAnswer::EndOfAudio {
                duration: thousandths(duration),
                costs: costs.amounts().iter().copied().map(Amount::from).collect(),
                dispatches,
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_read_strictly() {
        let order = |text: &str| match NarrationMessage::read(text) {
            Ok(NarrationMessage::Order(order)) => order,
            other => panic!("{text}: {other:?}"),
        };
        assert_eq!(order(r#"{"type": "text", "text": "Ahoy"}"#), NarrationOrder::Text("Ahoy".into()));
        assert_eq!(order(r#"{"type": "heard", "position": 1.5}"#), NarrationOrder::Heard(1.5));
        assert_eq!(order(r#"{"type": "stop"}"#), NarrationOrder::Stop(None));
        assert_eq!(order(r#"{"type": "stop", "position": 2}"#), NarrationOrder::Stop(Some(2.0)));
        assert_eq!(order(r#"{"type": "end-of-text"}"#), NarrationOrder::End);
        for (wrong, why) in [
            ("{", "not JSON"),
            ("[]", "a message is an object"),
            (r#"{"type": "tide"}"#, "a message has a type"),
            (r#"{"type": "text"}"#, "a message of the type text has the member text"),
            (r#"{"type": "heard"}"#, "a message of the type heard has the member position"),
            (r#"{"type": "stop", "position": "now"}"#, "position is in seconds"),
            (r#"{"type": "speak-now", "all": true}"#, "speak-now has no member 'all'"),
            (r#"{"type": "close", "now": true}"#, "close has no members"),
            (r#"{"type": "open", "voise": "heron/pellin"}"#, "open: unknown field `voise`"),
        ] {
            let error = NarrationMessage::read(wrong).expect_err(wrong);
            assert!(error.starts_with(why), "{wrong}: {error}");
        }
    }
}
