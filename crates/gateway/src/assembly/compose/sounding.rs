//! How long a segment sounds, for texts with a duration of their own.

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Format, Transcoder};

/// Seconds of audio in a segment, without the silence at its ends. It is decoded
/// piece by piece, since a small file may be long.
pub(super) fn sounding(audio: &[u8], format: Format) -> Result<f64, AudioError> {
    const RATE: u32 = 16_000;
    const BLOCK: usize = RATE as usize / 100;
    let samples = Format::new(Codec::Pcm, RATE);
    let mut decoder = Transcoder::new(format, samples)?;
    let (mut bytes, mut blocks) = (Vec::new(), 0_u64);
    let (mut first, mut last) = (None, 0);
    let mut take = |made: &[u8]| {
        bytes.extend_from_slice(made);
        for block in bytes.chunks_exact(2 * BLOCK) {
            let square = |pair: &[u8]| (f64::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_768.0).powi(2);
            if block.chunks_exact(2).map(square).sum::<f64>() / BLOCK as f64 >= 1e-5 {
                first.get_or_insert(blocks);
                last = blocks + 1;
            }
            blocks += 1;
        }
        bytes.drain(..bytes.len() / (2 * BLOCK) * (2 * BLOCK));
    };
    for chunk in audio.chunks(64 << 10) {
        take(&decoder.push(&Bytes::copy_from_slice(chunk))?);
    }
    take(&decoder.finish()?);
    Ok((last - first.unwrap_or(last)) as f64 * BLOCK as f64 / f64::from(RATE))
}
