//! Measures the release binary: start time, idle memory, and the time to the
//! first audio byte through the gateway against direct to the engine, in turns
//! and in one run. Prints a table, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use dispatcher_standins::start_heron;
use serde_json::{Value, json};

const TOKEN: &str = "bench-token";
/// Pairs of calls, after as many to warm up.
const ROUNDS: usize = 200;
const STARTS: usize = 9;

struct Service {
    child: Child,
    url: String,
    started: Duration,
}

impl Service {
    async fn start(binary: &Path, folder: &Path, heron: &str, http: &reqwest::Client) -> Service {
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/sheets");
        let url = format!("http://127.0.0.1:{port}");
        let begun = Instant::now();
        let child = Command::new(binary)
            .args(["serve", "--log-level", "error", "--port", &port.to_string(), "--data"])
            .arg(folder)
            .arg("--sheets")
            .arg(sheets)
            .env("DISPATCHER_ENGINES__HERON__ENDPOINT", heron)
            .current_dir(folder.parent().unwrap())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        loop {
            let answer = http.get(format!("{url}/health")).send().await;
            if answer.is_ok_and(|answer| answer.status().is_success()) {
                break;
            }
            assert!(begun.elapsed() < Duration::from_secs(20), "the service does not start");
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        Service { child, url, started: begun.elapsed() }
    }

    /// Resident memory in KiB.
    fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn binary() -> PathBuf {
    let target = std::env::current_exe().unwrap();
    let binary = target.with_file_name("dispatcher");
    assert!(binary.exists(), "{} is not there; run: make bench", binary.display());
    binary
}

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

fn quantile(values: &mut [f64], share: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    values[((values.len() - 1) as f64 * share).round() as usize]
}

async fn operator_key(folder: &Path) -> String {
    std::fs::read_to_string(folder.join("operator.key")).unwrap().trim().to_owned()
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
    let body = json!({"engine": "heron", "parts": {"token": TOKEN}});
    let added =
        http.post(format!("{}/api/v1/credentials", service.url)).bearer_auth(&key).json(&body).send().await.unwrap();
    assert!(added.status().is_success());

    let text = "The 06:15 to Gullsay is delayed by twenty minutes.";
    let through = || {
        let body = json!({"text": text, "voice": "heron/marin", "audio": {"type": "audio/mpeg"}});
        http.post(format!("{}/api/v1/utterances", service.url)).bearer_auth(&key).json(&body)
    };
    let direct = || {
        let body = json!({"say": text, "grade": "quick", "as": "mp3"});
        http.post(format!("{}/talk/marin", heron.url())).bearer_auth(TOKEN).json(&body)
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
