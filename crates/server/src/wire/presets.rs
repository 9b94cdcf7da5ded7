//! Audio presets.

use dispatcher_gateway::OwnPreset;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A named audio format.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PresetAnswer {
    pub(crate) name: String,
    /// A media type.
    #[serde(rename = "type")]
    pub(crate) kind: String,
    /// Hertz.
    pub(crate) sample_rate: u32,
    pub(crate) channels: u8,
    /// Bits per second, for codings with a choice.
    pub(crate) bitrate: Option<u32>,
    /// A variable bit rate.
    pub(crate) vbr: bool,
    /// Bytes per second; null if they vary with the audio.
    pub(crate) bytes_per_second: Option<u32>,
    /// Whether the format is lossless.
    pub(crate) lossless: bool,
    pub(crate) purpose: String,
    /// It cannot be changed.
    pub(crate) built_in: bool,
}

impl PresetAnswer {
    pub(crate) fn of(preset: OwnPreset, built_in: bool) -> Self {
        let format = preset.format;
        PresetAnswer {
            name: preset.name,
            kind: format.media_type(),
            sample_rate: format.rate,
            channels: format.channels,
            bitrate: format.effective_bitrate(),
            vbr: format.vbr,
            bytes_per_second: format.bytes_per_second(),
            lossless: !format.codec.is_lossy(),
            purpose: preset.purpose,
            built_in,
        }
    }
}

/// A new preset, or a new version of one.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PresetRequest {
    /// A media type or a file extension.
    #[serde(rename = "type")]
    #[schema(example = "audio/mpeg")]
    pub(crate) kind: String,
    /// Hertz.
    pub(crate) sample_rate: Option<u32>,
    /// 1 or 2.
    pub(crate) channels: Option<u8>,
    /// Bits per second.
    pub(crate) bitrate: Option<u32>,
    /// A variable bit rate, for MP3.
    #[serde(default)]
    pub(crate) vbr: bool,
    /// Purpose, in one line.
    #[serde(default)]
    pub(crate) purpose: String,
}
