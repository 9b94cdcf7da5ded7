//! Measures the release binary: start time, idle memory, and the time to the
//! first audio byte through the gateway against direct to the engine, in turns
//! and in one run. Prints a table, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::time::{Duration, Instant};

use dispatcher_benches::{Service, TOKEN, add_heron, binary, operator_key, quantile};
use dispatcher_standins::start_heron;
use serde_json::{Value, json};

/// Pairs of calls, after as many to warm up.
const ROUNDS: usize = 200;
const STARTS: usize = 9;

/// Milliseconds to the first byte of the body.
async fn first_byte(request: reqwest::RequestBuilder) -> f64 {
    let begun = Instant::now();
    let mut response = request.send().await.unwrap();
    assert!(response.status().is_success(), "{}", response.status());
    let chunk = response.chunk().await.unwrap().unwrap();
    let elapsed = begun.elapsed().as_secs_f64() * 1_000.0;
    assert!(!chunk.is_empty());
    while response.chunk().await.unwrap().is_some() {}
    elapsed
}

#[tokio::main]
async fn main() {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let heron = start_heron(0, TOKEN).await.unwrap();
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let mut starts: Vec<f64> = Vec::new();
    let mut service = Service::start(&binary(), &data, &heron.url(), &http).await;
    for _ in 0..STARTS {
        drop(service);
        service = Service::start(&binary(), &data, &heron.url(), &http).await;
        starts.push(service.started.as_secs_f64() * 1_000.0);
    }
    tokio::time::sleep(Duration::from_secs(2)).await;
    let memory = service.memory();
    let key = operator_key(&data).await;
    add_heron(&service, &key, &http).await;

    let text = "The 06:15 to Gullsay is delayed by twenty minutes.";
    let through = || {
        let body = json!({"text": text, "voice": "heron/pellin", "audio": {"type": "audio/mpeg"}});
        http.post(format!("{}/api/v1/utterances", service.url)).bearer_auth(&key).json(&body)
    };
    let direct = || {
        let body = json!({"say": text, "grade": "quick", "as": "mp3"});
        http.post(format!("{}/talk/pellin", heron.url())).bearer_auth(TOKEN).json(&body)
    };
    let (mut by_gateway, mut by_engine) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS * 2 {
        let (a, b) = (first_byte(direct()).await, first_byte(through()).await);
        if round >= ROUNDS {
            by_engine.push(a);
            by_gateway.push(b);
        }
    }
    let loaded = service.memory();
    let pair = |share: f64, by_gateway: &mut [f64], by_engine: &mut [f64]| {
        let (through, direct) = (quantile(by_gateway, share), quantile(by_engine, share));
        (through, direct, through / direct)
    };
    let median = pair(0.5, &mut by_gateway, &mut by_engine);
    let tail = pair(0.95, &mut by_gateway, &mut by_engine);
    let start = quantile(&mut starts, 0.5);
    println!("start to first answer        {start:8.1} ms   (median of {STARTS})");
    println!("idle memory                  {:8.1} MB", memory as f64 / 1_024.0);
    println!("memory after {:4} utterances {:8.1} MB", ROUNDS * 2, loaded as f64 / 1_024.0);
    println!(
        "first audio byte, median     {:8.2} ms through the gateway, {:.2} ms direct: ratio {:.3}",
        median.0, median.1, median.2
    );
    println!(
        "first audio byte, p95        {:8.2} ms through the gateway, {:.2} ms direct: ratio {:.3}",
        tail.0, tail.1, tail.2
    );
    let report: Value = json!({
        "start_ms": start, "idle_mb": memory as f64 / 1_024.0, "loaded_mb": loaded as f64 / 1_024.0,
        "first_audio": {"median_ratio": median.2, "p95_ratio": tail.2, "median_ms": median.0, "direct_median_ms": median.1},
    });
    println!("{report}");
}
