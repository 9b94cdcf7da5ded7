//! Audio formats and the media types that name them.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::AudioError;

/// The sample rates that every part of the product can work with, in hertz.
pub const STANDARD_RATES: [u32; 8] = [8_000, 11_025, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000];

/// A container together with its coding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Codec {
    /// RIFF WAVE. Written as 16-bit PCM; read in all the kinds of [`crate::sniff`].
    Wav,
    /// Raw little-endian 16-bit PCM (`audio/pcm`, unregistered).
    Pcm,
    /// Raw big-endian 16-bit PCM (`audio/L16`, RFC 2586).
    L16,
    /// Raw G.711 µ-law (`audio/basic` at 8 kHz mono, RFC 2046; `audio/PCMU`, RFC 4856).
    Mulaw,
    /// MPEG audio layer III.
    Mp3,
    /// Opus in Ogg (RFC 7845).
    OggOpus,
}

impl Codec {
    /// Every codec, in the order in which they are offered.
    pub const ALL: [Codec; 6] = [Codec::Wav, Codec::Mp3, Codec::OggOpus, Codec::L16, Codec::Mulaw, Codec::Pcm];

    /// The usual file extension, without the dot.
    pub fn extension(self) -> &'static str {
        match self {
            Codec::Wav => "wav",
            Codec::Pcm => "pcm",
            Codec::L16 => "l16",
            Codec::Mulaw => "ulaw",
            Codec::Mp3 => "mp3",
            Codec::OggOpus => "opus",
        }
    }

    /// The codec that a file extension stands for.
    pub fn from_extension(extension: &str) -> Option<Codec> {
        Some(match extension.to_ascii_lowercase().as_str() {
            "wav" | "wave" => Codec::Wav,
            "pcm" | "raw" => Codec::Pcm,
            "l16" => Codec::L16,
            "ulaw" | "ul" | "au" => Codec::Mulaw,
            "mp3" => Codec::Mp3,
            "opus" | "ogg" => Codec::OggOpus,
            _ => return None,
        })
    }

    /// Whether the bytes tell their own rate and channels.
    pub fn describes_itself(self) -> bool {
        matches!(self, Codec::Wav | Codec::Mp3 | Codec::OggOpus)
    }

    /// The rates that this codec can carry.
    pub fn rates(self) -> &'static [u32] {
        match self {
            Codec::OggOpus => &[8_000, 12_000, 16_000, 24_000, 48_000],
            _ => &STANDARD_RATES,
        }
    }

    fn default_rate(self) -> u32 {
        if self == Codec::Mulaw { 8_000 } else { 24_000 }
    }
}

impl fmt::Display for Codec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Codec::Wav => "WAV",
            Codec::Pcm => "raw PCM",
            Codec::L16 => "L16",
            Codec::Mulaw => "µ-law",
            Codec::Mp3 => "MP3",
            Codec::OggOpus => "Ogg Opus",
        })
    }
}

/// A complete description of audio: coding, rate, channels and, where the
/// coding has one, the bit rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Format {
    pub codec: Codec,
    /// Frames a second, in hertz.
    pub rate: u32,
    /// 1 (mono) or 2 (stereo).
    pub channels: u8,
    /// Bits a second; `None` takes the codec's default for speech.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bitrate: Option<u32>,
}

impl Default for Format {
    /// WAV at 24 kHz mono: what a call gets that says nothing of the format.
    fn default() -> Self {
        Format::new(Codec::Wav, 24_000)
    }
}

impl Format {
    /// A mono format at the codec's default bit rate.
    pub fn new(codec: Codec, rate: u32) -> Self {
        Format { codec, rate, channels: 1, bitrate: None }
    }

    /// The same format with another rate.
    pub fn with_rate(self, rate: u32) -> Self {
        Format { rate, ..self }
    }

    /// Reads a media type with its parameters (RFC 9110 section 8.3.1).
    ///
    /// `rate` and `channels` are taken from the parameters where they are
    /// given; the result is checked as by [`Format::check`].
    pub fn parse(media_type: &str) -> Result<Format, AudioError> {
        let (format, _) = Format::parse_partial(media_type)?;
        format.check()?;
        Ok(format)
    }

    /// As [`Format::parse`], and whether the rate was named.
    pub(crate) fn parse_partial(media_type: &str) -> Result<(Format, bool), AudioError> {
        let unknown = || AudioError::UnknownType(media_type.chars().take(80).collect());
        let mut parts = media_type.split(';').map(str::trim);
        let essence = parts.next().unwrap_or_default().to_ascii_lowercase();
        let mut format = Format::new(codec_of(&essence).ok_or_else(unknown)?, 0);
        for parameter in parts.filter(|part| !part.is_empty()) {
            let (name, value) = parameter.split_once('=').ok_or_else(unknown)?;
            let value = value.trim().trim_matches('"');
            match name.trim().to_ascii_lowercase().as_str() {
                "rate" => format.rate = value.parse().map_err(|_| unknown())?,
                "channels" => format.channels = value.parse().map_err(|_| unknown())?,
                "bitrate" => format.bitrate = Some(value.parse().map_err(|_| unknown())?),
                "bits" if value != "16" => return Err(unknown()),
                "codecs" if !codecs_fit(format.codec, value) => return Err(unknown()),
                _ => {}
            }
        }
        let named = format.rate != 0;
        if !named {
            format.rate = format.codec.default_rate();
        }
        Ok((format, named))
    }

    /// Refuses rates, bit rates and channel counts that the codec cannot carry.
    pub fn check(&self) -> Result<(), AudioError> {
        if !(1..=2).contains(&self.channels) {
            return Err(AudioError::Channels(self.channels.into()));
        }
        let rates = self.codec.rates();
        if !rates.contains(&self.rate) {
            return Err(AudioError::Rate { codec: self.codec, rate: self.rate, allowed: list(rates, " Hz") });
        }
        let Some(bitrate) = self.bitrate else { return Ok(()) };
        let allowed = self.bitrates();
        let fits = match self.codec {
            Codec::OggOpus => (6_000..=256_000).contains(&bitrate),
            _ => allowed.contains(&bitrate),
        };
        if fits {
            return Ok(());
        }
        let allowed =
            if self.codec == Codec::OggOpus { "6000 to 256000 bit/s".into() } else { list(&allowed, " bit/s") };
        Err(AudioError::Bitrate { codec: self.codec, bitrate, rate: self.rate, allowed })
    }

    /// The bit rates that may be asked of this codec at this rate; empty where
    /// the coding leaves no choice.
    pub fn bitrates(&self) -> Vec<u32> {
        let kilobits: &[u32] = match (self.codec, self.rate) {
            (Codec::Mp3, ..=12_000) => &[16, 24, 32, 40, 48, 64],
            (Codec::Mp3, 12_001..=24_000) => &[16, 24, 32, 40, 48, 64, 80, 96, 112, 128, 160],
            (Codec::Mp3, _) => &[32, 40, 48, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320],
            (Codec::OggOpus, _) => &[12, 16, 24, 32, 48, 64, 96],
            _ => &[],
        };
        kilobits.iter().map(|kilo| kilo * 1_000).collect()
    }

    /// The bit rate that will be used: the one asked for, or the default for
    /// speech at this rate; `None` where the coding leaves no choice.
    pub fn effective_bitrate(&self) -> Option<u32> {
        let default = match (self.codec, self.rate) {
            (Codec::Mp3, ..=12_000) => 24_000,
            (Codec::Mp3, 12_001..=16_000) => 40_000,
            (Codec::Mp3, 16_001..=24_000) => 48_000,
            (Codec::Mp3, _) => 64_000,
            (Codec::OggOpus, _) => 24_000,
            _ => return None,
        };
        Some(self.bitrate.unwrap_or(default * u32::from(self.channels)))
    }

    /// The media type, with the parameters that the type defines.
    pub fn media_type(&self) -> String {
        match self.codec {
            Codec::Wav => "audio/wav".into(),
            Codec::Mp3 => "audio/mpeg".into(),
            Codec::OggOpus => "audio/ogg;codecs=opus".into(),
            Codec::L16 => format!("audio/L16;rate={};channels={}", self.rate, self.channels),
            Codec::Mulaw if self.rate == 8_000 && self.channels == 1 => "audio/basic".into(),
            Codec::Mulaw => format!("audio/PCMU;rate={};channels={}", self.rate, self.channels),
            Codec::Pcm => format!("audio/pcm;rate={};channels={};bits=16", self.rate, self.channels),
        }
    }

    /// Whether audio of this format may be handed on untouched where `wanted`
    /// was asked. The bit rate counts only where one was asked for.
    pub fn satisfies(&self, wanted: &Format) -> bool {
        self.codec == wanted.codec
            && self.rate == wanted.rate
            && self.channels == wanted.channels
            && wanted.bitrate.is_none_or(|bitrate| self.effective_bitrate() == Some(bitrate))
    }
}

fn codec_of(essence: &str) -> Option<Codec> {
    Some(match essence {
        "audio/wav" | "audio/wave" | "audio/x-wav" | "audio/vnd.wave" => Codec::Wav,
        "audio/mpeg" | "audio/mp3" => Codec::Mp3,
        "audio/ogg" | "audio/opus" => Codec::OggOpus,
        "audio/l16" => Codec::L16,
        "audio/basic" | "audio/pcmu" => Codec::Mulaw,
        "audio/pcm" => Codec::Pcm,
        _ => return None,
    })
}

fn codecs_fit(codec: Codec, value: &str) -> bool {
    match codec {
        Codec::OggOpus => value.eq_ignore_ascii_case("opus"),
        Codec::Wav => value == "1",
        Codec::Mp3 => value.eq_ignore_ascii_case("mp3"),
        _ => false,
    }
}

pub(crate) fn known_types() -> &'static str {
    "audio/wav, audio/mpeg, audio/ogg;codecs=opus, audio/L16, audio/basic, audio/PCMU, audio/pcm"
}

pub(crate) fn list(numbers: &[u32], unit: &str) -> String {
    let numbers: Vec<_> = numbers.iter().map(u32::to_string).collect();
    format!("{}{unit}", numbers.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_the_spellings_of_each_type() {
        for (text, codec, rate) in [
            ("audio/wav", Codec::Wav, 24_000),
            ("audio/x-wav", Codec::Wav, 24_000),
            ("Audio/MPEG", Codec::Mp3, 24_000),
            ("audio/ogg; codecs=\"opus\"", Codec::OggOpus, 24_000),
            ("audio/basic", Codec::Mulaw, 8_000),
            ("audio/L16;rate=16000;channels=1", Codec::L16, 16_000),
            ("audio/pcm;rate=48000;channels=1;bits=16", Codec::Pcm, 48_000),
        ] {
            assert_eq!(Format::parse(text), Ok(Format::new(codec, rate)), "{text}");
        }
    }

    #[test]
    fn refuses_what_it_cannot_carry_and_says_what_it_can() {
        let error = Format::parse("audio/L16;rate=12345").expect_err("12345 Hz");
        assert_eq!(
            error.to_string(),
            "L16 cannot carry 12345 Hz; it can carry 8000, 11025, 16000, 22050, 24000, 32000, 44100, 48000 Hz"
        );
        assert!(matches!(Format::parse("audio/mpeg;rate=8000;bitrate=128000"), Err(AudioError::Bitrate { .. })));
        assert!(matches!(Format::parse("audio/ogg;codecs=vorbis"), Err(AudioError::UnknownType(_))));
        assert!(matches!(Format::parse("image/png"), Err(AudioError::UnknownType(_))));
        assert!(matches!(Format::parse("audio/wav;channels=6"), Err(AudioError::Channels(6))));
    }

    #[test]
    fn media_types_survive_the_round_trip() {
        for codec in Codec::ALL {
            for rate in codec.rates() {
                let format = Format::new(codec, *rate);
                let read = Format::parse(&format.media_type()).expect("own media type");
                assert_eq!(read.codec, codec);
                if !codec.describes_itself() {
                    assert_eq!(read.rate, *rate, "{}", format.media_type());
                }
            }
        }
    }

    #[test]
    fn a_bit_rate_counts_only_when_asked_for() {
        let engine = Format { bitrate: Some(48_000), ..Format::new(Codec::Mp3, 24_000) };
        assert!(engine.satisfies(&Format::new(Codec::Mp3, 24_000)));
        assert!(!engine.satisfies(&Format { bitrate: Some(64_000), ..Format::new(Codec::Mp3, 24_000) }));
        assert!(!engine.satisfies(&Format::new(Codec::Mp3, 16_000)));
    }
}
