//! Traces: a dispatch and its attempts as spans, below the caller's own.

use std::time::Duration;

use crate::BINARY;
use dispatcher_e2e::{Service, head_field, take_requests};
use dispatcher_standins::start_heron;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::any_value::Value as Fact;
use opentelemetry_proto::tonic::trace::v1::Span;
use prost::Message as _;
use reqwest::Method;
use serde_json::json;

const HERON: &str = include_str!("../../demo/sheets/heron.toml");

fn fact(span: &Span, name: &str) -> Option<String> {
    let found = span.attributes.iter().find(|fact| fact.key == name)?;
    match found.value.clone()?.value? {
        Fact::StringValue(text) => Some(text),
        Fact::IntValue(number) => Some(number.to_string()),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn a_request_is_traced_below_its_caller_and_says_nothing_of_its_text() {
    let (host, mut heard) = take_requests(&[200, 200, 200]).await;
    let endpoint = format!("http://{host}/v1/traces");
    let heron = start_heron(0, "tkn/7Qx+canary").await.unwrap();
    let sheet = HERON.replace("http://127.0.0.1:7801", &heron.url());
    let settings = [("DISPATCHER_TRACE_ENDPOINT", endpoint.as_str())];
    let service = Service::start_with(BINARY, &[("heron", sheet)], &settings).await;
    let bind = json!({"engine": "heron", "parts": {"token": "tkn/7Qx+canary"}});
    assert_eq!(service.send(Method::POST, "/api/v1/credentials", bind).await.0, 201);
    let request = service.http.post(format!("{}/api/v1/utterances", service.url)).bearer_auth(&service.key);
    let request = request.header("traceparent", "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01");
    let response =
        request.json(&json!({"text": "The gate code is 4711.", "voice": "heron/pellin"})).send().await.unwrap();
    assert_eq!(response.status(), 200);
    response.bytes().await.unwrap();
    let (head, body) = tokio::time::timeout(Duration::from_secs(30), heard.recv()).await.unwrap().unwrap();
    assert!(head.starts_with("POST /v1/traces "), "{head}");
    assert_eq!(head_field(&head, "content-type"), "application/x-protobuf");
    assert!(!String::from_utf8_lossy(&body).contains("4711"), "the text stays here");
    let sent = ExportTraceServiceRequest::decode(body.as_slice()).unwrap();
    let resource = sent.resource_spans[0].resource.clone().unwrap();
    assert!(format!("{resource:?}").contains("dispatcher"));
    let spans: Vec<&Span> = sent.resource_spans[0].scope_spans.iter().flat_map(|scope| &scope.spans).collect();
    let root = spans.iter().find(|span| span.name == "synthesis").expect("the dispatch");
    let attempt = spans.iter().find(|span| span.name == "attempt heron").expect("its attempt");
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    assert_eq!(hex(&root.trace_id), "0af7651916cd43dd8448eb211c80319c");
    assert_eq!(hex(&root.parent_span_id), "b7ad6b7169203331");
    assert_eq!(attempt.parent_span_id, root.span_id);
    assert!(root.start_time_unix_nano <= attempt.start_time_unix_nano);
    assert!(attempt.end_time_unix_nano <= root.end_time_unix_nano);
    assert_eq!(fact(root, "dispatcher.characters").as_deref(), Some("22"));
    assert_eq!(fact(attempt, "dispatcher.voice").as_deref(), Some("pellin"));
}
