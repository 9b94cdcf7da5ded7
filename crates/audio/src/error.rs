//! The one error type of the crate. Variants hold facts, not sentences.

use crate::Codec;

/// What can be wrong with audio, or with what was asked of it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AudioError {
    /// The bytes are not the format they were said to be.
    #[error("this is not {expected}: {found}")]
    NotThis {
        /// The format.
        expected: &'static str,
        /// What is there in its place.
        found: String,
    },
    /// The bytes are of no format that is read here.
    #[error("the audio cannot be read; it begins with {0}")]
    Unrecognised(String),
    /// The format is known, this kind of it is not read.
    #[error("{format} with {what} cannot be read")]
    Unsupported {
        /// The format.
        format: &'static str,
        /// The kind of it.
        what: String,
    },
    /// The stream ended inside something that must be whole.
    #[error("the {format} ends too early: {what}")]
    Truncated {
        /// The format.
        format: &'static str,
        /// What is not whole.
        what: &'static str,
    },
    /// There was no audio in it at all.
    #[error("it contains no audio")]
    Empty,
    /// A media type that is not known.
    #[error("unknown audio type '{0}'; known types: {known}", known = crate::format::known_types())]
    UnknownType(String),
    /// A codec or a container that this build leaves out (features of the crate).
    #[error("{0} is not part of this build")]
    NotBuilt(Codec),
    /// A format that is read and not written.
    #[error("{0} can be read but not written; request one of: {written}", written = crate::format::written_types())]
    ReadOnly(Codec),
    /// A rate the codec cannot carry.
    #[error("{codec} cannot carry {rate} Hz; it can carry {allowed}")]
    Rate {
        /// What was to carry it.
        codec: Codec,
        /// Hertz.
        rate: u32,
        /// The rates that it can carry, for people.
        allowed: String,
    },
    /// A bit rate the codec cannot carry.
    #[error("{codec} cannot carry {bitrate} bit/s at {rate} Hz; it can carry {allowed}")]
    Bitrate {
        /// What was to carry it.
        codec: Codec,
        /// Bits per second.
        bitrate: u32,
        /// Hertz.
        rate: u32,
        /// The bit rates that it can carry at this rate, for people.
        allowed: String,
    },
    /// A variable bit rate where there is none, or beside a constant one.
    #[error("{0} cannot have a variable bit rate; only MP3 can, without a fixed bit rate")]
    Variable(Codec),
    /// A channel count outside 1 to 2 (output) or 1 to 8 (input).
    #[error("{0} channels are not supported")]
    Channels(u16),
    /// An effect outside its range.
    #[error("{name} {given} is outside {allowed}")]
    Effect {
        /// The effect, such as `rate`.
        name: &'static str,
        /// The value with its unit.
        given: String,
        /// Its range with the unit.
        allowed: String,
    },
    /// Far more audio than the bytes could honestly hold.
    #[error("{bytes} bytes would expand to more than {seconds} s of audio; this must be allowed explicitly")]
    TooLong {
        /// Bytes read so far.
        bytes: u64,
        /// Seconds that they have come to.
        seconds: u64,
    },
    /// The codec library refused to work.
    #[error("the {codec} codec failed: {what}")]
    Codec {
        /// Whose library it is.
        codec: Codec,
        /// In the library's words.
        what: String,
    },
}
