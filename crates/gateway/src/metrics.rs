//! What the gateway counts, for OpenMetrics and the overview.

use std::time::Duration;

use dispatcher_core::BreakerState;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};

use crate::BreakerView;

/// Upper bounds of the histogram of first audio, in seconds.
const BOUNDS: [f64; 10] = [0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0];

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct DispatchLabels {
    work: &'static str,
    state: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct AttemptLabels {
    engine: String,
    outcome: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct EngineLabels {
    engine: String,
}

/// Counters of one process.
pub struct Metrics {
    registry: Registry,
    in_work: Gauge,
    dispatches: Family<DispatchLabels, Counter>,
    attempts: Family<AttemptLabels, Counter>,
    recalls: Counter,
    breakers_open: Family<EngineLabels, Gauge>,
    first_audio: Family<EngineLabels, Histogram, fn() -> Histogram>,
}

impl Default for Metrics {
    fn default() -> Self {
        let metrics = Metrics {
            registry: Registry::with_prefix("dispatcher"),
            in_work: Gauge::default(),
            dispatches: Family::default(),
            attempts: Family::default(),
            recalls: Counter::default(),
            breakers_open: Family::default(),
            first_audio: Family::new_with_constructor(|| Histogram::new(BOUNDS)),
        };
        metrics.registered()
    }
}

impl Metrics {
    fn registered(mut self) -> Self {
        let registry = &mut self.registry;
        registry.register("in_work", "Requests being worked on", self.in_work.clone());
        registry.register("dispatches", "Finished dispatches by work and state", self.dispatches.clone());
        registry.register("attempts", "Engine calls by engine and outcome", self.attempts.clone());
        registry.register("recalls", "Utterances answered with kept audio", self.recalls.clone());
        let help = "Circuit breakers of an engine that let no call through, or one only";
        registry.register("breakers_open", help, self.breakers_open.clone());
        let help = "Time from the call of an engine to its first audio";
        registry.register_with_unit("first_audio", help, Unit::Seconds, self.first_audio.clone());
        self
    }

    pub(crate) fn attempt(&self, engine: &str, outcome: &'static str) {
        self.attempts.get_or_create(&AttemptLabels { engine: engine.to_owned(), outcome }).inc();
    }

    pub(crate) fn dispatch(&self, work: &'static str, state: &'static str) {
        self.dispatches.get_or_create(&DispatchLabels { work, state }).inc();
    }

    pub(crate) fn first_audio(&self, engine: &str, after: Duration) {
        let labels = EngineLabels { engine: engine.to_owned() };
        self.first_audio.get_or_create(&labels).observe(after.as_secs_f64());
    }

    pub(crate) fn recalled(&self) {
        self.recalls.inc();
    }

    pub(crate) fn enter(&self) {
        self.in_work.inc();
    }

    pub(crate) fn leave(&self) {
        self.in_work.dec();
    }

    /// Requests being worked on.
    pub(crate) fn in_work(&self) -> i64 {
        self.in_work.get()
    }

    /// The counters as OpenMetrics text (version 1.0.0), with the breakers as
    /// they stand.
    ///
    /// # Errors
    /// When one of them cannot be written as text, which no label makes happen.
    pub(crate) fn render(&self, breakers: &[BreakerView]) -> Result<String, std::fmt::Error> {
        self.breakers_open.clear();
        for view in breakers {
            let open = view.state != BreakerState::Closed;
            let labels = EngineLabels { engine: view.engine.clone() };
            self.breakers_open.get_or_create(&labels).inc_by(i64::from(open));
        }
        let mut text = String::new();
        encode(&mut text, &self.registry)?;
        Ok(text)
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
        metrics.dispatch("synthesis", "failed");
        metrics.first_audio("heron", Duration::from_millis(30));
        metrics.enter();
        metrics.enter();
        metrics.leave();
        let view = |credential: &str, state| BreakerView {
            engine: "heron".into(),
            credential: Some(credential.into()),
            state,
            opens_in: None,
            cause: None,
            failures: 5,
        };
        let breakers = [view("one", BreakerState::Open), view("two", BreakerState::Closed)];
        metrics.render(&breakers[..1]).expect("text");
        let text = metrics.render(&breakers).expect("text");
        for line in [
            "# TYPE dispatcher_in_work gauge",
            "dispatcher_in_work 1",
            "dispatcher_attempts_total{engine=\"heron\",outcome=\"done\"} 2",
            "dispatcher_dispatches_total{work=\"synthesis\",state=\"failed\"} 1",
            "dispatcher_breakers_open{engine=\"heron\"} 1",
            "# UNIT dispatcher_first_audio_seconds seconds",
            "dispatcher_first_audio_seconds_bucket{le=\"0.025\",engine=\"heron\"} 0",
            "dispatcher_first_audio_seconds_bucket{le=\"0.05\",engine=\"heron\"} 1",
            "dispatcher_first_audio_seconds_bucket{le=\"+Inf\",engine=\"heron\"} 1",
            "dispatcher_first_audio_seconds_sum{engine=\"heron\"} 0.03",
        ] {
            assert!(text.lines().any(|one| one == line), "{line} is not in\n{text}");
        }
        assert!(text.ends_with("# EOF\n"));
    }
}
