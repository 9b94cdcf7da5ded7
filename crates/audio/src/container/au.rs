//! AU: a header reader that is fed bytes.

use crate::codec::pcm::SampleKind;
use crate::container::sample_file::{SampleFormat, SoundStart};
use crate::{AudioError, Layout, Tags};

/// A note before the audio that is longer than this is refused: 1 MiB.
const MAX_OFFSET: usize = 1 << 20;

/// The mark, and the two of the other byte order that programs write.
const MARKS: [&[u8]; 3] = [b".snd", b"dns.", b"\0ds."];

/// Whether bytes begin such a file.
pub(crate) fn is_au(start: &[u8]) -> bool {
    MARKS.iter().any(|mark| start.starts_with(mark))
}

/// Reads the header and the note behind it. Numbers and samples stand with
/// their high byte first, unless the mark is the other way round.
///
/// ```text
/// ".snd" offset(4) bytes(4) coding(4) rate(4) channels(4) note
/// ```
#[derive(Debug, Default)]
pub(crate) struct AuHeaderReader {
    pending: Vec<u8>,
}

impl AuHeaderReader {
    /// Takes more bytes; answers once the audio has begun.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Result<Option<SoundStart>, AudioError> {
        self.pending.extend_from_slice(bytes);
        if self.pending.len() >= 4 && !is_au(&self.pending) {
            return Err(AudioError::NotThis { expected: "AU", found: crate::format::sniff::describe(&self.pending) });
        }
        let Some(head) = self.pending.first_chunk::<24>() else { return Ok(None) };
        let little = head[0] != b'.';
        let word = |at: usize| {
            let bytes = [head[at], head[at + 1], head[at + 2], head[at + 3]];
            if little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) }
        };
        let (offset, length, coding) = (word(4) as usize, word(8), word(12));
        if !(24..=MAX_OFFSET).contains(&offset) {
            return Err(AudioError::Unsupported { format: "AU", what: format!("its sound {offset} bytes in") });
        }
        let kind = match coding {
            1 => SampleKind::Mulaw,
            2 => SampleKind::S8,
            3 => SampleKind::S16Be,
            4 => SampleKind::S24Be,
            5 => SampleKind::S32Be,
            6 => SampleKind::F32Be,
            7 => SampleKind::F64Be,
            27 => SampleKind::Alaw,
            _ => return Err(AudioError::Unsupported { format: "AU", what: format!("coding {coding}") }),
        };
        let kind = if little { kind.swapped() } else { kind };
        let channels = word(20);
        let counted = u8::try_from(channels).map_err(|_| AudioError::Channels(channels.min(9_999) as u16))?;
        let layout = Layout { rate: word(16), channels: counted };
        crate::codec::decode::check_input(layout)?;
        if self.pending.len() < offset {
            return Ok(None);
        }
        let declared = (length != 0 && length != u32::MAX).then_some(u64::from(length));
        let data = self.pending.split_off(offset);
        Ok(Some(SoundStart { format: SampleFormat { layout, kind }, declared, data, tags: Tags::default() }))
    }
}
