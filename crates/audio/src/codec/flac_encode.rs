//! Samples to FLAC of 16 bits (RFC 9639): blocks under 100 ms, the fixed
//! predictors of section 9.2.5, Rice codes in partitions (section 9.2.7).
//!
//! Fixed predictors make files a few per cent larger than searched ones, in a
//! fraction of the time; the audio is the same to the bit.

use crate::container::flac::{INFO_BYTES, crc8, crc16};
use crate::{Format, Tags};

/// Partitions of a block: up to 2⁵, as the reference's usual setting has it.
const MAX_PARTITION_ORDER: u32 = 5;
/// Above it a Rice parameter of four bits is an escape.
const MAX_PARAMETER: u32 = 14;

/// Bits, most significant first.
#[derive(Default)]
struct BitWriter {
    bytes: Vec<u8>,
    word: u64,
    bits: u32,
}

impl BitWriter {
    /// Writes the low `bits` of a value: at most 32, and no others set.
    fn put(&mut self, value: u32, bits: u32) {
        self.word = (self.word << bits) | u64::from(value);
        self.bits += bits;
        if self.bits >= 32 {
            self.bits -= 32;
            self.bytes.extend_from_slice(&((self.word >> self.bits) as u32).to_be_bytes());
        }
    }

    fn put_signed(&mut self, value: i32, bits: u32) {
        self.put(value.cast_unsigned() & (u32::MAX >> (32 - bits)), bits);
    }

    /// A quotient in ones' place of zeros, a one, and `parameter` low bits.
    fn put_rice(&mut self, value: u32, parameter: u32) {
        let mut zeros = value >> parameter;
        let low = (1 << parameter) | (value & ((1 << parameter) - 1));
        while zeros + parameter >= 32 {
            let some = zeros.min(31);
            self.put(0, some);
            zeros -= some;
        }
        self.put(low, zeros + parameter + 1);
    }

    /// Fills the last byte up with zeros.
    fn align(&mut self) {
        let missing = (8 - self.bits % 8) % 8;
        self.put(0, missing);
        while self.bits > 0 {
            self.bits -= 8;
            self.bytes.push((self.word >> self.bits) as u8);
        }
    }
}

/// How a channel of a block is best written.
struct Subframe {
    kind: SubframeKind,
    bits: u64,
}

enum SubframeKind {
    Constant,
    Verbatim,
    Fixed { order: usize, partition_order: u32, parameters: [u32; 1 << MAX_PARTITION_ORDER] },
}

/// The order of the fixed predictor that leaves least, by sums of magnitudes,
/// and that sum.
fn best_order(samples: &[i32]) -> (usize, u64) {
    let mut sums = [0u64; 5];
    let [mut a, mut b, mut c, mut d] = [0i32; 4];
    for (index, sample) in samples.iter().enumerate() {
        let first = sample - a;
        let second = first - b;
        let third = second - c;
        let fourth = third - d;
        [a, b, c, d] = [*sample, first, second, third];
        // The predictors warm up over the first four samples.
        if index >= 4 {
            let residuals = [*sample, first, second, third, fourth];
            sums.iter_mut().zip(residuals).for_each(|(sum, residual)| *sum += u64::from(residual.unsigned_abs()));
        }
    }
    let best = sums.iter().enumerate().min_by_key(|(_, sum)| **sum).map_or(0, |(order, _)| order);
    (best.min(samples.len().saturating_sub(1)), sums[best])
}

/// What the predictor leaves, folded so that small magnitudes are small numbers.
fn residuals(samples: &[i32], order: usize, out: &mut Vec<u32>) {
    let fold = |residual: i32| ((residual << 1) ^ (residual >> 31)).cast_unsigned();
    out.clear();
    let windows = samples.windows(order + 1);
    match order {
        0 => out.extend(samples.iter().map(|s| fold(*s))),
        1 => out.extend(windows.map(|w| fold(w[1] - w[0]))),
        2 => out.extend(windows.map(|w| fold(w[2] - 2 * w[1] + w[0]))),
        3 => out.extend(windows.map(|w| fold(w[3] - 3 * w[2] + 3 * w[1] - w[0]))),
        _ => out.extend(windows.map(|w| fold(w[4] - 4 * w[3] + 6 * w[2] - 4 * w[1] + w[0]))),
    }
}

/// The Rice parameter for a count of numbers with a sum, and the bits they take.
fn parameter(count: u64, sum: u64) -> (u32, u64) {
    let mean = sum / count.max(1);
    let low = if mean == 0 { 0 } else { mean.ilog2().min(MAX_PARAMETER) };
    let cost = |parameter: u32| count * u64::from(parameter + 1) + (sum >> parameter);
    let high = (low + 1).min(MAX_PARAMETER);
    if cost(high) < cost(low) { (high, cost(high)) } else { (low, cost(low)) }
}

/// Partitions and their parameters for a block's residuals, and their bits.
fn partitions(residuals: &[u32], order: usize) -> (u32, [u32; 1 << MAX_PARTITION_ORDER], u64) {
    let block = residuals.len() + order;
    let fits = |order_of: &u32| block.is_multiple_of(1 << order_of) && block >> order_of > order;
    let most = (0..=MAX_PARTITION_ORDER).rev().find(fits).unwrap_or(0);
    let size = block >> most;
    let mut sums = [0u64; 1 << MAX_PARTITION_ORDER];
    // The first partition lacks the samples that warm the predictor up.
    let (first, rest) = residuals.split_at(size - order);
    let sum = |part: &[u32]| part.iter().map(|number| u64::from(*number)).sum();
    sums[0] = sum(first);
    sums[1..].iter_mut().zip(rest.chunks(size)).for_each(|(kept, part)| *kept = sum(part));
    let mut best = (0, [0; 1 << MAX_PARTITION_ORDER], u64::MAX);
    for partition_order in (0..=most).rev() {
        let count = 1usize << partition_order;
        let size = (block >> partition_order) as u64;
        let mut parameters = [0; 1 << MAX_PARTITION_ORDER];
        let mut bits = 4 * count as u64;
        for (index, sum) in sums[..count].iter().enumerate() {
            let inside = if index == 0 { size - order as u64 } else { size };
            let (chosen, cost) = parameter(inside, *sum);
            parameters[index] = chosen;
            bits += cost;
        }
        if bits < best.2 {
            best = (partition_order, parameters, bits);
        }
        for index in 0..count / 2 {
            sums[index] = sums[2 * index] + sums[2 * index + 1];
        }
    }
    best
}

/// Samples to FLAC, its length untold until the end, as it is for a stream.
pub(crate) struct FlacEncoder {
    format: Format,
    tags: Tags,
    /// Frames in a block, one of the usual sizes.
    block: usize,
    /// By channel.
    pending: [Vec<i32>; 2],
    residuals: Vec<u32>,
    blocks: u32,
    frames: u64,
}

impl FlacEncoder {
    pub(crate) fn new(format: Format, tags: Tags) -> Self {
        let block = [576, 1_152, 2_304, 4_608].into_iter().rfind(|block| block * 10 <= format.rate).unwrap_or(576);
        let pending = [Vec::new(), Vec::new()];
        FlacEncoder { format, tags, block: block as usize, pending, residuals: Vec::new(), blocks: 0, frames: 0 }
    }

    /// Takes interleaved samples.
    pub(crate) fn encode(&mut self, samples: impl Iterator<Item = i16>, out: &mut Vec<u8>) {
        if self.format.channels == 1 {
            self.pending[0].extend(samples.map(i32::from));
        } else {
            let [left, right] = &mut self.pending;
            for (index, sample) in samples.enumerate() {
                if index % 2 == 0 { left.push(sample.into()) } else { right.push(sample.into()) }
            }
        }
        let mut at = 0;
        let pending = std::mem::take(&mut self.pending);
        while at + self.block <= pending[0].len() {
            self.write(&pending, at, at + self.block, out);
            at += self.block;
        }
        self.pending = pending;
        self.pending.iter_mut().for_each(|channel| drop(channel.drain(..at.min(channel.len()))));
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) {
        let rest = std::mem::take(&mut self.pending);
        if !rest[0].is_empty() {
            self.write(&rest, 0, rest[0].len(), out);
        }
    }

    /// The first bytes as they would be, had the length been known before.
    pub(crate) fn start(&self) -> Vec<u8> {
        header(self.format, self.block, self.frames, &self.tags)
    }

    /// One block of both channels.
    fn write(&mut self, channels: &[Vec<i32>; 2], from: usize, to: usize, out: &mut Vec<u8>) {
        if self.blocks == 0 {
            out.extend(header(self.format, self.block, 0, &self.tags));
        }
        let count = to - from;
        let mut bits = BitWriter { bytes: std::mem::take(out), ..BitWriter::default() };
        let begun = bits.bytes.len();
        let left = &channels[0][from..to];
        if self.format.channels == 1 {
            self.frame_header(&mut bits, begun, count, 0);
            self.subframe(&mut bits, left, 16);
        } else {
            let right = &channels[1][from..to];
            let side: Vec<i32> = left.iter().zip(right).map(|(left, right)| left - right).collect();
            let middle: Vec<i32> = left.iter().zip(right).map(|(left, right)| (left + right) >> 1).collect();
            let [l, r, s, m] = [left, right, &side, &middle].map(|channel| best_order(channel).1);
            // The pair that leaves least (section 9.1.3).
            let pairs = [
                (l + r, 1u32, left, right),
                (l + s, 8, left, &side),
                (s + r, 9, &side, right),
                (m + s, 10, &middle, &side),
            ];
            let best = pairs.into_iter().min_by_key(|(sum, ..)| *sum);
            let (_, assignment, first, second) = best.unwrap_or((0, 1, left, right));
            self.frame_header(&mut bits, begun, count, assignment);
            self.subframe(&mut bits, first, if assignment == 9 { 17 } else { 16 });
            self.subframe(&mut bits, second, if matches!(assignment, 8 | 10) { 17 } else { 16 });
        }
        bits.align();
        let check = crc16(&bits.bytes[begun..]);
        bits.bytes.extend_from_slice(&check.to_be_bytes());
        *out = bits.bytes;
        self.blocks += 1;
        self.frames += count as u64;
    }

    /// Section 9.1.
    fn frame_header(&self, bits: &mut BitWriter, begun: usize, count: usize, assignment: u32) {
        let rate = match self.format.rate {
            8_000 => 4,
            16_000 => 5,
            22_050 => 6,
            24_000 => 7,
            32_000 => 8,
            44_100 => 9,
            48_000 => 10,
            _ => 13,
        };
        bits.put(0xFFF8, 16);
        // The block's size and, for unusual ones, the rate stand at the end.
        bits.put(7, 4);
        bits.put(rate, 4);
        bits.put(assignment, 4);
        bits.put(4 << 1, 4);
        bits.align();
        bits.bytes.extend(coded_number(self.blocks));
        bits.bytes.extend_from_slice(&((count - 1) as u16).to_be_bytes());
        if rate == 13 {
            bits.bytes.extend_from_slice(&(self.format.rate as u16).to_be_bytes());
        }
        let check = crc8(&bits.bytes[begun..]);
        bits.bytes.push(check);
    }

    fn plan(&mut self, samples: &[i32], width: u32) -> Subframe {
        let verbatim = Subframe { kind: SubframeKind::Verbatim, bits: samples.len() as u64 * u64::from(width) };
        if samples.iter().all(|sample| *sample == samples[0]) {
            return Subframe { kind: SubframeKind::Constant, bits: width.into() };
        }
        let (order, _) = best_order(samples);
        residuals(samples, order, &mut self.residuals);
        let (partition_order, parameters, bits) = partitions(&self.residuals, order);
        let bits = bits + 6 + order as u64 * u64::from(width);
        let fixed = Subframe { kind: SubframeKind::Fixed { order, partition_order, parameters }, bits };
        if fixed.bits < verbatim.bits { fixed } else { verbatim }
    }

    /// Section 9.2: one channel.
    fn subframe(&mut self, bits: &mut BitWriter, samples: &[i32], width: u32) {
        match self.plan(samples, width).kind {
            SubframeKind::Constant => {
                bits.put(0, 8);
                bits.put_signed(samples[0], width);
            }
            SubframeKind::Verbatim => {
                bits.put(1 << 1, 8);
                samples.iter().for_each(|sample| bits.put_signed(*sample, width));
            }
            SubframeKind::Fixed { order, partition_order, parameters } => {
                bits.put((8 | order as u32) << 1, 8);
                samples[..order].iter().for_each(|sample| bits.put_signed(*sample, width));
                bits.put(partition_order, 6);
                let size = samples.len() >> partition_order;
                let mut rest = self.residuals.as_slice();
                for (index, parameter) in parameters[..1 << partition_order].iter().enumerate() {
                    let (part, after) = rest.split_at(if index == 0 { size - order } else { size });
                    bits.put(*parameter, 4);
                    part.iter().for_each(|residual| bits.put_rice(*residual, *parameter));
                    rest = after;
                }
            }
        }
    }
}

/// The mark, STREAMINFO and a comment (sections 8.2 and 8.6). 0 frames stand
/// for a length that is not known.
pub(crate) fn header(format: Format, block: usize, frames: u64, tags: &Tags) -> Vec<u8> {
    let mut info = Vec::with_capacity(INFO_BYTES);
    for _ in 0..2 {
        info.extend_from_slice(&(block as u16).to_be_bytes());
    }
    // Sizes of frames, which are not known.
    info.extend_from_slice(&[0; 6]);
    // rate(20) channels-1(3) bits-1(5) frames(36)
    let packed = (u64::from(format.rate) << 44) | (u64::from(format.channels - 1) << 41) | (15 << 36);
    info.extend_from_slice(&(packed | (frames & 0xF_FFFF_FFFF)).to_be_bytes());
    info.extend_from_slice(&[0; 16]);
    header_around(&info, tags)
}

/// The mark and the comment around a STREAMINFO that is there already.
pub(crate) fn header_around(info: &[u8], tags: &Tags) -> Vec<u8> {
    let mut header = b"fLaC".to_vec();
    header.extend_from_slice(&[0, 0, 0, INFO_BYTES as u8]);
    header.extend_from_slice(info);
    let comment = crate::tags::vorbis::write(tags);
    header.push(0x84);
    header.extend_from_slice(&(comment.len() as u32).to_be_bytes()[1..]);
    header.extend_from_slice(&comment);
    header
}

/// The number of a frame, coded as UTF-8 codes letters, up to 36 bits.
fn coded_number(number: u32) -> Vec<u8> {
    if number < 0x80 {
        return vec![number as u8];
    }
    // With n bytes in all there are 5 n + 1 bits.
    let bytes = (2..=7u32).find(|bytes| u64::from(number) < 1 << (5 * bytes + 1)).unwrap_or(7);
    let tail = (0..bytes - 1).rev().map(|index| 0x80 | ((number >> (6 * index)) & 0x3F) as u8);
    let mark = !(0xFFu8 >> bytes);
    let first = u64::from(number) >> (6 * (bytes - 1));
    std::iter::once(mark | first as u8).chain(tail).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_coded_as_letters_are() {
        for number in [0, 0x7F, 0x80, 0x7FF, 0x800, 0xFFFF, 0x1_0000, 0x10_FFFF] {
            let Some(letter) = char::from_u32(number) else { continue };
            assert_eq!(coded_number(number), letter.to_string().as_bytes(), "{number:#x}");
        }
        assert_eq!(coded_number(0x7FFF_FFFF), [0xFD, 0xBF, 0xBF, 0xBF, 0xBF, 0xBF]);
    }

    #[test]
    fn rice_codes_stand_as_the_standard_draws_them() {
        let mut bits = BitWriter::default();
        bits.put_rice(5, 1); // 00 1 1
        bits.put_rice(0, 0); // 1
        bits.put_rice(40, 0); // 40 zeros, 1
        bits.align();
        assert_eq!(bits.bytes, [0b0011_1000, 0, 0, 0, 0, 0b0000_0100]);
    }
}
