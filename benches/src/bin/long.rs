//! Measures long work with the release binary: the first audio of a whole
//! handbook against that of its first sentence, the memory that it takes, and
//! what queued pieces do to the first audio of a live call. Prints a table,
//! and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::path::Path;
use std::time::{Duration, Instant};

use dispatcher_benches::{Service, TOKEN, add_heron, binary, operator_key};
use dispatcher_standins::start_heron;
use serde_json::{Value, json};

const ROUNDS: usize = 25;
/// Sentences of the job that is queued behind live calls, each a piece.
const QUEUED: usize = 500;

struct Bench {
    http: reqwest::Client,
    service: Service,
    key: String,
}

impl Bench {
    fn speak(&self, text: &str) -> reqwest::RequestBuilder {
        let body = json!({"text": text, "voice": "heron/pellin", "audio": {"type": "audio/mpeg"}});
        self.http.post(format!("{}/api/v1/utterances", self.service.url)).bearer_auth(&self.key).json(&body)
    }

    /// Milliseconds to the first byte of the body; the rest is read or left.
    async fn first_byte(&self, text: &str, whole: bool) -> f64 {
        let begun = Instant::now();
        let mut response = self.speak(text).send().await.unwrap();
        assert!(response.status().is_success(), "{}", response.status());
        assert!(!response.chunk().await.unwrap().unwrap().is_empty());
        let elapsed = begun.elapsed().as_secs_f64() * 1_000.0;
        while whole && response.chunk().await.unwrap().is_some() {}
        elapsed
    }

    async fn get(&self, path: &str) -> Value {
        let request = self.http.get(format!("{}{path}", self.service.url)).bearer_auth(&self.key);
        request.send().await.unwrap().json().await.unwrap()
    }
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

#[tokio::main]
async fn main() {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let heron = start_heron(0, TOKEN).await.unwrap();
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&binary(), &data, &heron.url(), &http).await;
    let key = operator_key(&data).await;
    add_heron(&service, &key, &http).await;
    let bench = Bench { http, service, key };

    let handbook = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/scripts/handbook.md");
    let handbook = std::fs::read_to_string(handbook).unwrap().replace('#', "");
    let sentence = "Safety handbook of Saltmarsh Ferries";
    let (mut alone, mut long) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        alone.push(bench.first_byte(sentence, true).await);
        long.push(bench.first_byte(&handbook, false).await);
        tokio::time::sleep(Duration::from_millis(150)).await;
    }
    let (alone, long) = (median(&mut alone), median(&mut long));
    println!("first audio of a sentence     {alone:8.1} ms");
    println!("first audio of the handbook   {long:8.1} ms   {:.2} of it", long / alone);

    let half = &handbook[..handbook[..handbook.len() / 2].rfind('.').unwrap() + 1];
    bench.first_byte(half, true).await;
    let memory_half = bench.service.peak_memory();
    bench.first_byte(&handbook, true).await;
    let memory_whole = bench.service.peak_memory();
    println!("peak memory, half of it       {:8.1} MB", memory_half as f64 / 1_024.0);
    println!("peak memory, all of it        {:8.1} MB", memory_whole as f64 / 1_024.0);

    let text = "The 06:15 to Gullsay is delayed by twenty minutes.";
    let mut idle = Vec::new();
    for _ in 0..ROUNDS * 2 {
        idle.push(bench.first_byte(text, true).await);
    }
    // Each of these is a job of its own: so many pieces wait.
    for number in 0..QUEUED {
        let words = format!("Door {number} opens to the left and leads to the car deck below.");
        let queued = bench.speak(&words).header("Prefer", "respond-async").send().await.unwrap();
        assert_eq!(queued.status().as_u16(), 202);
    }
    let mut busy = Vec::new();
    let mut left = 0;
    for round in 0..ROUNDS * 2 {
        busy.push(bench.first_byte(text, true).await);
        if round == ROUNDS * 2 - 1 {
            let queued = bench.get("/api/v1/jobs?state=queued&limit=500").await;
            left = queued["items"].as_array().unwrap().len();
        }
    }
    let (idle, busy) = (median(&mut idle), median(&mut busy));
    println!("first audio, nothing queued   {idle:8.1} ms");
    println!(
        "first audio, {QUEUED} queued      {busy:8.1} ms   {:.2} of it ({left} still queued at the end)",
        busy / idle
    );
    let json = json!({
        "handbook_first_audio_ratio": long / alone, "peak_memory_kib": [memory_half, memory_whole],
        "live_beside_jobs_ratio": busy / idle, "queued_at_end": left,
    });
    println!("{json}");
}
