//! Measures what a stream costs that is transcoded: memory of a transcoder by
//! itself, and of the service under a thousand slow streams at once, with its
//! threads. Prints a table, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Transcoder, encode_all};
use dispatcher_benches::{Service, TOKEN, add_heron, binary, operator_key};
use dispatcher_standins::start_heron;
use serde_json::{Value, json};

const STREAMS: usize = 1_000;

fn own_memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}

/// KiB of each of many transcoders that have a second of sound behind them.
fn transcoders(from: Format, to: Format) -> f64 {
    let sound: Vec<f32> = (0..from.rate).map(|n| 0.3 * (n as f32 * 0.1).sin()).collect();
    let audio = Bytes::from(encode_all(&sound, from).unwrap());
    let before = own_memory();
    let all: Vec<Transcoder> = (0..STREAMS)
        .map(|_| {
            let mut transcoder = Transcoder::new(from, to).unwrap();
            for at in (0..audio.len()).step_by(700) {
                transcoder.push(&audio.slice(at..audio.len().min(at + 700))).unwrap();
            }
            transcoder
        })
        .collect();
    let each = own_memory().saturating_sub(before) as f64 / STREAMS as f64;
    drop(all);
    each
}

/// KiB by which memory grows between the first minute and the sixtieth.
fn hour(from: Format, to: Format) -> u64 {
    let sound: Vec<f32> = (0..from.rate * 60).map(|n| 0.3 * (n as f32 * 0.1).sin()).collect();
    let minute = Bytes::from(encode_all(&sound, Format::new(Codec::Pcm, from.rate)).unwrap());
    let raw = Format::new(Codec::Pcm, from.rate);
    let (mut coder, mut decoder) = (Transcoder::new(raw, from).unwrap(), Transcoder::new(from, to).unwrap());
    let mut after_a_minute = 0;
    for index in 0..60 {
        for at in (0..minute.len()).step_by(4_096) {
            let coded = coder.push(&minute.slice(at..minute.len().min(at + 4_096))).unwrap();
            decoder.push(&coded).unwrap();
        }
        if index == 0 {
            after_a_minute = own_memory();
        }
    }
    own_memory().saturating_sub(after_a_minute)
}

/// KiB of the service for each stream, its threads before and under load, and
/// how many streams were running when it was looked at.
async fn streams(format: &str) -> (f64, u64, u64, usize) {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let heron = start_heron(0, TOKEN).await.unwrap();
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&binary(), &data, &heron.url(), &http).await;
    let key = operator_key(&data).await;
    add_heron(&service, &key, &http).await;
    let weather = json!({"weather": "drip", "pause": 2_000});
    assert!(http.put(format!("{}/weather", heron.url())).json(&weather).send().await.unwrap().status().is_success());
    let text = "The ferry to Gullsay leaves at a quarter past six, wind and tide permitting. ".repeat(8);
    let (memory, threads) = (service.memory(), service.threads());
    let mut calls = Vec::new();
    for _ in 0..STREAMS {
        let body = json!({"text": text, "voice": "heron/pellin"});
        let request =
            http.post(format!("{}/api/v1/utterances", service.url)).bearer_auth(&key).header("accept", format);
        calls.push(tokio::spawn(request.json(&body).send()));
    }
    let mut running = Vec::new();
    for call in calls {
        let mut response = call.await.unwrap().unwrap();
        assert!(response.status().is_success(), "{}", response.status());
        if response.chunk().await.unwrap().is_some() {
            running.push(response);
        }
    }
    tokio::time::sleep(Duration::from_secs(3)).await;
    let under_load = (service.memory(), service.threads());
    let each = under_load.0.saturating_sub(memory) as f64 / running.len() as f64;
    (each, threads, under_load.1, running.len())
}

/// Ways that are looked at one by one, each in a process of its own, since
/// memory that one has freed would serve the next.
fn ways() -> Vec<(Format, Format)> {
    let raw = Format::new(Codec::Pcm, 24_000);
    let opus = Format::new(Codec::OggOpus, 24_000);
    vec![
        (raw, Format::new(Codec::Mulaw, 8_000)),
        (raw, opus),
        (raw, Format::new(Codec::Mp3, 24_000)),
        (raw, Format::new(Codec::Mp3, 44_100)),
        (raw, Format::new(Codec::Flac, 24_000)),
        (Format::new(Codec::Mp3, 24_000), Format::new(Codec::OggOpus, 16_000)),
        (opus, Format::new(Codec::Pcm, 44_100)),
        (opus, Format::new(Codec::Mp3, 24_000)),
        (Format::new(Codec::Flac, 24_000), Format::new(Codec::WebmOpus, 24_000)),
    ]
}

/// What this program measures of one way when it is run with its number.
fn alone(number: usize) -> Value {
    let told = std::process::Command::new(std::env::current_exe().unwrap()).arg(number.to_string()).output().unwrap();
    serde_json::from_slice(&told.stdout).unwrap()
}

#[tokio::main]
async fn main() {
    if let Some(number) = std::env::args().nth(1).and_then(|number| number.parse::<usize>().ok()) {
        let (from, to) = ways()[number];
        let each = transcoders(from, to);
        println!("{}", json!({"from": from, "to": to, "kib": each, "hour_kib": hour(from, to)}));
        return;
    }
    let mut report = Vec::new();
    for (number, (from, to)) in ways().into_iter().enumerate() {
        let told = alone(number);
        println!(
            "{:>9} {:5} Hz to {:>10} {:5} Hz  {:6.1} KiB each, {} KiB more after an hour than after a minute",
            from.codec,
            from.rate,
            to.codec,
            to.rate,
            told["kib"].as_f64().unwrap(),
            told["hour_kib"]
        );
        report.push(told);
    }
    let mut loads: Vec<Value> = Vec::new();
    for format in ["audio/ogg;codecs=opus", "audio/mpeg;rate=16000", "audio/basic"] {
        let (each, before, threads, running) = streams(format).await;
        println!("{running} streams of {format:<22} {each:8.1} KiB each, {threads} threads ({before} when idle)");
        loads.push(
            json!({"format": format, "streams": running, "kib": each, "threads": threads, "idle_threads": before}),
        );
    }
    println!("{}", json!({"transcoders": report, "service": loads}));
}
