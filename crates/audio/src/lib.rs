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

mod adts;
mod aiff;
mod au;
mod conform;
mod decode;
mod dither;
mod effects;
mod encode;
mod error;
mod expansion;
mod fade;
mod flac;
mod flac_encode;
mod formants;
mod format;
mod front;
mod guard;
mod joiner;
mod level;
mod loudness;
mod meter;
mod mp3;
mod mp3_encode;
mod mp3_tag;
mod mp4;
mod mp4_index;
mod negotiate;
mod ogg;
mod ogg_opus;
mod opus_encode;
mod opus_head;
mod opus_mux;
mod packets;
mod pcm;
mod peaks;
mod pitch;
mod preset;
mod resample;
mod rewrap;
mod room;
mod run;
mod salvage;
mod silence;
mod sniff;
mod spans;
mod stretch;
mod tags;
mod tempo;
mod transcoder;
mod wav;
mod webm;

pub use effects::Effects;
pub use error::AudioError;
pub use format::{Codec, Format, STANDARD_RATES};
pub use guard::expects_panic;
pub use joiner::{Joiner, Joint};
pub use loudness::{Loudness, LoudnessMeter, PEAK_LIMIT, TARGET_LOUDNESS};
pub use meter::{Depth, Length, Meter, measure};
pub use negotiate::{Preference, by_weight, negotiate, parse_accept};
pub use pcm::{alaw_decode, alaw_encode, mulaw_decode, mulaw_encode};
pub use peaks::Peaks;
pub use preset::{PRESETS, Preset};
pub use salvage::{Salvaged, Salvager};
pub use silence::Edge;
pub use sniff::{START_BYTES, find_start, recognise, sniff};
pub use spans::{Levels, Span};
pub use tags::Tags;
pub use tempo::TempoMeter;
pub use transcoder::{Options, Transcoder, decode_all, encode_all};
pub use wav::{UNKNOWN_LENGTH, WAV_START, mend_wav_lengths, wav_header};

/// Rate in hertz and channel count of a block of samples.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Layout {
    /// Frames a second.
    pub rate: u32,
    /// Samples in a frame: 1 (mono) or more, interleaved.
    pub channels: u8,
}
