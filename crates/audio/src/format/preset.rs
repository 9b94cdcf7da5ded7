//! Named formats, usable wherever a format is asked for.

use crate::{Codec, Format};

/// A named format and what it is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Preset {
    /// The name that requests use.
    pub name: &'static str,
    /// Its meaning.
    pub format: Format,
    /// What it is good for, as a sentence.
    pub purpose: &'static str,
}

const fn mono(codec: Codec, rate: u32, bitrate: Option<u32>) -> Format {
    Format { codec, rate, channels: 1, bitrate, vbr: false }
}

/// The presets that are built in.
pub const PRESETS: [Preset; 5] = [
    Preset {
        name: "web",
        format: mono(Codec::Mp3, 24_000, Some(48_000)),
        purpose: "web pages and mail: plays everywhere, 6 kB a second",
    },
    Preset {
        name: "phone",
        format: mono(Codec::Mulaw, 8_000, None),
        purpose: "telephone lines: G.711 µ-law without a header",
    },
    Preset {
        name: "editor",
        format: mono(Codec::Wav, 48_000, None),
        purpose: "audio editors and video: lossless, at the sample rate of film",
    },
    Preset {
        name: "device",
        format: mono(Codec::Wav, 16_000, None),
        purpose: "microcontrollers: samples that need no decoder",
    },
    Preset {
        name: "assistive",
        format: mono(Codec::OggOpus, 24_000, Some(32_000)),
        purpose: "screen readers: small, with the shortest delay",
    },
];

impl Codec {
    /// What a written codec is for, in a few words.
    pub fn purpose(self) -> &'static str {
        match self {
            Codec::Wav => "editors",
            Codec::Mp3 => "web pages, mail",
            Codec::OggOpus => "live and small",
            Codec::WebmOpus => "browsers",
            Codec::Flac => "archives",
            Codec::Mulaw | Codec::Alaw => "telephone lines",
            Codec::WavMulaw | Codec::WavAlaw => "telephone editors",
            Codec::L16 => "raw samples, big-endian",
            Codec::Pcm => "raw samples, little-endian",
            _ => "",
        }
    }
}

impl Preset {
    /// The preset of a name.
    pub fn find(name: &str) -> Option<Preset> {
        PRESETS.into_iter().find(|preset| preset.name.eq_ignore_ascii_case(name))
    }
}

impl Format {
    /// Of a codec at its usual sample rate, mono.
    pub fn usual(codec: Codec) -> Format {
        Format::new(codec, codec.default_rate())
    }

    /// A format by the name of a preset, a file extension or a media type.
    ///
    /// # Errors
    /// As [`Format::parse`].
    pub fn named(name: &str) -> Result<Format, crate::AudioError> {
        if let Some(preset) = Preset::find(name) {
            return Ok(preset.format);
        }
        match Codec::from_extension(name.trim_start_matches('.')) {
            Some(codec) => Ok(Format::usual(codec)),
            None => Format::parse(name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_preset_can_be_made_and_is_found_by_its_name() {
        for preset in PRESETS {
            assert_eq!(preset.format.check_output(), Ok(()), "{}", preset.name);
            assert_eq!(Format::named(&preset.name.to_uppercase()), Ok(preset.format));
        }
    }

    #[test]
    fn a_format_is_named_by_extension_or_media_type_as_well() {
        assert_eq!(Format::named(".mp3"), Ok(Format::new(Codec::Mp3, 24_000)));
        assert_eq!(Format::named("alaw"), Ok(Format::new(Codec::Alaw, 8_000)));
        assert_eq!(Format::named("audio/L16;rate=16000"), Ok(Format::new(Codec::L16, 16_000)));
        assert!(Format::named("tape").is_err());
    }
}
