//! Sample conversions: integers, floats and G.711 µ-law (ITU-T G.711).

/// How one sample is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SampleKind {
    U8,
    S16Le,
    S16Be,
    S24Le,
    S32Le,
    F32Le,
    F64Le,
    Mulaw,
    Alaw,
}

impl SampleKind {
    pub(crate) fn bytes(self) -> usize {
        match self {
            SampleKind::U8 | SampleKind::Mulaw | SampleKind::Alaw => 1,
            SampleKind::S16Le | SampleKind::S16Be => 2,
            SampleKind::S24Le => 3,
            SampleKind::S32Le | SampleKind::F32Le => 4,
            SampleKind::F64Le => 8,
        }
    }

    /// Appends the samples of `bytes` (whole samples only) as −1…1.
    pub(crate) fn decode(self, bytes: &[u8], out: &mut Vec<f32>) {
        let samples = bytes.chunks_exact(self.bytes());
        match self {
            SampleKind::U8 => out.extend(samples.map(|s| (f32::from(s[0]) - 128.0) / 128.0)),
            SampleKind::S16Le => out.extend(samples.map(|s| from_i16(i16::from_le_bytes([s[0], s[1]])))),
            SampleKind::S16Be => out.extend(samples.map(|s| from_i16(i16::from_be_bytes([s[0], s[1]])))),
            SampleKind::S24Le => {
                out.extend(samples.map(|s| (i32::from_le_bytes([0, s[0], s[1], s[2]]) >> 8) as f32 / 8_388_608.0));
            }
            SampleKind::S32Le => {
                out.extend(samples.map(|s| i32::from_le_bytes([s[0], s[1], s[2], s[3]]) as f32 / 2_147_483_648.0));
            }
            SampleKind::F32Le => {
                out.extend(samples.map(|s| finite(f32::from_le_bytes([s[0], s[1], s[2], s[3]]))));
            }
            SampleKind::F64Le => out.extend(
                samples.map(|s| finite(f64::from_le_bytes([s[0], s[1], s[2], s[3], s[4], s[5], s[6], s[7]]) as f32)),
            ),
            SampleKind::Mulaw => out.extend(samples.map(|s| from_i16(mulaw_decode(s[0])))),
            SampleKind::Alaw => out.extend(samples.map(|s| from_i16(alaw_decode(s[0])))),
        }
    }
}

/// NaN and infinities would spread through filters; they become silence.
fn finite(sample: f32) -> f32 {
    if sample.is_finite() { sample } else { 0.0 }
}

fn from_i16(sample: i16) -> f32 {
    f32::from(sample) / 32_768.0
}

pub(crate) fn to_i16(sample: f32) -> i16 {
    (sample * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16
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

/// Decodes an A-law byte to a 16-bit sample (ITU-T G.711, table 1b).
fn alaw_decode(byte: u8) -> i16 {
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
