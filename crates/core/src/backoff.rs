//! How long is waited between tries that failed.

use std::time::Duration;

/// Waits that grow from one try to the next, up to a longest, each made
/// shorter by chance: callers that failed together do not come back together.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Backoff {
    /// The wait before the second try.
    pub first: Duration,
    /// Factor from one wait to the next.
    pub factor: u32,
    /// No wait is longer.
    pub longest: Duration,
    /// The share of a wait that chance may take away, from 0 to 1.
    pub jitter: f64,
}

impl Backoff {
    /// The wait after a try failed. `failures` counts those in a row, from 1;
    /// `chance` is a random number from 0 to 1.
    pub fn wait(&self, failures: u32, chance: f64) -> Duration {
        let grown = self.first.saturating_mul(self.factor.saturating_pow(failures.saturating_sub(1)));
        let kept = 1.0 - self.jitter.clamp(0.0, 1.0) * chance.clamp(0.0, 1.0);
        grown.min(self.longest).mul_f64(kept)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_up_to_the_longest() {
        let backoff = Backoff {
            first: Duration::from_millis(100),
            factor: 2,
            longest: Duration::from_millis(1_500),
            jitter: 0.0,
        };
        let waits: Vec<u128> = [1, 2, 3, 4, 5, 40, u32::MAX].map(|n| backoff.wait(n, 0.7).as_millis()).into();
        assert_eq!(waits, [100, 200, 400, 800, 1_500, 1_500, 1_500]);
        assert_eq!(backoff.wait(0, 0.0), backoff.wait(1, 0.0));
        let steep = Backoff { factor: 5, ..backoff };
        assert_eq!([1, 2, 3].map(|n| steep.wait(n, 0.0).as_millis()), [100, 500, 1_500]);
    }

    #[test]
    fn chance_takes_away_no_more_than_the_jitter() {
        let backoff =
            Backoff { first: Duration::from_secs(4), factor: 2, longest: Duration::from_secs(60), jitter: 0.25 };
        assert_eq!(backoff.wait(2, 0.0), Duration::from_secs(8));
        assert_eq!(backoff.wait(2, 0.5), Duration::from_secs(7));
        assert_eq!(backoff.wait(2, 1.0), Duration::from_secs(6));
        assert_eq!(backoff.wait(2, 9.0), Duration::from_secs(6));
    }
}
