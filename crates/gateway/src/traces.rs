//! Traces: what became of a dispatch and of its attempts, as spans sent to an
//! endpoint of the operator's (OTLP over HTTP). A caller's `traceparent` (W3C
//! Trace Context) is their parent. Texts, audio and what engines say are not in them.

use std::borrow::Cow;
use std::collections::HashMap;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use dispatcher_store::{AttemptState, DispatchState, StoredAttempt, StoredDispatch};
use opentelemetry::propagation::TextMapPropagator as _;
use opentelemetry::trace::{Span as _, SpanKind, Status, TraceContextExt as _, Tracer as _, TracerProvider as _};
use opentelemetry::{Context, KeyValue};
use opentelemetry_otlp::{Protocol, WithExportConfig as _, WithHttpConfig as _};
use opentelemetry_sdk::Resource;
use opentelemetry_sdk::propagation::TraceContextPropagator;
use opentelemetry_sdk::trace::{SdkTracer, SdkTracerProvider};

use crate::GatewayError;

/// The endpoint answers in this time.
const PATIENCE: Duration = Duration::from_secs(10);

/// Sends spans, in a thread of its own.
pub struct Traces {
    provider: SdkTracerProvider,
    tracer: SdkTracer,
}

impl Traces {
    /// Sends spans to an endpoint, such as `http://127.0.0.1:4318/v1/traces`.
    ///
    /// # Errors
    /// When the endpoint is no URL, or there is no client for it.
    pub fn new(endpoint: &str) -> Result<Traces, GatewayError> {
        let wrong = |error: &dyn std::fmt::Display| GatewayError::Traces(format!("{endpoint}: {error}"));
        // A client that blocks may not be made on a thread of the runtime.
        let client = std::thread::spawn(|| {
            let builder = reqwest::blocking::Client::builder().no_proxy().timeout(PATIENCE);
            builder.redirect(reqwest::redirect::Policy::none()).build()
        });
        let client = client.join().map_err(|_| wrong(&"no client"))?.map_err(|error| wrong(&error))?;
        let exporter = opentelemetry_otlp::SpanExporter::builder()
            .with_http()
            .with_http_client(client)
            .with_endpoint(endpoint)
            .with_protocol(Protocol::HttpBinary)
            .with_timeout(PATIENCE)
            .build()
            .map_err(|error| wrong(&error))?;
        let resource = Resource::builder().with_service_name("dispatcher").build();
        let provider = SdkTracerProvider::builder().with_batch_exporter(exporter).with_resource(resource).build();
        let tracer = provider.tracer("dispatcher");
        Ok(Traces { provider, tracer })
    }

    /// Sends what is not sent yet. Blocks.
    pub(crate) fn finish(&self) {
        if let Err(error) = self.provider.shutdown() {
            tracing::warn!(%error, "the last traces could not be sent");
        }
    }

    /// A dispatch that has ended, with its attempts.
    pub(crate) fn tell(&self, dispatch: &StoredDispatch, attempts: &[StoredAttempt]) {
        let begun = micros_after(UNIX_EPOCH, dispatch.started_at);
        let mut facts = vec![
            KeyValue::new("dispatcher.dispatch", dispatch.id.clone()),
            KeyValue::new("dispatcher.app", dispatch.app.clone()),
            KeyValue::new("dispatcher.requested", dispatch.requested.clone()),
            KeyValue::new("dispatcher.state", dispatch.state.name()),
            KeyValue::new("dispatcher.characters", dispatch.characters),
            KeyValue::new("dispatcher.audio_milliseconds", dispatch.audio_ms),
            KeyValue::new("dispatcher.recalled", dispatch.recalled),
        ];
        facts.extend(named("dispatcher.engine", dispatch.engine.as_ref()));
        facts.extend(dispatch.first_us.map(|micros| KeyValue::new("dispatcher.first_audio_microseconds", micros)));
        let builder = self.tracer.span_builder(dispatch.work.name()).with_kind(SpanKind::Server);
        let builder = builder.with_start_time(begun).with_attributes(facts);
        let mut span = builder.start_with_context(&self.tracer, &parent(dispatch.trace.as_deref()));
        if dispatch.state == DispatchState::Failed {
            span.set_status(Status::Error { description: Cow::Borrowed("no engine answered") });
        }
        let context = Context::new().with_remote_span_context(span.span_context().clone());
        for attempt in attempts {
            self.tell_attempt(&context, begun, attempt);
        }
        span.end_with_timestamp(micros_after(begun, dispatch.total_us.unwrap_or_default()));
    }

    fn tell_attempt(&self, dispatch: &Context, begun: SystemTime, attempt: &StoredAttempt) {
        let start = micros_after(begun, attempt.offset_us);
        let mut facts = vec![
            KeyValue::new("dispatcher.engine", attempt.engine.clone()),
            KeyValue::new("dispatcher.state", attempt.state.name()),
        ];
        facts.extend(named("dispatcher.voice", attempt.voice.as_ref()));
        facts.extend(named("dispatcher.model", attempt.model.as_ref()));
        facts.extend(named("error.type", attempt.cause.as_ref()));
        facts.extend(attempt.first_us.map(|micros| KeyValue::new("dispatcher.first_audio_microseconds", micros)));
        let builder = self.tracer.span_builder(format!("attempt {}", attempt.engine)).with_kind(SpanKind::Client);
        let builder = builder.with_start_time(start).with_attributes(facts);
        let mut span = builder.start_with_context(&self.tracer, dispatch);
        if attempt.state == AttemptState::Failed {
            span.set_status(Status::Error { description: attempt.cause.clone().unwrap_or_default().into() });
        }
        span.end_with_timestamp(micros_after(start, attempt.total_us.unwrap_or_default()));
    }
}

fn micros_after(begun: SystemTime, micros: i64) -> SystemTime {
    begun + Duration::from_micros(u64::try_from(micros).unwrap_or_default())
}

fn named(name: &'static str, value: Option<&String>) -> Option<KeyValue> {
    value.map(|value| KeyValue::new(name, value.clone()))
}

/// The span of a `traceparent`, to be the parent; none where there is none.
fn parent(trace: Option<&str>) -> Context {
    let fields: HashMap<String, String> =
        trace.map(|trace| ("traceparent".to_owned(), trace.to_owned())).into_iter().collect();
    TraceContextPropagator::new().extract_with_context(&Context::new(), &fields)
}

#[cfg(test)]
mod tests {
    use dispatcher_core::Work;
    use opentelemetry::trace::{SpanId, TraceId};
    use opentelemetry_sdk::trace::InMemorySpanExporter;

    use super::*;

    fn in_memory() -> (Traces, InMemorySpanExporter) {
        let exporter = InMemorySpanExporter::default();
        let provider = SdkTracerProvider::builder().with_simple_exporter(exporter.clone()).build();
        let tracer = provider.tracer("dispatcher");
        (Traces { provider, tracer }, exporter)
    }

    fn attempt(engine: &str, state: AttemptState, cause: Option<&str>, offset_us: i64, total_us: i64) -> StoredAttempt {
        StoredAttempt {
            dispatch: "d1".into(),
            number: 1,
            engine: engine.into(),
            voice: None,
            model: None,
            state,
            cause: cause.map(str::to_owned),
            detail: Some("it repeats what it was sent".into()),
            offset_us,
            first_us: None,
            total_us: Some(total_us),
            credential: None,
        }
    }

    #[test]
    fn a_dispatch_is_a_span_below_its_caller_and_its_attempts_lie_in_it() {
        let (traces, exporter) = in_memory();
        let dispatch = StoredDispatch {
            state: DispatchState::Done,
            engine: Some("godwit".into()),
            total_us: Some(900_000),
            trace: Some("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01".into()),
            ..StoredDispatch::begun("d1", "quay", Work::Synthesis, 1_790_000_000_000_000)
        };
        let attempts = [
            attempt("heron", AttemptState::Failed, Some("throttled"), 1_000, 20_000),
            attempt("godwit", AttemptState::Done, None, 30_000, 800_000),
        ];
        traces.tell(&dispatch, &attempts);
        let spans = exporter.get_finished_spans().expect("spans");
        let named: Vec<&str> = spans.iter().map(|span| span.name.as_ref()).collect();
        assert_eq!(named, ["attempt heron", "attempt godwit", "synthesis"]);
        let root = &spans[2];
        assert_eq!(root.span_context.trace_id(), TraceId::from_hex("0af7651916cd43dd8448eb211c80319c").expect("an id"));
        assert_eq!(root.parent_span_id, SpanId::from_hex("b7ad6b7169203331").expect("an id"));
        assert_eq!(root.end_time.duration_since(root.start_time).expect("a time"), Duration::from_millis(900));
        for span in &spans[..2] {
            assert_eq!(span.parent_span_id, root.span_context.span_id());
            assert_eq!(span.span_context.trace_id(), root.span_context.trace_id());
        }
        assert_eq!(spans[0].start_time.duration_since(root.start_time).expect("a time"), Duration::from_millis(1));
        assert!(matches!(&spans[0].status, Status::Error { description } if description == "throttled"));
        let told = format!("{spans:?}");
        assert!(!told.contains("it repeats"), "what an engine says stays here");
    }

    #[test]
    fn a_caller_without_a_trace_begins_one() {
        let (traces, exporter) = in_memory();
        let dispatch = StoredDispatch::begun("d2", "quay", Work::Recognition, 1_790_000_000_000_000);
        traces.tell(&dispatch, &[]);
        let span = exporter.get_finished_spans().expect("spans").remove(0);
        assert_eq!((span.name.as_ref(), span.parent_span_id), ("recognition", SpanId::INVALID));
    }
}
