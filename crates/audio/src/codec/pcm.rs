//! Sample conversions: integers, floats and G.711 µ-law (ITU-T G.711).

/// How one sample is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SampleKind {
    U8,
    S8,
    S16Le,
    S16Be,
    S24Le,
    S24Be,
    S32Le,
    S32Be,
    F32Le,
    F32Be,
    F64Le,
    F64Be,
    Mulaw,
    Alaw,
}

impl SampleKind {
    pub(crate) fn bytes(self) -> usize {
        match self {
            SampleKind::U8 | SampleKind::S8 | SampleKind::Mulaw | SampleKind::Alaw => 1,
            SampleKind::S16Le | SampleKind::S16Be => 2,
            SampleKind::S24Le | SampleKind::S24Be => 3,
            SampleKind::S32Le | SampleKind::S32Be | SampleKind::F32Le | SampleKind::F32Be => 4,
            SampleKind::F64Le | SampleKind::F64Be => 8,
        }
    }

    /// The same kind with its bytes in the other order.
    pub(crate) fn swapped(self) -> SampleKind {
        match self {
            SampleKind::S16Le => SampleKind::S16Be,
            SampleKind::S16Be => SampleKind::S16Le,
            SampleKind::S24Le => SampleKind::S24Be,
            SampleKind::S24Be => SampleKind::S24Le,
            SampleKind::S32Le => SampleKind::S32Be,
            SampleKind::S32Be => SampleKind::S32Le,
            SampleKind::F32Le => SampleKind::F32Be,
            SampleKind::F32Be => SampleKind::F32Le,
            SampleKind::F64Le => SampleKind::F64Be,
            SampleKind::F64Be => SampleKind::F64Le,
            single => single,
        }
    }

    /// Whether 16 bits hold every value.
    pub(crate) fn fits_sixteen_bits(self) -> bool {
        use SampleKind::{Alaw, Mulaw, S8, S16Be, S16Le, U8};
        matches!(self, U8 | S8 | S16Le | S16Be | Mulaw | Alaw)
    }

    /// Appends the samples of `bytes` (whole samples only) as −1…1.
    pub(crate) fn decode(self, bytes: &[u8], out: &mut Vec<f32>) {
        match self {
            SampleKind::U8 => out.extend(bytes.iter().map(|byte| (f32::from(*byte) - 128.0) / 128.0)),
            SampleKind::S8 => out.extend(bytes.iter().map(|byte| f32::from(byte.cast_signed()) / 128.0)),
            SampleKind::Mulaw => out.extend(bytes.iter().map(|byte| mulaw_decode_sample(*byte))),
            SampleKind::Alaw => out.extend(bytes.iter().map(|byte| from_i16(alaw_decode(*byte)))),
            SampleKind::S16Le => each(bytes, out, |s| from_i16(i16::from_le_bytes(s))),
            SampleKind::S16Be => each(bytes, out, |s| from_i16(i16::from_be_bytes(s))),
            SampleKind::S24Le => each(bytes, out, |[a, b, c]| from_i32(i32::from_le_bytes([0, a, b, c]))),
            SampleKind::S24Be => each(bytes, out, |[a, b, c]| from_i32(i32::from_be_bytes([a, b, c, 0]))),
            SampleKind::S32Le => each(bytes, out, |s| from_i32(i32::from_le_bytes(s))),
            SampleKind::S32Be => each(bytes, out, |s| from_i32(i32::from_be_bytes(s))),
            SampleKind::F32Le => each(bytes, out, |s| finite(f32::from_le_bytes(s))),
            SampleKind::F32Be => each(bytes, out, |s| finite(f32::from_be_bytes(s))),
            SampleKind::F64Le => each(bytes, out, |s| finite(f64::from_le_bytes(s) as f32)),
            SampleKind::F64Be => each(bytes, out, |s| finite(f64::from_be_bytes(s) as f32)),
        }
    }
}

/// Appends one sample for each group of `N` bytes.
fn each<const N: usize>(bytes: &[u8], out: &mut Vec<f32>, read: impl Fn([u8; N]) -> f32) {
    let (groups, _) = bytes.as_chunks::<N>();
    out.extend(groups.iter().map(|group| read(*group)));
}

fn from_i32(sample: i32) -> f32 {
    sample as f32 / 2_147_483_648.0
}

/// Beyond it a sample is no audio: it would overflow in filters.
const LARGEST: f32 = 65_536.0;

/// NaN and infinities would spread through filters; they become silence, and
/// absurd values the largest that is let through.
fn finite(sample: f32) -> f32 {
    if sample.is_finite() { sample.clamp(-LARGEST, LARGEST) } else { 0.0 }
}

fn from_i16(sample: i16) -> f32 {
    f32::from(sample) / 32_768.0
}

pub(crate) fn to_i16(sample: f32) -> i16 {
    nearest(sample * 32_768.0)
}

/// The nearest 16-bit value; what is beyond is clipped, and no number is
/// silence.
///
/// In steps that processors of the basic kind do for several samples at once,
/// which a cast that clips is not: a number that is added to 1.5 · 2²³ is
/// rounded to the last of its 23 bits, which then hold it (IEEE 754).
#[inline]
pub(crate) fn nearest(value: f32) -> i16 {
    const SHIFT: f32 = 12_582_912.0;
    let number = if value.is_nan() { 0.0 } else { value };
    let above = if number > -32_768.0 { number } else { -32_768.0 };
    let within = if above < 32_767.0 { above } else { 32_767.0 };
    (within + SHIFT).to_bits().wrapping_sub(SHIFT.to_bits()) as i16
}

/// Encodes a 16-bit sample as µ-law (ITU-T G.711, table 2a).
pub fn mulaw_encode(sample: i16) -> u8 {
    const BIAS: i32 = 0x84;
    const CLIP: i32 = 32_635;
    let sign = if sample < 0 { 0x80 } else { 0 };
    let magnitude = i32::from(sample).abs().min(CLIP) + BIAS;
    let exponent = (31 - magnitude.leading_zeros() as i32) - 7;
    let mantissa = (magnitude >> (exponent + 3)) & 0x0F;
    !(sign | (exponent << 4) | mantissa) as u8
}

/// Decodes a µ-law byte to a 16-bit sample (ITU-T G.711, table 2b).
pub fn mulaw_decode(byte: u8) -> i16 {
    let byte = !byte;
    let exponent = (byte >> 4) & 0x07;
    let mantissa = i32::from(byte & 0x0F);
    let magnitude = (((mantissa << 3) + 0x84) << exponent) - 0x84;
    (if byte & 0x80 != 0 { -magnitude } else { magnitude }) as i16
}

/// The code for a zero below zero, which 16 bits cannot distinguish from the other.
const MULAW_NEGATIVE_ZERO: u8 = 0x7F;

/// As [`mulaw_decode`], with both zeros kept apart, so that a round trip
/// gives the same bytes.
fn mulaw_decode_sample(byte: u8) -> f32 {
    if byte == MULAW_NEGATIVE_ZERO { -0.0 } else { from_i16(mulaw_decode(byte)) }
}

/// As [`mulaw_encode`], with both zeros kept apart.
pub(crate) fn mulaw_encode_sample(sample: f32) -> u8 {
    if sample == 0.0 && sample.is_sign_negative() { MULAW_NEGATIVE_ZERO } else { mulaw_encode(to_i16(sample)) }
}

/// Encodes a 16-bit sample as A-law (ITU-T G.711, table 1a).
pub fn alaw_encode(sample: i16) -> u8 {
    let positive = sample >= 0;
    // Thirteen bits count; -1 is the mirror of 0.
    let magnitude = i32::from(if positive { sample } else { !sample }) >> 4;
    let exponent = (32 - (magnitude as u32).leading_zeros() as i32 - 4).max(0);
    let mantissa = if exponent == 0 { magnitude & 0x0F } else { (magnitude >> (exponent - 1)) & 0x0F };
    let sign = if positive { 0x80 } else { 0 };
    ((exponent << 4) as u8 | mantissa as u8 | sign) ^ 0x55
}

/// Decodes an A-law byte to a 16-bit sample (ITU-T G.711, table 1b).
pub fn alaw_decode(byte: u8) -> i16 {
    let byte = byte ^ 0x55;
    let exponent = (byte >> 4) & 0x07;
    let mantissa = i32::from(byte & 0x0F);
    let magnitude = match exponent {
        0 => (mantissa << 4) + 8,
        _ => ((mantissa << 4) + 0x108) << (exponent - 1),
    };
    (if byte & 0x80 == 0 { -magnitude } else { magnitude }) as i16
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mulaw_matches_the_table_of_g711() {
        // Decision values of the recommendation: quantised value for each code.
        for (code, value) in [(0xFF, 0), (0x80, 32_124), (0x00, -32_124), (0xF0, 120), (0xE0, 372), (0x8F, 16_764)] {
            assert_eq!(mulaw_decode(code), value, "code {code:#x}");
        }
    }

    #[test]
    fn every_mulaw_code_survives_the_round_trip() {
        for code in 0..=255u8 {
            let again = mulaw_encode(mulaw_decode(code));
            // 0x7F is "negative zero" and comes back as the positive one.
            let expected = if code == 0x7F { 0xFF } else { code };
            assert_eq!(again, expected);
            assert_eq!(mulaw_encode_sample(mulaw_decode_sample(code)), code, "both zeros survive as samples");
        }
    }

    #[test]
    fn every_alaw_code_survives_the_round_trip() {
        for code in 0..=255 {
            assert_eq!(alaw_encode(alaw_decode(code)), code, "{code:#04x}");
        }
        for sample in [i16::MIN, -1, 0, 1, i16::MAX] {
            let error = i32::from(alaw_decode(alaw_encode(sample))) - i32::from(sample);
            assert!(error.abs() <= i32::from(sample).abs() / 16 + 16, "{sample}: {error}");
        }
    }

    #[test]
    fn alaw_matches_the_table_of_g711() {
        for (code, value) in [(0xD5, 8), (0x55, -8), (0xAA, 32_256), (0x2A, -32_256), (0xC5, 264)] {
            assert_eq!(alaw_decode(code), value, "code {code:#x}");
        }
    }

    #[test]
    fn full_scale_is_clipped_not_wrapped() {
        assert_eq!(to_i16(1.5), 32_767);
        for (value, rounded) in [
            (0.4, 0),
            (0.6, 1),
            (-0.6, -1),
            (-1.4, -1),
            (1_234.51, 1_235),
            (32_766.6, 32_767),
            (32_767.4, 32_767),
            (-32_768.4, -32_768),
            (1e30, 32_767),
            (f32::NEG_INFINITY, -32_768),
            (f32::NAN, 0),
        ] {
            assert_eq!(nearest(value), rounded, "{value}");
        }
        assert!(
            (i16::MIN..=i16::MAX)
                .all(|sample| nearest(f32::from(sample)) == sample && to_i16(from_i16(sample)) == sample)
        );
        assert_eq!(to_i16(-1.5), -32_768);
        let mut out = Vec::new();
        SampleKind::F32Le.decode(&f32::NAN.to_le_bytes(), &mut out);
        assert_eq!(out, [0.0]);
    }

    #[test]
    fn each_width_reads_minus_half() {
        for (kind, bytes) in [
            (SampleKind::U8, vec![64]),
            (SampleKind::S16Le, vec![0x00, 0xC0]),
            (SampleKind::S16Be, vec![0xC0, 0x00]),
            (SampleKind::S24Le, vec![0, 0, 0xC0]),
            (SampleKind::S32Le, vec![0, 0, 0, 0xC0]),
            (SampleKind::F32Le, (-0.5f32).to_le_bytes().to_vec()),
            (SampleKind::F64Le, (-0.5f64).to_le_bytes().to_vec()),
        ] {
            let mut out = Vec::new();
            kind.decode(&bytes, &mut out);
            assert_eq!(out, [-0.5], "{kind:?}");
        }
    }
}
