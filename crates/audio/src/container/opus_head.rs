//! What a stream of Opus says of itself: its identification header (RFC 7845,
//! section 5.1), and the same in MP4.

use crate::container::packets::OPUS_RATE;
use crate::{AudioError, Layout};

/// The identification header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct OpusHead {
    pub(crate) channels: u8,
    /// Frames at 48 kHz before the audio begins.
    pub(crate) pre_skip: u16,
    /// To be put on what is decoded, in 256ths of a decibel.
    pub(crate) gain: i16,
    /// Where there is more than one stream, or not the usual one.
    pub(crate) mapping: Option<Mapping>,
}

/// How the channels of several streams are laid out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Mapping {
    pub(crate) streams: u8,
    /// Number of them, from the first, that have two channels.
    pub(crate) coupled: u8,
    /// For each channel that comes out the one that is decoded, in the order
    /// of WAV.
    pub(crate) order: Vec<u8>,
}

/// Of one to eight channels as Vorbis orders them (Vorbis I, section 4.3.9)
/// those that WAV has in their places.
const WAV_ORDER: [&[usize]; 8] = [
    &[0],
    &[0, 1],
    &[0, 2, 1],
    &[0, 1, 2, 3],
    &[0, 2, 1, 3, 4],
    &[0, 2, 1, 5, 3, 4],
    &[0, 2, 1, 6, 5, 3, 4],
    &[0, 2, 1, 7, 5, 6, 3, 4],
];

impl OpusHead {
    /// From its packet in Ogg, or what WebM keeps of it.
    pub(crate) fn read(data: &[u8]) -> Result<OpusHead, AudioError> {
        let Some((b"OpusHead", body)) = data.split_first_chunk::<8>() else {
            return Err(AudioError::NotThis {
                expected: "an Opus header",
                found: crate::format::sniff::describe(data),
            });
        };
        OpusHead::parse(body, u16::from_le_bytes, i16::from_le_bytes)
    }

    /// From `dOps` of MP4, which has the same in the other order of bytes.
    pub(crate) fn read_box(body: &[u8]) -> Result<OpusHead, AudioError> {
        OpusHead::parse(body, u16::from_be_bytes, i16::from_be_bytes)
    }

    fn parse(body: &[u8], number: fn([u8; 2]) -> u16, signed: fn([u8; 2]) -> i16) -> Result<OpusHead, AudioError> {
        let short = || AudioError::Truncated { format: "Opus", what: "its header is too short" };
        let Some(([_, channels, skip1, skip2, _, _, _, _, gain1, gain2, family], rest)) =
            body.split_first_chunk::<11>()
        else {
            return Err(short());
        };
        let (channels, family) = (*channels, *family);
        crate::codec::decode::check_input(Layout { rate: OPUS_RATE, channels })?;
        let mapping = match (family, channels) {
            (0, 1 | 2) => None,
            (1 | 255, _) => Some(Mapping::read(rest.get(..2 + usize::from(channels)).ok_or_else(short)?, family)?),
            _ => {
                let what = format!("{channels} channels of mapping family {family}");
                return Err(AudioError::Unsupported { format: "Opus", what });
            }
        };
        let (pre_skip, gain) = (number([*skip1, *skip2]), signed([*gain1, *gain2]));
        Ok(OpusHead { channels, pre_skip, gain, mapping })
    }

    /// Whether a header without a table of channels is sufficient.
    pub(crate) fn is_plain(&self) -> bool {
        self.mapping.is_none()
    }
}

impl Mapping {
    /// ```text
    /// streams(1) coupled(1) channel(1)…
    /// ```
    fn read(table: &[u8], family: u8) -> Result<Mapping, AudioError> {
        let (streams, coupled, channels) = (table[0], table[1], &table[2..]);
        let decoded = u16::from(streams) + u16::from(coupled);
        let known = |channel: &u8| *channel == 255 || u16::from(*channel) < decoded;
        if streams == 0 || coupled > streams || decoded > 255 || !channels.iter().all(known) {
            let what = "a table of channels that contradicts itself".into();
            return Err(AudioError::Unsupported { format: "Opus", what });
        }
        let order = match family {
            1 => WAV_ORDER[channels.len() - 1].iter().map(|at| channels[*at]).collect(),
            _ => channels.to_vec(),
        };
        Ok(Mapping { streams, coupled, order })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn head(channels: u8, family: u8, table: &[u8]) -> Vec<u8> {
        let fixed = [b"OpusHead\x01".as_slice(), &[channels, 0x38, 0x01, 0x80, 0xBB, 0, 0, 0x00, 0xFA, family]];
        [&fixed.concat(), table].concat()
    }

    #[test]
    fn headers_are_read_in_both_orders_of_bytes() {
        let read = OpusHead::read(&head(2, 0, &[])).expect("stereo");
        assert_eq!((read.channels, read.pre_skip, read.gain, read.is_plain()), (2, 312, -1_536, true));
        let boxed = OpusHead::read_box(&[0, 2, 0x01, 0x38, 0, 0, 0xBB, 0x80, 0xFA, 0x00, 0]).expect("stereo");
        assert_eq!(boxed, read);
        let six = OpusHead::read(&head(6, 1, &[4, 2, 0, 4, 1, 2, 3, 5])).expect("5.1");
        // Left, right, centre, low, and those behind.
        assert_eq!(six.mapping, Some(Mapping { streams: 4, coupled: 2, order: vec![0, 1, 4, 5, 2, 3] }));
    }

    #[test]
    fn headers_that_cannot_be_are_refused() {
        for (case, data) in [
            ("no streams", head(1, 1, &[0, 0, 0])),
            ("more pairs than streams", head(2, 1, &[1, 2, 0, 1])),
            ("a channel of no stream", head(3, 1, &[2, 1, 0, 3, 1])),
            ("too many channels", head(9, 1, &[9, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8])),
            ("no channels", head(0, 0, &[])),
            ("three of the plain kind", head(3, 0, &[])),
            ("a table that is cut", head(6, 1, &[4, 2, 0, 4])),
            ("an unknown family", head(4, 3, &[4, 0, 0, 1, 2, 3])),
            ("too short", head(1, 0, &[])[..18].to_vec()),
            ("something else", vec![0; 40]),
        ] {
            assert!(OpusHead::read(&data).is_err(), "{case}");
        }
    }
}
