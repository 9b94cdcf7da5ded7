//! What the gateway counts, for OpenMetrics and the overview.

use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

/// Upper bounds of the first-byte histogram, in milliseconds.
const BOUNDS: [u64; 10] = [10, 25, 50, 100, 250, 500, 1_000, 2_500, 5_000, 10_000];

#[derive(Default, Clone)]
struct Histogram {
    buckets: [u64; BOUNDS.len()],
    count: u64,
    sum_ms: f64,
}

#[derive(Default)]
struct Counts {
    attempts: BTreeMap<(String, String), u64>,
    dispatches: BTreeMap<(String, String), u64>,
    first_audio: BTreeMap<String, Histogram>,
}

/// Counters of one process.
#[derive(Default)]
pub struct Metrics {
    counts: Mutex<Counts>,
    in_work: AtomicI64,
}

impl Metrics {
    fn with(&self, change: impl FnOnce(&mut Counts)) {
        change(&mut self.counts.lock());
    }

    pub(crate) fn attempt(&self, engine: &str, outcome: &str) {
        self.with(|counts| *counts.attempts.entry((engine.into(), outcome.into())).or_default() += 1);
    }

    pub(crate) fn dispatch(&self, work: &str, state: &str) {
        self.with(|counts| *counts.dispatches.entry((work.into(), state.into())).or_default() += 1);
    }

    pub(crate) fn first_audio(&self, engine: &str, after: Duration) {
        let milliseconds = after.as_secs_f64() * 1_000.0;
        self.with(|counts| {
            let histogram = counts.first_audio.entry(engine.into()).or_default();
            histogram.count += 1;
            histogram.sum_ms += milliseconds;
            for (bucket, bound) in histogram.buckets.iter_mut().zip(BOUNDS) {
                *bucket += u64::from(milliseconds <= bound as f64);
            }
        });
    }

    pub(crate) fn enter(&self) {
        self.in_work.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn leave(&self) {
        self.in_work.fetch_sub(1, Ordering::Relaxed);
    }

    /// The counters as OpenMetrics text.
    pub fn render(&self) -> String {
        let mut out = String::new();
        let counts = self.counts.lock();
        out += "# TYPE dispatcher_in_work gauge\n# HELP dispatcher_in_work Requests being worked on.\n";
        out += &format!("dispatcher_in_work {}\n", self.in_work.load(Ordering::Relaxed));
        out += "# TYPE dispatcher_dispatches counter\n# HELP dispatcher_dispatches Finished dispatches by work and state.\n";
        for ((work, state), count) in &counts.dispatches {
            out += &format!("dispatcher_dispatches_total{{work=\"{work}\",state=\"{state}\"}} {count}\n");
        }
        out += "# TYPE dispatcher_attempts counter\n# HELP dispatcher_attempts Engine calls by engine and outcome.\n";
        for ((engine, outcome), count) in &counts.attempts {
            out += &format!("dispatcher_attempts_total{{engine=\"{engine}\",outcome=\"{outcome}\"}} {count}\n");
        }
        out += "# TYPE dispatcher_first_audio_seconds histogram\n# UNIT dispatcher_first_audio_seconds seconds\n";
        out += "# HELP dispatcher_first_audio_seconds Time from the call of an engine to its first audio.\n";
        for (engine, histogram) in &counts.first_audio {
            for (bucket, bound) in histogram.buckets.iter().zip(BOUNDS) {
                let bound = bound as f64 / 1_000.0;
                out +=
                    &format!("dispatcher_first_audio_seconds_bucket{{engine=\"{engine}\",le=\"{bound}\"}} {bucket}\n");
            }
            let (count, sum) = (histogram.count, histogram.sum_ms / 1_000.0);
            out += &format!("dispatcher_first_audio_seconds_bucket{{engine=\"{engine}\",le=\"+Inf\"}} {count}\n");
            out += &format!("dispatcher_first_audio_seconds_count{{engine=\"{engine}\"}} {count}\n");
            out += &format!("dispatcher_first_audio_seconds_sum{{engine=\"{engine}\"}} {sum}\n");
        }
        out + "# EOF\n"
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counters_are_rendered_as_openmetrics() {
        let metrics = Metrics::default();
        metrics.attempt("heron", "done");
        metrics.attempt("heron", "done");
        metrics.first_audio("heron", Duration::from_millis(30));
        let text = metrics.render();
        assert!(text.contains("dispatcher_attempts_total{engine=\"heron\",outcome=\"done\"} 2\n"));
        assert!(
            text.contains("{engine=\"heron\",le=\"0.025\"} 0\n") && text.contains("{engine=\"heron\",le=\"0.05\"} 1\n")
        );
        assert!(text.ends_with("# EOF\n"));
    }
}
