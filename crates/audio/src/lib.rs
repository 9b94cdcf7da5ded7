//! Audio formats and a transcoder that owns no I/O.
//!
//! Bytes are pushed in as they arrive and bytes come out as soon as they are
//! ready; memory is bounded whatever the length of the stream.
//!
//! What lives here: formats and their media types ([`Format`]), content
//! negotiation ([`negotiate`]), recognising a file by its first bytes
//! ([`sniff`]), measuring length without decoding ([`Meter`]), loudness
//! ([`LoudnessMeter`]) and the tempo of speech ([`TempoMeter`]), and the
//! [`Transcoder`] with its [`Effects`] and [`Tags`]. [`Joiner`] puts pieces
//! behind each other, [`Levels`] finds where a long recording is best cut,
//! [`Peaks`] outlines sound to be drawn. What does not: files, sockets, threads, clocks.

#![warn(missing_docs)]
// Parts of formats serve only the codecs that a build leaves out.
#![cfg_attr(
    not(all(
        feature = "aac",
        feature = "flac",
        feature = "mp3",
        feature = "mp4",
        feature = "opus",
        feature = "vorbis",
        feature = "webm"
    )),
    allow(dead_code)
)]

mod buffers;
mod catch_panic;
mod chunk;
mod codec;
mod conform;
mod container;
mod dsp;
mod error;
mod format;
mod joiner;
mod measure;
mod pipeline;
mod salvage;
mod tags;
mod transcoder;

pub use catch_panic::expects_panic;
pub use codec::pcm::{alaw_decode, alaw_encode, mulaw_decode, mulaw_encode};
pub use container::wav::{UNKNOWN_LENGTH, WAV_START, mend_wav_lengths, wav_header};
pub use dsp::effects::Effects;
pub use error::AudioError;
pub use format::negotiate::{Preference, by_weight, negotiate, parse_accept};
pub use format::preset::{PRESETS, Preset};
pub use format::sniff::{START_BYTES, find_start, recognise, sniff};
pub use format::{Codec, Format, STANDARD_RATES};
pub use joiner::{Joiner, Joint};
pub use measure::loudness::{Loudness, LoudnessMeter, PEAK_LIMIT, TARGET_LOUDNESS};
pub use measure::meter::{Depth, Length, Meter, measure};
pub use measure::peaks::Peaks;
pub use measure::silence::Edge;
pub use measure::spans::{Levels, Span};
pub use measure::tempo::TempoMeter;
pub use measure::voice_pitch::voice_pitch;
pub use salvage::{Salvaged, Salvager};
pub use tags::Tags;
pub use tags::provenance::{PROVENANCE_HEAD, UNSIGNED, provenance, put_provenance};
pub use transcoder::{Options, Transcoder, decode_all, encode_all};

/// Rate in hertz and channel count of a block of samples.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Layout {
    /// Frames a second.
    pub rate: u32,
    /// Samples in a frame: 1 (mono) or more, interleaved.
    pub channels: u8,
}

/// The examples of the README are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
