//! A bound on how much audio a few bytes may become.

use crate::{AudioError, Layout};

/// So much audio may come of any number of bytes, in seconds.
const FREE_SECONDS: u64 = 600;
/// Beyond it each second needs so many: a quarter of what the lowest bit
/// rates of speech take, pauses included.
const BYTES_A_SECOND: u64 = 100;

/// Counts bytes against the audio that they became.
#[derive(Debug, Default)]
pub(crate) struct Expansion {
    bytes: u64,
    samples: u64,
}

impl Expansion {
    /// # Errors
    /// [`AudioError::TooLong`] once there is far more audio than the bytes
    /// could honestly hold.
    pub(crate) fn check(&mut self, bytes: usize, samples: usize, layout: Layout) -> Result<(), AudioError> {
        self.bytes += bytes as u64;
        self.samples += samples as u64;
        let seconds = self.samples / (u64::from(layout.rate) * u64::from(layout.channels)).max(1);
        if seconds > FREE_SECONDS && seconds.saturating_mul(BYTES_A_SECOND) > self.bytes {
            return Err(AudioError::TooLong { bytes: self.bytes, seconds });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ten_minutes_are_free_and_more_must_be_paid_in_bytes() {
        let layout = Layout { rate: 8_000, channels: 1 };
        assert!(Expansion::default().check(20, 8_000 * 600, layout).is_ok());
        assert!(Expansion::default().check(3_600_000, 8_000 * 36_000, layout).is_ok());
        let error = Expansion::default().check(20, 8_000 * 700, layout).expect_err("a bomb");
        assert_eq!(error, AudioError::TooLong { bytes: 20, seconds: 700 });
    }
}
