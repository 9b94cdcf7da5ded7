//! Alerts: told when something is wrong, by webhook and by mail, and when it
//! is over; and the stream of what happens.

use std::time::Duration;

use crate::BINARY;
use dispatcher_e2e::{Demo, Service, head_field, take_mail, take_requests};
use dispatcher_standins::{StandIn, start_heron};
use futures::StreamExt as _;
use reqwest::Method;
use serde_json::{Value, json};

const HERON: &str = include_str!("../../demo/sheets/heron.toml");

async fn with_heron(settings: &[(&str, &str)]) -> (Service, StandIn) {
    let heron = start_heron(0, "tkn/7Qx+canary").await.unwrap();
    let sheet = HERON.replace("http://127.0.0.1:7801", &heron.url());
    let service = Service::start_with(BINARY, &[("heron", sheet)], settings).await;
    let bind = json!({"engine": "heron", "parts": {"token": "tkn/7Qx+canary"}, "ends": "2026-01-31"});
    let (status, credential) = service.send(Method::POST, "/api/v1/credentials", bind).await;
    assert_eq!((status, credential["ends"].as_str()), (201, Some("2026-02-01T00:00:00Z")));
    (service, heron)
}

async fn weather(heron: &StandIn, forecast: Value) {
    let request = reqwest::Client::new().put(format!("{}/weather", heron.url())).json(&forecast);
    assert!(request.send().await.unwrap().status().is_success());
}

async fn fails(service: &Service, times: usize) {
    for _ in 0..times {
        let response = service.speak(json!({"text": "Cast off.", "voice": "heron/pellin"}), "audio/wav").await;
        assert!(response.status().is_server_error());
    }
}

async fn within<T>(heard: &mut tokio::sync::mpsc::Receiver<T>) -> T {
    tokio::time::timeout(Duration::from_secs(30), heard.recv()).await.expect("a message in time").expect("a message")
}

#[tokio::test]
async fn an_open_breaker_is_told_once_and_so_is_its_end() {
    let (host, mut heard) = take_requests(&[200, 200, 200]).await;
    let hosts = format!("[\"{host}\"]");
    let (service, heron) = with_heron(&[("DISPATCHER_WEBHOOK_HOSTS", &hosts)]).await;
    let address = format!("http://{host}/alerts");
    let rule = json!({"on": "breaker-open", "to": [address], "note": "Call the harbour office.", "pause": 0});
    assert_eq!(service.send(Method::PUT, "/api/v1/alerts/night-watch", rule).await.0, 200);
    let (status, tried) = service.send(Method::POST, "/api/v1/alerts/night-watch/try", json!({})).await;
    assert_eq!((status, &tried["items"]), (200, &json!([{"to": address, "sent": true, "problem": null}])));
    let (head, body) = within(&mut heard).await;
    assert!(head_field(&head, "signature-input").contains("content-digest"), "it is signed: {head}");
    assert_eq!(serde_json::from_slice::<Value>(&body).unwrap()["detail"], "This is a test message: nothing is wrong.");

    weather(&heron, json!({"weather": "down"})).await;
    fails(&service, 5).await;
    let told: Value = serde_json::from_slice(&within(&mut heard).await.1).unwrap();
    assert_eq!((told["event"].as_str(), told["state"].as_str()), (Some("alert"), Some("raised")));
    assert_eq!((told["on"].as_str(), told["note"].as_str()), (Some("breaker-open"), Some("Call the harbour office.")));
    assert_eq!(told["subject"], "heron with heron version 1");
    assert_eq!(told["detail"], "the breaker of heron is open after 5 failures in a row (unavailable)");
    let notices = service.get("/api/v1/notices").await;
    assert_eq!((&notices["items"][0]["id"], &notices["items"][0]["over"]), (&told["notice"], &Value::Null));

    weather(&heron, json!({"weather": "down", "calls": 0})).await;
    let closed = service.http.delete(format!("{}/api/v1/breakers/heron", service.url)).bearer_auth(&service.key);
    assert_eq!(closed.send().await.unwrap().status(), 204);
    let over: Value = serde_json::from_slice(&within(&mut heard).await.1).unwrap();
    assert_eq!((over["state"].as_str(), &over["notice"]), (Some("over"), &told["notice"]));
    let notices = service.get("/api/v1/notices").await;
    assert_eq!(notices["items"].as_array().unwrap().len(), 1, "told once: {notices}");
    assert_eq!(notices["items"][0]["over"], over["over_at"]);
}

#[tokio::test]
async fn mail_tells_of_a_credential_that_ends_and_of_a_voice_that_is_gone() {
    let (port, mut mail) = take_mail().await;
    let port = port.to_string();
    let settings = [
        ("DISPATCHER_MAIL__HOST", "127.0.0.1"),
        ("DISPATCHER_MAIL__PORT", port.as_str()),
        ("DISPATCHER_MAIL__SECURITY", "none"),
        ("DISPATCHER_MAIL__FROM", "Dispatcher <dispatcher@saltmarsh.example>"),
    ];
    let (service, _heron) = with_heron(&settings).await;
    let rule = json!({"on": "credential-ending", "to": ["mailto:watch@saltmarsh.example"]});
    assert_eq!(service.send(Method::PUT, "/api/v1/alerts/keys", rule).await.0, 200);
    let message = within(&mut mail).await;
    for line in [
        "MAIL FROM:<dispatcher@saltmarsh.example>",
        "RCPT TO:<watch@saltmarsh.example>",
        "Subject: Dispatcher: credential-ending, heron version 1",
        "the credential heron version 1 of heron has expired",
        "Alert: keys",
    ] {
        assert!(message.lines().any(|own| own.starts_with(line)), "{line} is not in\n{message}");
    }
    let route = json!({"work": "synthesis", "legs": [{"engine": "heron", "voice": "nobody"}]});
    assert_eq!(service.send(Method::PUT, "/api/v1/routes/quay", route).await.0, 200);
    let rule = json!({"on": "voice-withdrawn", "to": ["mailto:watch@saltmarsh.example"]});
    assert_eq!(service.send(Method::PUT, "/api/v1/alerts/voices", rule).await.0, 200);
    let message = within(&mut mail).await;
    assert!(message.contains("Subject: Dispatcher: voice-withdrawn, heron/nobody"), "{message}");
    // A long line is folded.
    let text = message.replace("=\n", "").replace('\n', " ");
    assert!(text.contains("removed from the catalogue of its engine); it is used by the route quay"), "{message}");
    let allowance = json!({"requests": 0, "per": "total"});
    assert_eq!(service.send(Method::POST, "/api/v1/apps/console/allowances", allowance).await.0, 201);
    let rule = json!({"on": "allowance-share", "to": ["mailto:watch@saltmarsh.example"], "threshold": 90});
    assert_eq!(service.send(Method::PUT, "/api/v1/alerts/spent", rule).await.0, 200);
    let message = within(&mut mail).await;
    let subject = "Subject: Dispatcher: allowance-share, app console, 0 requests in total";
    assert!(message.lines().any(|own| own.starts_with(subject)), "{message}");
    assert!(message.contains("the app console has used 100 % of 0 requests in total"), "{message}");
}

#[tokio::test]
async fn an_alert_that_could_not_be_sent_anywhere_is_refused() {
    let (service, _heron) = with_heron(&[]).await;
    let put = async |rule: Value| {
        let (status, problem) = service.send(Method::PUT, "/api/v1/alerts/watch", rule).await;
        (status, problem["detail"].as_str().unwrap_or_default().to_owned())
    };
    let mail = put(json!({"on": "disk-low", "to": ["mailto:watch@saltmarsh.example"]})).await;
    assert_eq!(mail, (422, "this service sends no mail; set [mail] in dispatcher.toml".into()));
    let hook = put(json!({"on": "disk-low", "to": ["https://watch.saltmarsh.example/"]})).await;
    assert!(hook.0 == 422 && hook.1.contains("webhook_hosts"), "{hook:?}");
    let word = put(json!({"on": "moon-full", "to": ["https://watch.saltmarsh.example/"]})).await;
    assert!(word.0 == 422 && word.1.starts_with("on is one of breaker-open, "), "{word:?}");
    let none = put(json!({"on": "disk-low", "to": []})).await;
    assert_eq!(none, (422, "an alert is sent to 1 to 8 addresses, not 0".into()));
}

#[tokio::test]
async fn who_looks_on_is_told_what_happens() {
    let demo = Demo::start(BINARY).await;
    let asked = demo.http.get(format!("{}/api/v1/events", demo.url)).bearer_auth(&demo.operator).send().await.unwrap();
    assert_eq!(asked.headers()["content-type"], "text/event-stream");
    let refused = demo.http.get(format!("{}/api/v1/events", demo.url)).bearer_auth(&demo.app).send().await.unwrap();
    assert_eq!(refused.status(), 403, "apps see nothing of each other");
    let mut stream = asked.bytes_stream();
    let mut told = String::new();
    demo.weather(json!({"weather": "down"})).await;
    for _ in 0..5 {
        demo.speak(json!({"text": "Cast off.", "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap();
    }
    let both = ["event:breaker", "event:dispatch"];
    while !both.iter().all(|event| told.contains(event)) || told.matches("event:dispatch").count() < 5 {
        let next = tokio::time::timeout(Duration::from_secs(10), stream.next()).await.expect("an event in time");
        told.push_str(&String::from_utf8_lossy(&next.unwrap().unwrap()));
    }
    let data = |event: &str| -> Value {
        let told = told.split("\n\n").find(|block| block.contains(&format!("event:{event}"))).unwrap();
        let line = told.lines().find_map(|line| line.strip_prefix("data:")).unwrap();
        serde_json::from_str(line).unwrap()
    };
    assert_eq!(data("breaker"), json!({"engine": "heron", "state": "open"}));
    let dispatch = data("dispatch");
    assert_eq!((dispatch["state"].as_str(), dispatch["app"].as_str()), (Some("failed"), Some("quay-announcer")));
    assert!(demo.get(&format!("/api/v1/dispatches/{}", dispatch["id"].as_str().unwrap())).await["id"].is_string());
}

#[tokio::test]
async fn the_client_sets_lists_and_retires_alerts() {
    let demo = Demo::start(BINARY).await;
    let run = |arguments: &[&str]| {
        let output = demo.client(arguments);
        (output.status.code(), String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    assert!(run(&["alert", "list"]).1.starts_with("No alerts yet."));
    let refused = run(&["alert", "set", "watch", "--on", "disk-low", "--to", "mailto:watch@saltmarsh.example"]);
    assert!(refused.0 == Some(1) && refused.2.contains("set [mail] in dispatcher.toml"), "{refused:?}");
    assert!(run(&["alert", "notices"]).1.starts_with("No notices"));
    let missing = run(&["alert", "retire", "watch"]);
    assert!(missing.0 == Some(1) && missing.2.contains("there is no alert 'watch'"), "{missing:?}");
}
