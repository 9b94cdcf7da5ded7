//! Measures the search among a hundred thousand voices: in the core, and
//! through the release binary over HTTP, where an engine of one list has them
//! all. Prints a table, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::time::{Duration, Instant};

use dispatcher_benches::catalogue::{VOICES, address, queries, sheets, voice};
use dispatcher_benches::{Service, binary, operator_key};
use dispatcher_core::VoiceIndex;
use serde_json::json;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

const ROUNDS: usize = 100;

fn p99(times: &mut [Duration]) -> f64 {
    times.sort();
    times[(times.len() * 99).div_ceil(100) - 1].as_secs_f64() * 1_000.0
}

/// An engine that lists the voices, five thousand a page.
async fn lister() -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let mut seen = vec![0; 4_096];
                let read = stream.read(&mut seen).await.unwrap_or(0);
                let text = String::from_utf8_lossy(&seen[..read]).into_owned();
                let from: usize = text.split("from=").nth(1).map_or(0, |rest| {
                    rest.chars().take_while(char::is_ascii_digit).collect::<String>().parse().unwrap_or(0)
                });
                let end = (from + 5_000).min(VOICES);
                let page: Vec<_> = (from..end).map(voice).collect();
                let next = (end < VOICES).then_some(end);
                let body = json!({"voices": page, "next": next}).to_string();
                let head = format!(
                    "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\nconnection: close\r\ncontent-length: {}\r\n\r\n",
                    body.len()
                );
                let _ = stream.write_all(head.as_bytes()).await;
                let _ = stream.write_all(body.as_bytes()).await;
            });
        }
    });
    url
}

fn sheet(url: &str) -> String {
    format!(
        "sheet = 1\nname = \"many\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"{url}\"\n[synthesis]\ncall = \"POST /say\"\n\
         answer = \"audio\"\n[synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [24000] }}\n[catalogue]\ncall = \"GET /voices\"\n\
         query = {{ from = \"{{{{ page or '' }}}}\" }}\nvoices = \"$.voices[*]\"\nnext = \"$.next\"\nhours = 0\n[catalogue.voice]\nid = \"$.id\"\n\
         name = \"$.name\"\nlanguages = \"$.languages\"\ngender = \"$.gender\"\nage = \"$.age\"\nstyles = \"$.styles\"\nuses = \"$.uses\"\n\
         character = \"$.character\"\n[tariff]\nper = \"character\"\nprice = \"0.00001\"\n"
    )
}

#[tokio::main]
async fn main() {
    let begun = Instant::now();
    let index = VoiceIndex::new(&sheets(), "2026-11-30");
    let built = begun.elapsed();
    let mut core = Vec::new();
    for _ in 0..ROUNDS {
        for (_, query) in queries() {
            let begun = Instant::now();
            std::hint::black_box(index.find(&query));
            core.push(begun.elapsed());
        }
    }
    let core = p99(&mut core);
    println!("index of {VOICES} voices built in {:.0} ms", built.as_secs_f64() * 1_000.0);
    println!("in the core, 20 queries, p99: {core:.3} ms (goal 5)");

    let folder = tempfile::tempdir().unwrap();
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let service = Service::start(&binary(), &folder.path().join("data"), "http://127.0.0.1:1", &http).await;
    let key = operator_key(&folder.path().join("data")).await;
    let call = |path: &str| http.post(format!("{}{path}", service.url)).bearer_auth(&key);
    let put = call("/api/v1/engines").header("content-type", "application/toml").body(sheet(&lister().await));
    let put = put.send().await.unwrap();
    assert!(put.status().is_success(), "{}", put.text().await.unwrap());
    let begun = Instant::now();
    let read = call("/api/v1/engines/many/catalogue").send().await.unwrap();
    assert!(read.status().is_success(), "{}", read.text().await.unwrap());
    println!("list of {VOICES} voices read and kept in {:.1} s", begun.elapsed().as_secs_f64());
    let queries: Vec<String> = queries().iter().map(|(_, query)| address(query).replace("engine-3", "many")).collect();
    let mut times = Vec::new();
    for round in 0..ROUNDS {
        for query in &queries {
            let begun = Instant::now();
            let answer =
                http.get(format!("{}/api/v1/voices?{query}", service.url)).bearer_auth(&key).send().await.unwrap();
            assert!(answer.status().is_success(), "{query}: {}", answer.text().await.unwrap());
            answer.bytes().await.unwrap();
            // The first round makes the index.
            if round > 0 {
                times.push(begun.elapsed());
            }
        }
    }
    let over_http = p99(&mut times);
    println!("through HTTP, pages of 100, p99: {over_http:.2} ms (goal 20); memory {} MiB", service.memory() / 1_024);
    println!("{}", json!({"voices": VOICES, "core_p99_ms": core, "http_p99_ms": over_http}));
}
