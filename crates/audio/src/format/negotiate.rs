//! Content negotiation for audio (RFC 9110 section 12.5.1).

use crate::{AudioError, Format};

/// One acceptable range of an `Accept` field.
#[derive(Debug, Clone, PartialEq)]
pub enum Preference {
    /// An audio format.
    Audio {
        /// The format.
        format: Format,
        /// Whether the range itself named a rate.
        rate_named: bool,
    },
    /// `application/json`: the answer that carries audio inside JSON.
    Json,
    /// `*/*` or `audio/*`: the default.
    Any,
}

/// The ranges of an `Accept` field of any kind, best first and without their
/// weights. Those of weight 0 are left out; equal weights keep their order.
pub fn by_weight(field: &str) -> Vec<String> {
    let mut ranges: Vec<(u16, String)> = field.split(',').filter_map(weighed).collect();
    ranges.sort_by_key(|(weight, _)| std::cmp::Reverse(*weight));
    ranges.into_iter().map(|(_, range)| range).collect()
}

/// A range's weight in thousandths, and the range without it.
fn weighed(range: &str) -> Option<(u16, String)> {
    let mut weight = 1_000;
    let mut kept = Vec::new();
    for (index, part) in range.split(';').map(str::trim).enumerate() {
        match part.split_once('=') {
            Some((name, value)) if index > 0 && name.trim().eq_ignore_ascii_case("q") => {
                let value: f32 = value.trim().parse().ok()?;
                weight = (value.clamp(0.0, 1.0) * 1_000.0) as u16;
            }
            _ => kept.push(part),
        }
    }
    (weight > 0).then(|| (weight, kept.join(";")))
}

/// Reads an `Accept` field into its acceptable ranges, best first; types that
/// are not known are left out.
pub fn parse_accept(field: &str) -> Vec<Preference> {
    by_weight(field).iter().filter_map(|range| preference(range)).collect()
}

fn preference(range: &str) -> Option<Preference> {
    let essence = range.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    Some(match essence.as_str() {
        "*/*" | "audio/*" => Preference::Any,
        "application/json" => Preference::Json,
        _ => {
            let (format, rate_named) = Format::parse_partial(range).ok()?;
            // What is only read cannot be given.
            format.codec.is_written().then_some(Preference::Audio { format, rate_named })?
        }
    })
}

/// The format to answer with: the best acceptable one, `default` for `*/*` or
/// an empty field. `Ok(None)`: JSON.
///
/// # Errors
/// [`AudioError::UnknownType`] when nothing in the field can be made.
pub fn negotiate(field: &str, default: Format) -> Result<Option<Format>, AudioError> {
    if field.trim().is_empty() {
        return Ok(Some(default));
    }
    let first = parse_accept(field).into_iter().next();
    match first.ok_or_else(|| AudioError::UnknownType(field.chars().take(80).collect()))? {
        Preference::Any => Ok(Some(default)),
        Preference::Json => Ok(None),
        Preference::Audio { format, rate_named } => {
            // A codec that cannot carry the default's rate keeps its own.
            let telephone = format.codec.telephone();
            let rate = if !rate_named && !telephone && format.codec.rates().contains(&default.rate) {
                default.rate
            } else {
                format.rate
            };
            let format = format.with_rate(rate);
            format.check_output()?;
            Ok(Some(format))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Codec;

    const DEFAULT: Format = Format { codec: Codec::Wav, rate: 24_000, channels: 1, bitrate: None, vbr: false };

    #[test]
    fn weights_decide_before_order() {
        let chosen = negotiate("audio/wav;q=0.5, audio/mpeg;q=0.9, audio/basic;q=0.1", DEFAULT);
        assert_eq!(chosen, Ok(Some(Format::new(Codec::Mp3, 24_000))));
    }

    #[test]
    fn equal_weights_keep_their_order() {
        assert_eq!(by_weight("b;q=0.5, a;q=0.5, d, c"), ["d", "c", "b", "a"]);
        let chosen = negotiate("audio/basic, audio/wav, audio/mpeg", DEFAULT);
        assert_eq!(chosen, Ok(Some(Format::new(Codec::Mulaw, 8_000))), "the first of three that are liked equally");
        let chosen = negotiate("audio/mpeg;q=0.5, audio/wav;q=0.5", DEFAULT);
        assert_eq!(chosen, Ok(Some(Format::new(Codec::Mp3, 24_000))));
    }

    #[test]
    fn zero_weight_and_unknown_types_are_passed_over() {
        let chosen = negotiate("text/html, audio/mpeg;q=0, audio/L16;rate=16000", DEFAULT);
        assert_eq!(chosen, Ok(Some(Format::new(Codec::L16, 16_000))));
    }

    #[test]
    fn nothing_acceptable_is_an_error_that_lists_what_is() {
        let error = negotiate("video/mp4", DEFAULT).expect_err("no audio");
        assert!(error.to_string().contains("audio/mpeg"), "{error}");
    }

    #[test]
    fn a_bare_call_gets_the_default_and_json_gets_json() {
        assert_eq!(negotiate("*/*", DEFAULT), Ok(Some(DEFAULT)));
        assert_eq!(negotiate("", DEFAULT), Ok(Some(DEFAULT)));
        assert_eq!(negotiate("application/json", DEFAULT), Ok(None));
    }

    #[test]
    fn mulaw_keeps_its_own_rate() {
        assert_eq!(negotiate("audio/basic", DEFAULT), Ok(Some(Format::new(Codec::Mulaw, 8_000))));
    }
}
