//! What every reader must stand: any bytes, cut anywhere, give sound or an
//! error, and never more sound than the bound on expansion lets through. The
//! fuzz targets ask the same as the tests.

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Meter, Transcoder};

/// Reads the bytes as the codec: in pieces, whose size the first byte tells.
pub fn read(codec: Codec, data: &[u8]) {
    let Some((size, bytes)) = data.split_first() else { return };
    let mended = if codec == Codec::OggOpus { with_check_sums(bytes) } else { bytes.to_vec() };
    let bytes = mended.as_slice();
    let piece = usize::from(*size) * 16 + 1;
    let mut meter = Meter::new(Format::new(codec, 24_000)).expect("a codec that is read");
    let counted = bytes.chunks(piece).try_for_each(|piece| meter.push(piece));
    let measured = counted.and_then(|()| meter.finish()).ok();
    let mut transcoder =
        Transcoder::new(Format::new(codec, 24_000), Format::new(Codec::Pcm, 24_000)).expect("to raw samples");
    let mut given = 0;
    let mut push = |bytes: Bytes, last: bool| {
        let made = if last { transcoder.finish() } else { transcoder.push(&bytes) };
        made.map(|made| given += made.len())
    };
    let done = bytes.chunks(piece).try_for_each(|piece| push(Bytes::copy_from_slice(piece), false));
    let whole = done.and_then(|()| push(Bytes::new(), true)).is_ok();
    // Seven hundred seconds at 24 kHz, or what so many bytes may become.
    let bound = (700 + bytes.len() / 100) * 48_000;
    assert!(given <= bound, "{given} bytes out of {}", bytes.len());
    if let (true, Some(length)) = (whole, measured) {
        let seconds = given as f64 / 48_000.0;
        assert!((seconds - length.seconds()).abs() < 0.01, "{} s measured, {seconds} s decoded", length.seconds());
    }
}

/// The bytes with the check sum of each page of Ogg made right (RFC 3533,
/// section 6), so that what is behind it is tried.
fn with_check_sums(bytes: &[u8]) -> Vec<u8> {
    let mut mended = bytes.to_vec();
    let mut at = 0;
    while let Some(count) = mended[at..].starts_with(b"OggS").then(|| mended.get(at + 26)).flatten() {
        let body = at + 27 + usize::from(*count);
        let Some(lacing) = mended.get(at + 27..body) else { break };
        let end = body + lacing.iter().map(|byte| usize::from(*byte)).sum::<usize>();
        let Some(page) = mended.get_mut(at..end) else { break };
        page[22..26].fill(0);
        let sum = page.iter().fold(0u32, |sum, byte| {
            (0..8).fold(sum ^ (u32::from(*byte) << 24), |sum, _| {
                if sum >> 31 == 1 { (sum << 1) ^ 0x04C1_1DB7 } else { sum << 1 }
            })
        });
        page[22..26].copy_from_slice(&sum.to_le_bytes());
        at = end;
    }
    mended
}
