//! Audio formats that the service delivers.

use dispatcher_audio::{Codec, Format};
use serde::Serialize;
use utoipa::ToSchema;

/// An audio format that the service delivers.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AudioFormatAnswer {
    /// Media type, without parameters for sample rate and channels.
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) title: String,
    /// Intended use.
    pub(crate) purpose: &'static str,
    /// File extension, without the dot.
    pub(crate) extension: &'static str,
    pub(crate) lossless: bool,
    /// Sample rate of requests that give none, in hertz.
    pub(crate) default_sample_rate: u32,
    pub(crate) sample_rates: Vec<SampleRateAnswer>,
}

/// A sample rate of a format.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SampleRateAnswer {
    /// Hertz.
    pub(crate) sample_rate: u32,
    /// Mono, at the default bit rate; null if it varies with the audio.
    pub(crate) bytes_per_second: Option<u32>,
    /// Bits per second that can be requested; empty if there is no choice.
    pub(crate) bitrates: Vec<u32>,
}

impl AudioFormatAnswer {
    pub(crate) fn of(codec: Codec) -> Self {
        let usual = Format::usual(codec);
        let kind = usual.media_type();
        let at = |rate: &u32| {
            let format = usual.with_rate(*rate);
            SampleRateAnswer {
                sample_rate: *rate,
                bytes_per_second: format.bytes_per_second(),
                bitrates: format.bitrates(),
            }
        };
        AudioFormatAnswer {
            kind: kind.split(";rate=").next().unwrap_or(&kind).to_owned(),
            title: codec.to_string(),
            purpose: codec.purpose(),
            extension: codec.extension(),
            lossless: !codec.is_lossy(),
            default_sample_rate: usual.rate,
            sample_rates: codec.rates().iter().map(at).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_listed_can_be_requested_at_each_rate() {
        for codec in Codec::WRITTEN {
            let answer = AudioFormatAnswer::of(codec);
            for rate in &answer.sample_rates {
                let format = Format::parse(&answer.kind).expect("a media type").with_rate(rate.sample_rate);
                assert_eq!((format.codec, format.check_output()), (codec, Ok(())), "{answer:?}");
            }
        }
        let mp3 = AudioFormatAnswer::of(Codec::Mp3);
        assert_eq!((mp3.kind.as_str(), mp3.default_sample_rate), ("audio/mpeg", 24_000));
        let at = |rate: u32| {
            mp3.sample_rates.iter().find(|one| one.sample_rate == rate).and_then(|one| one.bytes_per_second)
        };
        assert_eq!((at(8_000), at(24_000), at(48_000)), (Some(3_000), Some(6_000), Some(8_000)));
        assert_eq!(AudioFormatAnswer::of(Codec::Flac).sample_rates[0].bytes_per_second, None);
    }
}
