//! Audio formats and the media types that name them.

pub(crate) mod negotiate;
pub(crate) mod preset;
pub(crate) mod sniff;

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
    /// Raw G.711 A-law (`audio/PCMA`, RFC 4856).
    Alaw,
    /// G.711 µ-law in RIFF WAVE (coding 7 of RFC 2361).
    WavMulaw,
    /// G.711 A-law in RIFF WAVE (coding 6 of RFC 2361).
    WavAlaw,
    /// MPEG audio layer III.
    Mp3,
    /// Opus in Ogg (RFC 7845).
    OggOpus,
    /// Opus in WebM.
    WebmOpus,
    /// FLAC in its own container (RFC 9639).
    Flac,
    /// FLAC in Ogg (RFC 9639, section 10.1); read only.
    OggFlac,
    /// Vorbis in Ogg; read only.
    OggVorbis,
    /// AAC-LC in ADTS frames (ISO/IEC 14496-3); read only.
    Aac,
    /// AAC-LC or Opus in MP4 (ISO/IEC 14496-12); read only.
    Mp4,
    /// AIFF and AIFF-C; read only.
    Aiff,
    /// AU; read only.
    Au,
}

impl Codec {
    /// Every codec that is written, in the order in which they are offered.
    pub const WRITTEN: [Codec; 11] = [
        Codec::Wav,
        Codec::Mp3,
        Codec::OggOpus,
        Codec::WebmOpus,
        Codec::Flac,
        Codec::L16,
        Codec::Mulaw,
        Codec::Alaw,
        Codec::WavMulaw,
        Codec::WavAlaw,
        Codec::Pcm,
    ];

    /// Whether it is written as well as read.
    pub fn is_written(self) -> bool {
        Codec::WRITTEN.contains(&self)
    }

    /// Whether it leaves sound out for the sake of size.
    pub fn is_lossy(self) -> bool {
        !matches!(self, Codec::Wav | Codec::Pcm | Codec::L16 | Codec::Flac | Codec::OggFlac | Codec::Aiff | Codec::Au)
    }

    /// Whether a file can say of itself what it is.
    pub fn carries_tags(self) -> bool {
        self.is_wav() || matches!(self, Codec::Mp3 | Codec::OggOpus | Codec::WebmOpus | Codec::Flac)
    }

    /// Whether its bytes are RIFF WAVE.
    pub fn is_wav(self) -> bool {
        matches!(self, Codec::Wav | Codec::WavMulaw | Codec::WavAlaw)
    }

    /// The usual file extension, without the dot.
    pub fn extension(self) -> &'static str {
        match self {
            Codec::Wav => "wav",
            Codec::Pcm => "pcm",
            Codec::L16 => "l16",
            Codec::Mulaw => "ulaw",
            Codec::Alaw => "alaw",
            Codec::WavMulaw | Codec::WavAlaw => "wav",
            Codec::Mp3 => "mp3",
            Codec::OggOpus => "opus",
            Codec::WebmOpus => "webm",
            Codec::Flac => "flac",
            Codec::OggFlac => "oga",
            Codec::OggVorbis => "ogg",
            Codec::Aac => "aac",
            Codec::Mp4 => "m4a",
            Codec::Aiff => "aiff",
            Codec::Au => "au",
        }
    }

    /// The codec of a file extension.
    pub fn from_extension(extension: &str) -> Option<Codec> {
        Some(match extension.to_ascii_lowercase().as_str() {
            "wav" | "wave" => Codec::Wav,
            "pcm" | "raw" => Codec::Pcm,
            "l16" => Codec::L16,
            "ulaw" | "ul" => Codec::Mulaw,
            "alaw" | "al" => Codec::Alaw,
            "mp3" => Codec::Mp3,
            "opus" | "ogg" | "oga" => Codec::OggOpus,
            "webm" => Codec::WebmOpus,
            "flac" => Codec::Flac,
            "aac" | "adts" => Codec::Aac,
            "m4a" | "mp4" => Codec::Mp4,
            "aiff" | "aif" | "aifc" => Codec::Aiff,
            "au" | "snd" => Codec::Au,
            _ => return None,
        })
    }

    /// Whether the bytes state their own rate and channels.
    pub fn describes_itself(self) -> bool {
        !matches!(self, Codec::Pcm | Codec::L16 | Codec::Mulaw | Codec::Alaw)
    }

    /// The rates that this codec can carry.
    pub fn rates(self) -> &'static [u32] {
        match self {
            Codec::OggOpus | Codec::WebmOpus => &[8_000, 12_000, 16_000, 24_000, 48_000],
            _ => &STANDARD_RATES,
        }
    }

    pub(crate) fn default_rate(self) -> u32 {
        if self.telephone() { 8_000 } else { 24_000 }
    }

    /// G.711 codings, which are at home at 8 kHz.
    pub(crate) fn telephone(self) -> bool {
        matches!(self, Codec::Mulaw | Codec::Alaw | Codec::WavMulaw | Codec::WavAlaw)
    }
}

impl fmt::Display for Codec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Codec::Wav => "WAV",
            Codec::Pcm => "raw PCM",
            Codec::L16 => "L16",
            Codec::Mulaw => "µ-law",
            Codec::Alaw => "A-law",
            Codec::WavMulaw => "µ-law in WAV",
            Codec::WavAlaw => "A-law in WAV",
            Codec::Mp3 => "MP3",
            Codec::OggOpus => "Ogg Opus",
            Codec::WebmOpus => "WebM Opus",
            Codec::Flac => "FLAC",
            Codec::OggFlac => "Ogg FLAC",
            Codec::OggVorbis => "Ogg Vorbis",
            Codec::Aac => "AAC",
            Codec::Mp4 => "MP4",
            Codec::Aiff => "AIFF",
            Codec::Au => "AU",
        })
    }
}

/// A complete description of audio: coding, rate, channels and, where the
/// coding has one, the bit rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Format {
    /// What carries the audio.
    pub codec: Codec,
    /// Frames a second, in hertz.
    pub rate: u32,
    /// 1 (mono) or 2 (stereo).
    pub channels: u8,
    /// Bits a second; `None` takes the codec's default for speech.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bitrate: Option<u32>,
    /// A variable bit rate, where the coding has the choice: MP3.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub vbr: bool,
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
        Format { codec, rate, channels: 1, bitrate: None, vbr: false }
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
                "vbr" => format.vbr = flag(value).ok_or_else(unknown)?,
                "bits" if value != "16" => return Err(unknown()),
                "codec" | "codecs" => format.codec = with_codecs(format.codec, value).ok_or_else(unknown)?,
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
        if self.vbr && (self.codec != Codec::Mp3 || self.bitrate.is_some()) {
            return Err(AudioError::Variable(self.codec));
        }
        let Some(bitrate) = self.bitrate else { return Ok(()) };
        let allowed = self.bitrates();
        let fits = match self.codec {
            Codec::OggOpus | Codec::WebmOpus => (6_000..=256_000).contains(&bitrate),
            _ => allowed.contains(&bitrate),
        };
        if fits {
            return Ok(());
        }
        let allowed = match self.codec {
            Codec::OggOpus | Codec::WebmOpus => "6000 to 256000 bit/s".into(),
            _ if allowed.is_empty() => "no choice of bit rate".into(),
            _ => list(&allowed, " bit/s"),
        };
        Err(AudioError::Bitrate { codec: self.codec, bitrate, rate: self.rate, allowed })
    }

    /// As [`Format::check`], and refuses what is only read.
    ///
    /// # Errors
    /// Those of [`Format::check`], and [`AudioError::ReadOnly`].
    pub fn check_output(&self) -> Result<(), AudioError> {
        if self.codec.is_written() { self.check() } else { Err(AudioError::ReadOnly(self.codec)) }
    }

    /// The bit rates that may be asked of this codec at this rate; empty where
    /// the coding leaves no choice.
    pub fn bitrates(&self) -> Vec<u32> {
        let kilobits: &[u32] = match (self.codec, self.rate) {
            (Codec::Mp3, ..=12_000) => &[16, 24, 32, 40, 48, 64],
            (Codec::Mp3, 12_001..=24_000) => &[16, 24, 32, 40, 48, 64, 80, 96, 112, 128, 160],
            (Codec::Mp3, _) => &[32, 40, 48, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320],
            (Codec::OggOpus | Codec::WebmOpus, _) => &[12, 16, 24, 32, 48, 64, 96],
            _ => &[],
        };
        kilobits.iter().map(|kilo| kilo * 1_000).collect()
    }

    /// The bit rate that will be used: the one asked for, or the default for
    /// speech at this rate; `None` where the coding leaves no choice.
    pub fn effective_bitrate(&self) -> Option<u32> {
        let default = match (self.codec, self.rate) {
            _ if self.vbr => return None,
            (Codec::Mp3, ..=12_000) => 24_000,
            (Codec::Mp3, 12_001..=16_000) => 40_000,
            (Codec::Mp3, 16_001..=24_000) => 48_000,
            (Codec::Mp3, _) => 64_000,
            (Codec::OggOpus | Codec::WebmOpus, _) => 24_000,
            _ => return None,
        };
        Some(self.bitrate.unwrap_or(default * u32::from(self.channels)))
    }

    /// What a second takes, containers apart; `None` where that depends on
    /// the audio.
    pub fn bytes_per_second(&self) -> Option<u32> {
        let samples = self.rate * u32::from(self.channels);
        match self.codec {
            Codec::Wav | Codec::Pcm | Codec::L16 => Some(samples * 2),
            Codec::Mulaw | Codec::Alaw | Codec::WavMulaw | Codec::WavAlaw => Some(samples),
            _ => self.effective_bitrate().map(|bits| bits / 8),
        }
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
            Codec::Alaw => format!("audio/PCMA;rate={};channels={}", self.rate, self.channels),
            Codec::WavMulaw => "audio/vnd.wave;codec=7".into(),
            Codec::WavAlaw => "audio/vnd.wave;codec=6".into(),
            Codec::WebmOpus => "audio/webm;codecs=opus".into(),
            Codec::Flac => "audio/flac".into(),
            Codec::OggFlac => "audio/ogg;codecs=flac".into(),
            Codec::OggVorbis => "audio/ogg;codecs=vorbis".into(),
            Codec::Aac => "audio/aac".into(),
            Codec::Mp4 => "audio/mp4".into(),
            Codec::Aiff => "audio/aiff".into(),
            Codec::Au => "audio/x-au".into(),
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
            && (!wanted.vbr || self.vbr)
    }
}

fn flag(value: &str) -> Option<bool> {
    match value {
        "1" | "true" => Some(true),
        "0" | "false" => Some(false),
        _ => None,
    }
}

fn codec_of(essence: &str) -> Option<Codec> {
    Some(match essence {
        "audio/wav" | "audio/wave" | "audio/x-wav" | "audio/vnd.wave" => Codec::Wav,
        "audio/mpeg" | "audio/mp3" => Codec::Mp3,
        "audio/ogg" | "audio/opus" => Codec::OggOpus,
        "audio/l16" => Codec::L16,
        "audio/basic" | "audio/pcmu" => Codec::Mulaw,
        "audio/pcma" => Codec::Alaw,
        "audio/pcm" => Codec::Pcm,
        "audio/webm" | "video/webm" => Codec::WebmOpus,
        "audio/flac" | "audio/x-flac" => Codec::Flac,
        "audio/aac" | "audio/aacp" | "audio/x-aac" => Codec::Aac,
        "audio/mp4" | "audio/m4a" | "audio/x-m4a" | "video/mp4" => Codec::Mp4,
        "audio/aiff" | "audio/x-aiff" => Codec::Aiff,
        "audio/x-au" | "audio/au" => Codec::Au,
        _ => return None,
    })
}

/// The coding that the parameter `codecs` (RFC 6381) or, of WAVE, `codec`
/// (RFC 2361) names inside the container.
fn with_codecs(container: Codec, value: &str) -> Option<Codec> {
    let value = value.to_ascii_lowercase();
    Some(match (container, value.as_str()) {
        (Codec::Wav, "1" | "3" | "fffe") => Codec::Wav,
        (Codec::Wav, "7") => Codec::WavMulaw,
        (Codec::Wav, "6") => Codec::WavAlaw,
        (Codec::Mp3, "mp3") => Codec::Mp3,
        (Codec::OggOpus, "opus") => Codec::OggOpus,
        (Codec::OggOpus, "vorbis") => Codec::OggVorbis,
        (Codec::OggOpus, "flac") => Codec::OggFlac,
        (Codec::WebmOpus, "opus" | "vorbis") => Codec::WebmOpus,
        (Codec::Flac, "flac") => Codec::Flac,
        (Codec::Mp4, "opus" | "mp4a.40.2" | "mp4a.40.02") => Codec::Mp4,
        _ => return None,
    })
}

pub(crate) fn known_types() -> &'static str {
    "audio/wav, audio/mpeg, audio/ogg;codecs=opus, audio/webm;codecs=opus, audio/flac, audio/L16, audio/basic, \
     audio/PCMU, audio/PCMA, audio/vnd.wave;codec=7, audio/pcm; and to be read audio/mp4, audio/aac, \
     audio/ogg;codecs=vorbis, audio/ogg;codecs=flac, audio/aiff, audio/x-au"
}

/// Media types of what is written, without their parameters' values.
pub(crate) fn written_types() -> String {
    let types = Codec::WRITTEN.map(|codec| Format::new(codec, codec.default_rate()).media_type());
    types.join(", ")
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
            ("audio/PCMA", Codec::Alaw, 8_000),
            ("audio/vnd.wave; codec=7", Codec::WavMulaw, 8_000),
            ("audio/wav;codecs=1", Codec::Wav, 24_000),
            ("audio/webm;codecs=opus", Codec::WebmOpus, 24_000),
            ("audio/flac", Codec::Flac, 24_000),
            ("audio/mp4;codecs=\"mp4a.40.2\"", Codec::Mp4, 24_000),
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
        assert!(matches!(Format::parse("audio/ogg;codecs=theora"), Err(AudioError::UnknownType(_))));
        let vorbis = Format::parse("audio/ogg;codecs=vorbis").expect("to be read");
        assert_eq!(vorbis.check_output(), Err(AudioError::ReadOnly(Codec::OggVorbis)));
        assert!(matches!(Format::parse("image/png"), Err(AudioError::UnknownType(_))));
        assert!(matches!(Format::parse("audio/wav;channels=6"), Err(AudioError::Channels(6))));
    }

    #[test]
    fn media_types_survive_the_round_trip() {
        for codec in Codec::WRITTEN {
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
