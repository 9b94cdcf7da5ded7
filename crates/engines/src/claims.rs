//! What an answer states of its audio, held against what came: an answer that
//! was cut at a clean boundary looks whole by itself.

use base64::Engine as _;
use bytes::Bytes;
use dispatcher_audio::{Format, Meter};
use dispatcher_core::{Cause, Claims, SheetError};
use futures::{Stream, StreamExt as _};
use reqwest::header::HeaderMap;
use serde_json::Value;
use sha2::{Digest as _, Sha256};

use crate::EngineError;
use crate::answer_place::AnswerPlace;
use crate::request::SheetSource;

/// Seconds by which audio may be shorter than claimed: coders drop padding.
const SLACK: f64 = 0.06;

/// `[synthesis.claims]`, compiled.
pub(crate) struct CompiledClaims {
    bytes: Option<AnswerPlace>,
    milliseconds: Option<AnswerPlace>,
    seconds: Option<AnswerPlace>,
    samples: Option<AnswerPlace>,
    sha256: Option<AnswerPlace>,
}

/// What an answer states.
#[derive(Debug, Default)]
pub(crate) struct Stated {
    bytes: Option<u64>,
    seconds: Option<f64>,
    samples: Option<u64>,
    sha256: Option<Vec<u8>>,
}

impl CompiledClaims {
    /// `None` where the sheet claims nothing.
    pub(crate) fn compile(spec: &Claims, sheet: SheetSource<'_>) -> Result<Option<CompiledClaims>, SheetError> {
        if *spec == Claims::default() {
            return Ok(None);
        }
        let place = |name: &'static str, place: &Option<String>| match place.as_deref() {
            None => Ok(None),
            Some(text) => AnswerPlace::compile(text, name, sheet, &["synthesis", "claims", name]).map(Some),
        };
        Ok(Some(CompiledClaims {
            bytes: place("bytes", &spec.bytes)?,
            milliseconds: place("milliseconds", &spec.milliseconds)?,
            seconds: place("seconds", &spec.seconds)?,
            samples: place("samples", &spec.samples)?,
            sha256: place("sha256", &spec.sha256)?,
        }))
    }

    /// What is stated in the fields and the JSON of an answer; what it leaves
    /// out is not claimed.
    pub(crate) fn read(&self, headers: &HeaderMap, json: Option<&Value>) -> Stated {
        let text = |place: &Option<AnswerPlace>| match place.as_ref()? {
            AnswerPlace::Header(name) => headers.get(name)?.to_str().ok().map(|text| text.trim().to_owned()),
            AnswerPlace::Path(path) => match path.query(json?).first()? {
                Value::String(text) => Some(text.trim().to_owned()),
                Value::Number(number) => Some(number.to_string()),
                _ => None,
            },
        };
        let number = |place| text(place)?.parse::<f64>().ok().filter(|value| value.is_finite() && *value >= 0.0);
        let whole = |place| number(place).map(|value| value as u64);
        let milliseconds = number(&self.milliseconds).map(|value| value / 1_000.0);
        Stated {
            bytes: whole(&self.bytes),
            seconds: milliseconds.or(number(&self.seconds)),
            samples: whole(&self.samples),
            sha256: text(&self.sha256).and_then(|text| digest(&text)),
        }
    }

    fn measures(&self) -> bool {
        self.milliseconds.is_some() || self.seconds.is_some() || self.samples.is_some()
    }
}

/// A SHA-256 in hexadecimal, or in base64 of either alphabet.
fn digest(text: &str) -> Option<Vec<u8>> {
    let text = text.strip_prefix("sha-256=").unwrap_or(text).trim_matches(':');
    let hexadecimal = text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    let bytes = match hexadecimal {
        true => {
            (0..32).map(|at| u8::from_str_radix(&text[2 * at..2 * at + 2], 16).ok()).collect::<Option<Vec<u8>>>()?
        }
        false => {
            let standard: String = text.trim_end_matches('=').replace('-', "+").replace('_', "/");
            base64::engine::general_purpose::STANDARD_NO_PAD.decode(standard).ok()?
        }
    };
    (bytes.len() == 32).then_some(bytes)
}

/// Counts audio as it passes by.
pub(crate) struct ClaimTally {
    bytes: u64,
    hash: Option<Sha256>,
    meter: Option<Meter>,
}

impl ClaimTally {
    pub(crate) fn new(claims: &CompiledClaims, format: Format) -> ClaimTally {
        let meter = if claims.measures() { Meter::new(format).ok() } else { None };
        ClaimTally { bytes: 0, hash: claims.sha256.as_ref().map(|_| Sha256::new()), meter }
    }

    pub(crate) fn push(&mut self, chunk: &[u8]) {
        self.bytes += chunk.len() as u64;
        if let Some(hash) = &mut self.hash {
            hash.update(chunk);
        }
        // What is no audio at all is found where it is decoded.
        if self.meter.as_mut().is_some_and(|meter| meter.push(chunk).is_err()) {
            self.meter = None;
        }
    }

    /// Refuses audio that is less than its answer states, or other bytes.
    pub(crate) fn check(self, stated: &Stated) -> Result<(), EngineError> {
        let broken = |detail: String| Err(EngineError::new(Cause::Broken, detail));
        if let Some(bytes) = stated.bytes.filter(|bytes| *bytes != self.bytes) {
            return broken(format!("the answer states {bytes} bytes of audio, but {} were received", self.bytes));
        }
        if let (Some(stated), Some(hash)) = (&stated.sha256, self.hash)
            && hash.finalize().as_slice() != stated.as_slice()
        {
            return broken("the audio does not match the SHA-256 that the answer states".into());
        }
        let Some(length) = self.meter.and_then(|mut meter| meter.finish().ok()) else { return Ok(()) };
        let rate = f64::from(length.rate.max(1));
        let claimed = stated.seconds.or(stated.samples.map(|samples| samples as f64 / rate));
        match claimed.filter(|claimed| length.seconds() + SLACK < *claimed) {
            Some(claimed) => broken(format!(
                "the answer states {claimed:.3} s of audio, but {:.3} s were received",
                length.seconds()
            )),
            None => Ok(()),
        }
    }
}

/// Audio that ends in an error where it is less than its answer states.
pub(crate) fn checked(
    audio: impl Stream<Item = Result<Bytes, EngineError>> + Send + Unpin + 'static,
    tally: ClaimTally,
    stated: Stated,
) -> impl Stream<Item = Result<Bytes, EngineError>> + Send {
    futures::stream::unfold((audio, Some((tally, stated))), |(mut audio, mut open)| async move {
        match (audio.next().await, open.take()) {
            (Some(Ok(chunk)), Some((mut tally, stated))) => {
                tally.push(&chunk);
                Some((Ok(chunk), (audio, Some((tally, stated)))))
            }
            (Some(item), open) => Some((item, (audio, open))),
            (None, Some((tally, stated))) => match tally.check(&stated) {
                Ok(()) => None,
                Err(error) => Some((Err(error), (audio, None))),
            },
            (None, None) => None,
        }
    })
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn claims(toml: &str) -> CompiledClaims {
        let spec: Claims = toml::from_str(toml).expect("claims");
        CompiledClaims::compile(&spec, ("", "x")).expect("paths").expect("some")
    }

    fn outcome(toml: &str, answer: &Value, audio: &[u8]) -> Result<(), String> {
        let claims = claims(toml);
        let mut tally = ClaimTally::new(&claims, Format::new(dispatcher_audio::Codec::Pcm, 16_000));
        audio.chunks(700).for_each(|chunk| tally.push(chunk));
        tally.check(&claims.read(&HeaderMap::new(), Some(answer))).map_err(|error| error.detail)
    }

    #[test]
    fn audio_that_is_less_than_stated_is_broken() {
        let second = vec![0; 32_000];
        for (toml, answer, fits) in [
            ("bytes = \"$.n\"", json!({"n": 32_000}), true),
            ("bytes = \"$.n\"", json!({"n": "32002"}), false),
            ("milliseconds = \"$.n\"", json!({"n": 1_050}), true),
            ("milliseconds = \"$.n\"", json!({"n": 1_500}), false),
            ("seconds = \"$.a.n\"", json!({"a": {"n": 0.5}}), true),
            ("seconds = \"$.a.n\"", json!({"a": {"n": 2}}), false),
            ("samples = \"$.n\"", json!({"n": 16_000}), true),
            ("samples = \"$.n\"", json!({"n": 24_000}), false),
            ("samples = \"$.missing\"", json!({}), true),
        ] {
            assert_eq!(outcome(toml, &answer, &second).is_ok(), fits, "{toml} {answer}");
        }
        let error = outcome("bytes = \"$.n\"", &json!({"n": 40_000}), &second).expect_err("less");
        assert_eq!(error, "the answer states 40000 bytes of audio, but 32000 were received");
    }

    #[test]
    fn a_digest_is_read_in_either_writing() {
        // FIPS 180-4, the message "abc".
        let hexadecimal = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        let base64 = "ungWv48Bz-pBQUDeXa4iI7ADYaOWF3qctBD_YfIAFa0";
        for text in [hexadecimal, base64, "sha-256=:ungWv48Bz+pBQUDeXa4iI7ADYaOWF3qctBD/YfIAFa0=:"] {
            assert_eq!(outcome("sha256 = \"$.d\"", &json!({"d": text}), b"abc"), Ok(()), "{text}");
            assert!(outcome("sha256 = \"$.d\"", &json!({"d": text}), b"ab").is_err());
        }
    }

    #[test]
    fn fields_of_the_answer_may_state_it() {
        let claims = claims("bytes = \"header: X-Audio-Bytes\"");
        let name = reqwest::header::HeaderName::from_static("x-audio-bytes");
        let headers = HeaderMap::from_iter([(name, "7".parse().expect("a value"))]);
        let mut tally = ClaimTally::new(&claims, Format::default());
        tally.push(b"1234567");
        assert!(tally.check(&claims.read(&headers, None)).is_ok());
    }
}
