//! Measures live sessions: how much later a result comes than the engine gives
//! it, and what a session holds in memory, with many sessions that speak at
//! once. The engine is a socket of this program that answers each piece of
//! audio with a guess, and so tells exactly when it did. Prints a table, and
//! JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use dispatcher_benches::{Service, binary, operator_key, processor_seconds, quantile};
use futures::{SinkExt as _, StreamExt as _};
use parking_lot::Mutex;
use reqwest::header::{CONNECTION, SEC_WEBSOCKET_KEY, SEC_WEBSOCKET_VERSION, UPGRADE};
use serde_json::{Value, json};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::Role;

/// Sessions, where none are given on the command line.
const SESSIONS: usize = 2_000;
/// A piece of audio of each session comes so often, as from a microphone.
const PIECE: Duration = Duration::from_millis(200);
const PIECES: usize = 150;
const RATE: u32 = 16_000;
/// Seconds over which the sessions begin.
const BEGIN: f64 = 15.0;

type Sent = Arc<Mutex<Vec<Instant>>>;

/// Answers each piece of audio with a guess whose only word is its number.
async fn engine(sent: Sent) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let sent = sent.clone();
            tokio::spawn(async move {
                let Ok(mut socket) = tokio_tungstenite::accept_async(stream).await else { return };
                if socket.send(Message::text(r#"{"ready":true}"#)).await.is_err() {
                    return;
                }
                while let Some(Ok(message)) = socket.next().await {
                    let ends = matches!(&message, Message::Text(text) if text.contains("stop"));
                    if !message.is_binary() && !ends {
                        continue;
                    }
                    let number = {
                        let mut sent = sent.lock();
                        sent.push(Instant::now());
                        sent.len() - 1
                    };
                    let heard = json!({"settled": ends, "text": format!("n{number}")});
                    if socket.send(Message::text(heard.to_string())).await.is_err() {
                        return;
                    }
                    if ends {
                        let _ = socket.send(Message::text(r#"{"done":true}"#)).await;
                        return;
                    }
                }
            });
        }
    });
    format!("http://{address}")
}

fn sheet(url: &str) -> String {
    format!(
        r#"
sheet = 1
name = "reed"
site = "cloud"
network = "private"
endpoint = "{url}"

[access]
scheme = "none"

[recognition]
call = "GET /hear"
limit = {{ seconds = 600 }}

[recognition.socket]
opening = ['{{"go": true}}']
ready = {{ at = "$.ready" }}
close = ['{{"stop": true}}']
result = {{ at = "$.text" }}
settled = {{ at = "$.settled", equals = true }}
done = {{ at = "$.done" }}
bytes = 8192

[recognition.formats]
s16 = {{ type = "audio/pcm", sample_rates = [{RATE}] }}

[recognition.transcript]
text = "$.text"

[tariff]
per = "second"
price = "0"
"#
    )
}

async fn connect(http: &reqwest::Client, url: &str, key: &str) -> WebSocketStream<reqwest::Upgraded> {
    let request = http.get(format!("{url}/api/v1/transcripts/live")).bearer_auth(key);
    let request = request.header(CONNECTION, "Upgrade").header(UPGRADE, "websocket");
    let request = request.header(SEC_WEBSOCKET_VERSION, "13").header(SEC_WEBSOCKET_KEY, "dGhlIHNhbXBsZSBub25jZQ==");
    let response = request.send().await.unwrap();
    assert_eq!(response.status(), 101, "a session is not taken");
    WebSocketStream::from_raw_socket(response.upgrade().await.unwrap(), Role::Client, None).await
}

/// One caller: a tone, as from a microphone. Gives how late each guess came.
async fn session(socket: WebSocketStream<reqwest::Upgraded>, sent: Sent, open: Arc<AtomicUsize>) -> Vec<f64> {
    let (mut to, mut from) = socket.split();
    let opening = json!({"type": "open", "engine": "reed", "format": format!("audio/pcm;rate={RATE}")});
    to.send(Message::text(opening.to_string())).await.unwrap();
    open.fetch_add(1, Ordering::Relaxed);
    let speak = tokio::spawn(async move {
        let count = (f64::from(RATE) * PIECE.as_secs_f64()) as usize;
        let tone: Vec<u8> =
            (0..count).flat_map(|n| (((n as f32 * 0.2).sin() * 9_000.0) as i16).to_le_bytes()).collect();
        let mut tick = tokio::time::interval(PIECE);
        for _ in 0..PIECES {
            tick.tick().await;
            if to.send(Message::binary(tone.clone())).await.is_err() {
                return;
            }
        }
        let _ = to.send(Message::text(r#"{"type":"end-of-input"}"#)).await;
    });
    let mut late = Vec::new();
    while let Some(Ok(message)) = from.next().await {
        let Message::Text(text) = message else { continue };
        let now = Instant::now();
        let told: Value = serde_json::from_str(&text).unwrap();
        assert_ne!(told["type"], "problem", "{told}");
        if told["type"] == "interim"
            && let Some(number) = told["text"].as_str().and_then(|text| text[1..].parse::<usize>().ok())
        {
            let began = sent.lock()[number];
            late.push(now.duration_since(began).as_secs_f64() * 1_000.0);
        }
        if told["type"] == "end-of-input" {
            break;
        }
    }
    let _ = speak.await;
    open.fetch_sub(1, Ordering::Relaxed);
    late
}

#[tokio::main]
async fn main() {
    let sessions = std::env::args().nth(1).and_then(|count| count.parse().ok()).unwrap_or(SESSIONS);
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let sent = Sent::default();
    let url = engine(sent.clone()).await;
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&binary(), &data, &url, &http).await;
    let key = operator_key(&data).await;
    let put = http.post(format!("{}/api/v1/engines", service.url)).bearer_auth(&key);
    let put = put.header("content-type", "application/toml").body(sheet(&url)).send().await.unwrap();
    assert!(put.status().is_success(), "{}", put.text().await.unwrap());
    let open = Arc::new(AtomicUsize::new(0));
    let (memory, busy) = (service.memory(), processor_seconds(service.id()));
    let begun = Instant::now();
    let mut running = Vec::new();
    for _ in 0..sessions {
        let socket = connect(&http, &service.url, &key).await;
        running.push(tokio::spawn(session(socket, sent.clone(), open.clone())));
        tokio::time::sleep(Duration::from_secs_f64(BEGIN / sessions as f64)).await;
    }
    let (most, held) = (open.load(Ordering::Relaxed), service.memory());
    let mut late = Vec::new();
    for one in running {
        late.extend(one.await.unwrap());
    }
    let seconds = begun.elapsed().as_secs_f64();
    let after = processor_seconds(service.id());
    let cores = (after.0 + after.1 - busy.0 - busy.1) / seconds;
    let each = held.saturating_sub(memory) as f64 / most.max(1) as f64;
    let (median, high) = (quantile(&mut late, 0.5), quantile(&mut late, 0.99));
    println!("{sessions} sessions, {most} at once; {} results", late.len());
    println!("a result comes {median:.1} ms after the engine gave it, p99 {high:.1} ms");
    println!("{each:.1} KiB each, {cores:.2} cores");
    println!(
        "{}",
        json!({"sessions": sessions, "at_once": most, "results": late.len(), "median_ms": median, "p99_ms": high, "kib_each": each, "cores": cores})
    );
}
