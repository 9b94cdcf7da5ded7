//! Named formats, usable wherever a format is asked for.

use crate::{Codec, Format};

/// A named format and what it is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Profile {
    pub name: &'static str,
    pub format: Format,
    pub purpose: &'static str,
}

const fn mono(codec: Codec, rate: u32, bitrate: Option<u32>) -> Format {
    Format { codec, rate, channels: 1, bitrate, vbr: false }
}

/// The profiles that are built in.
pub const PROFILES: [Profile; 5] = [
    Profile {
        name: "web",
        format: mono(Codec::Mp3, 24_000, Some(48_000)),
        purpose: "web pages and mail: plays everywhere, 6 kB a second",
    },
    Profile {
        name: "phone",
        format: mono(Codec::Mulaw, 8_000, None),
        purpose: "telephone lines: G.711 µ-law without a header",
    },
    Profile {
        name: "editor",
        format: mono(Codec::Wav, 48_000, None),
        purpose: "sound editors and video: lossless, at the rate of film",
    },
    Profile {
        name: "device",
        format: mono(Codec::Wav, 16_000, None),
        purpose: "chips and toys: samples that need no decoder",
    },
    Profile {
        name: "assistive",
        format: mono(Codec::OggOpus, 24_000, Some(32_000)),
        purpose: "screen readers: small, and the first sound leaves soonest",
    },
];

impl Profile {
    /// The profile of a name.
    pub fn find(name: &str) -> Option<Profile> {
        PROFILES.into_iter().find(|profile| profile.name.eq_ignore_ascii_case(name))
    }
}

impl Format {
    /// A format by the name of a profile, a file extension or a media type.
    ///
    /// # Errors
    /// As [`Format::parse`].
    pub fn named(name: &str) -> Result<Format, crate::AudioError> {
        if let Some(profile) = Profile::find(name) {
            return Ok(profile.format);
        }
        match Codec::from_extension(name.trim_start_matches('.')) {
            Some(codec) => Ok(Format::new(codec, codec.default_rate())),
            None => Format::parse(name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_profile_can_be_made_and_is_found_by_its_name() {
        for profile in PROFILES {
            assert_eq!(profile.format.check_output(), Ok(()), "{}", profile.name);
            assert_eq!(Format::named(&profile.name.to_uppercase()), Ok(profile.format));
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
