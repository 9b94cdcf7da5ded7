//! Congestion: where the service itself has more to do than it can, requests
//! take long before any engine is called. Some of those that come then are
//! refused at once, so that the others are served in time.

use std::time::Duration;

use parking_lot::Mutex;
use tokio::time::Instant;

/// What a request usually takes until its engine is called, at the most.
const LONGEST_WAY: Duration = Duration::from_millis(50);
/// Where it takes so much longer on average, all that come are refused.
const ALL_OVER: Duration = Duration::from_millis(150);
/// The share of the last one in the average.
const LAST: f64 = 0.1;
/// What was measured longer ago says nothing any more.
const FORGOTTEN: Duration = Duration::from_millis(250);
/// So few in work at once, for each core, are never too many.
const FEW: i64 = 32;

/// How long requests take until their engine is called.
pub(crate) struct Congestion {
    few: i64,
    measured: Mutex<Option<(Instant, f64)>>,
}

impl Congestion {
    pub(crate) fn new(cores: usize) -> Self {
        Congestion { few: FEW * i64::try_from(cores).unwrap_or(1), measured: Mutex::default() }
    }

    /// A request came to its engine.
    pub(crate) fn note(&self, way: Duration) {
        let now = Instant::now();
        let mut measured = self.measured.lock();
        let before = measured.filter(|(at, _)| now - *at < FORGOTTEN).map_or(0.0, |(_, seconds)| seconds);
        *measured = Some((now, before + LAST * (way.as_secs_f64() - before)));
    }

    /// Whether a request is refused while this many are running; `chance` is a
    /// random number from 0 to 1.
    pub(crate) fn refuses(&self, in_work: i64, chance: f64) -> bool {
        if in_work <= self.few {
            return false;
        }
        let Some((at, seconds)) = *self.measured.lock() else { return false };
        let over = (seconds - LONGEST_WAY.as_secs_f64()) / (ALL_OVER - LONGEST_WAY).as_secs_f64();
        at.elapsed() < FORGOTTEN && chance < over
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn after(congestion: &Congestion, milliseconds: u64) {
        (0..100).for_each(|_| congestion.note(Duration::from_millis(milliseconds)));
    }

    #[tokio::test(start_paused = true)]
    async fn the_longer_requests_take_the_more_are_refused() {
        let congestion = Congestion::new(2);
        assert!(!congestion.refuses(1_000, 0.0), "nothing is known yet");
        after(&congestion, 40);
        assert!(!congestion.refuses(1_000, 0.0));
        after(&congestion, 100);
        assert!(congestion.refuses(1_000, 0.45) && !congestion.refuses(1_000, 0.55), "half of them");
        after(&congestion, 200);
        assert!(congestion.refuses(65, 0.99));
        assert!(!congestion.refuses(64, 0.0), "so few are never too many");
    }

    #[tokio::test(start_paused = true)]
    async fn one_slow_request_is_no_congestion_and_an_old_one_is_forgotten() {
        let congestion = Congestion::new(1);
        congestion.note(Duration::from_millis(400));
        assert!(!congestion.refuses(100, 0.0));
        after(&congestion, 400);
        assert!(congestion.refuses(100, 0.99));
        tokio::time::advance(Duration::from_millis(300)).await;
        assert!(!congestion.refuses(100, 0.0), "it recovers by itself");
        congestion.note(Duration::from_millis(400));
        assert!(!congestion.refuses(100, 0.0), "and begins anew");
    }
}
