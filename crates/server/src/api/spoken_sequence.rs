//! Utterances as JSON text sequences (RFC 7464): audio, words and marks in the
//! order in which they are made, for pages that show words as they sound.

use std::io;
use std::pin::Pin;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use dispatcher_audio::Meter;
use dispatcher_gateway::{Gateway, GatewayError, Utterance};
use futures::Stream;
use serde_json::{Value, json};

use crate::connection::Connection;
use crate::drain::Leaving;
use crate::problem::Problem;
use crate::wire::{Amount, thousandths};

/// The media type of the answer.
pub(super) const MEDIA_TYPE: &str = "application/json-seq";
/// What each record begins with.
const RECORD: u8 = 0x1e;

/// Whether a caller asks for it before anything else.
pub(super) fn is_accepted(accept: &str) -> bool {
    let first = accept.split([',', ';']).next().unwrap_or_default();
    first.trim().eq_ignore_ascii_case(MEDIA_TYPE)
}

/// An utterance on its way to a caller, record by record.
pub(crate) struct SpokenSequence {
    pub(super) gateway: Gateway,
    pub(super) utterance: Utterance,
    pub(super) connection: Connection,
    pub(super) _leaving: Leaving,
}

/// Position up to which it was sent.
struct Told {
    sequence: SpokenSequence,
    /// What the types of problems begin with.
    base: String,
    meter: Option<Meter>,
    words: usize,
    marks: usize,
    begun: bool,
}

fn record(out: &mut Vec<u8>, value: &Value) {
    out.push(RECORD);
    out.extend_from_slice(value.to_string().as_bytes());
    out.push(b'\n');
}

impl SpokenSequence {
    /// The records; lets go of the engine once the caller has left.
    pub(super) fn into_stream(self, base: String) -> Pin<Box<dyn Stream<Item = io::Result<Bytes>> + Send>> {
        let meter = Meter::new(self.utterance.format).ok();
        let told = Told { sequence: self, base, meter, words: 0, marks: 0, begun: false };
        Box::pin(futures::stream::unfold(Some(told), |told| async {
            let mut told = told?;
            let next = tokio::select! {
                next = told.sequence.utterance.body.next() => next,
                () = told.sequence.connection.gone() => return Some((Err(io::ErrorKind::ConnectionAborted.into()), None)),
            };
            let mut out = Vec::new();
            told.begin(&mut out);
            match next {
                Some(Ok(bytes)) => {
                    told.audio(&mut out, &bytes);
                    Some((Ok(out.into()), Some(told)))
                }
                Some(Err(error)) => {
                    told.failed(&mut out, error.0);
                    Some((Ok(out.into()), None))
                }
                None => {
                    told.end(&mut out).await;
                    Some((Ok(out.into()), None))
                }
            }
        }))
    }
}

impl Told {
    fn begin(&mut self, out: &mut Vec<u8>) {
        if std::mem::replace(&mut self.begun, true) {
            return;
        }
        let utterance = &self.sequence.utterance;
        let start = json!({
            "type": "start",
            "dispatch": utterance.dispatch,
            "engine": utterance.engine,
            "voice": utterance.voice,
            "model": utterance.model,
            "audio": {"type": utterance.format.media_type()},
            "fidelity": utterance.fidelity,
            "warnings": utterance.warnings,
        });
        record(out, &start);
    }

    fn audio(&mut self, out: &mut Vec<u8>, bytes: &Bytes) {
        // Words that the engine reported before their audio are sent first.
        self.cues(out);
        if self.meter.as_mut().is_some_and(|meter| meter.push(bytes).is_err()) {
            self.meter = None;
        }
        record(out, &json!({"type": "audio", "base64": STANDARD.encode(bytes)}));
    }

    /// Words and marks that have become known.
    fn cues(&mut self, out: &mut Vec<u8>) {
        let utterance = &self.sequence.utterance;
        let words = utterance.words_from(self.words);
        self.words += words.len();
        for word in words {
            let (start, end) = (word.start.map(thousandths), word.end.map(thousandths));
            record(out, &json!({"type": "word", "text": word.text, "start": start, "end": end}));
        }
        let marks = utterance.marks();
        for (name, time) in marks.iter().skip(self.marks) {
            record(out, &json!({"type": "mark", "name": name, "time": thousandths(*time)}));
        }
        self.marks = marks.len().max(self.marks);
    }

    async fn end(&mut self, out: &mut Vec<u8>) {
        self.cues(out);
        let seconds = self.meter.take().and_then(|mut meter| meter.finish().ok()).map(|length| length.seconds());
        let dispatch = &self.sequence.utterance.dispatch;
        let cost = self.sequence.gateway.cost_of(dispatch).await.ok().map(Amount::from);
        record(out, &json!({"type": "end", "duration": seconds.map(thousandths), "cost": cost, "dispatch": dispatch}));
    }

    /// What was sent so far is not the whole.
    fn failed(&mut self, out: &mut Vec<u8>, attempt: dispatcher_gateway::FailedAttempt) {
        let dispatch = self.sequence.utterance.dispatch.clone();
        let problem = Problem::from(GatewayError::AllFailed { dispatch, attempts: vec![attempt] });
        let kind = format!("{}/problems/{}", self.base, problem.kind);
        record(out, &json!({"type": "problem", "problem": Problem { kind, ..problem }}));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sequence_is_asked_for_before_anything_else() {
        for accept in ["application/json-seq", "Application/JSON-Seq;q=1", "application/json-seq, audio/wav"] {
            assert!(is_accepted(accept), "{accept}");
        }
        for accept in ["", "*/*", "application/json", "audio/wav, application/json-seq"] {
            assert!(!is_accepted(accept), "{accept}");
        }
    }

    #[test]
    fn a_record_begins_and_ends_as_the_standard_says() {
        let mut out = Vec::new();
        record(&mut out, &json!({"type": "mark", "name": "line\none"}));
        // RFC 7464, section 2.2: a record separator, the text, a line feed.
        let text = out.strip_prefix(&[0x1e]).and_then(|rest| rest.strip_suffix(b"\n")).expect("a record");
        assert!(!text.contains(&b'\n') && !text.contains(&0x1e), "{text:?}");
        let read: Value = serde_json::from_slice(text).expect("JSON");
        assert_eq!(read, json!({"type": "mark", "name": "line\none"}));
    }
}
