//! Audio profiles.

use dispatcher_gateway::OwnProfile;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A named audio format.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ProfileAnswer {
    pub(crate) name: String,
    /// A media type.
    #[serde(rename = "type")]
    pub(crate) kind: String,
    /// Hertz.
    pub(crate) rate: u32,
    pub(crate) channels: u8,
    /// Bits a second, where the coding has a choice.
    pub(crate) bitrate: Option<u32>,
    /// A variable bit rate.
    pub(crate) vbr: bool,
    /// What a second takes; null where that depends on the sound.
    pub(crate) bytes_per_second: Option<u32>,
    /// Whether nothing of the sound is left out for the sake of size.
    pub(crate) lossless: bool,
    pub(crate) purpose: String,
    /// It cannot be changed.
    pub(crate) built_in: bool,
}

impl ProfileAnswer {
    pub(crate) fn of(profile: OwnProfile, built_in: bool) -> Self {
        let format = profile.format;
        ProfileAnswer {
            name: profile.name,
            kind: format.media_type(),
            rate: format.rate,
            channels: format.channels,
            bitrate: format.effective_bitrate(),
            vbr: format.vbr,
            bytes_per_second: format.bytes_per_second(),
            lossless: !format.codec.is_lossy(),
            purpose: profile.purpose,
            built_in,
        }
    }
}

/// An audio profile to be kept.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ProfileRequest {
    /// A media type or a file extension.
    #[serde(rename = "type")]
    #[schema(example = "audio/mpeg")]
    pub(crate) kind: String,
    /// Hertz.
    pub(crate) rate: Option<u32>,
    /// 1 or 2.
    pub(crate) channels: Option<u8>,
    /// Bits a second.
    pub(crate) bitrate: Option<u32>,
    /// A variable bit rate, for MP3.
    #[serde(default)]
    pub(crate) vbr: bool,
    /// What it is for, in a line.
    #[serde(default)]
    pub(crate) purpose: String,
}
