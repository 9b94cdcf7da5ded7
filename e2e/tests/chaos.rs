//! Random weather over every engine, many callers at once: each answer that is
//! called whole is the exact text, each failure is a problem document, and the
//! ledger agrees with what the engines say they delivered.
//!
//! `CHAOS_SECONDS` and `CHAOS_CALLERS` make it longer: `make soak`.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::BINARY;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use serde_json::{Value, json};

const ENGINES: [&str; 4] = ["heron", "bittern", "curlew", "phalarope"];
/// The last of them not over heron: noise that is sent as raw samples cannot be
/// told from speech.
const WEATHERS: [&str; 7] = ["throttled", "down", "reset", "half", "drip", "wrong-type", "garbage"];
const SENTENCES: [&str; 6] = [
    "The ramp is closing now.",
    "Stand clear of the doors.",
    "Lifejackets are under the seats.",
    "The crossing takes forty minutes.",
    "Hold the rail when you walk about.",
    "Have a calm crossing.",
];

fn number(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

/// Changes the weather of one engine after the other, until it is told to stop.
async fn blow(demo: &Demo, stop: &AtomicBool, seed: u64) {
    let mut chance = StdRng::seed_from_u64(seed);
    while !stop.load(Ordering::Relaxed) {
        let engine = ENGINES[chance.random_range(0..ENGINES.len())];
        let forecast = match chance.random_range(0..10) {
            0..4 => Value::Null,
            _ => json!({
                "weather": WEATHERS[chance.random_range(0..WEATHERS.len() - usize::from(engine == "heron"))], "calls": chance.random_range(1..4),
                "skip": chance.random_range(0..3), "share": chance.random_range(0.0..1.0), "pause": chance.random_range(0..30),
            }),
        };
        demo.weather_of(engine, forecast).await;
        tokio::time::sleep(Duration::from_millis(150)).await;
    }
    for engine in ENGINES {
        demo.weather_of(engine, Value::Null).await;
    }
}

#[derive(Default)]
struct Seen {
    whole: AtomicU64,
    refused: AtomicU64,
    broken: AtomicU64,
}

/// Whether each sentence is heard once and in order. Of one whose engine was
/// slow and then lost, the beginning may be heard before it: so many times at most.
/// It is the whole sentence where only silence was lost.
fn says(heard: &str, sentences: &[&str], mut beginnings: usize) -> bool {
    let mut rest = heard;
    for sentence in sentences {
        loop {
            rest = rest.trim_start();
            if let Some(after) = rest.strip_prefix(sentence) {
                rest = after;
                if beginnings > 0 && rest.trim_start().starts_with(sentence) {
                    beginnings -= 1;
                    continue;
                }
                break;
            }
            let same = rest.bytes().zip(sentence.bytes()).take_while(|(one, other)| one == other).count();
            if same == 0 || beginnings == 0 {
                return false;
            }
            beginnings -= 1;
            rest = &rest[same..];
        }
    }
    rest.trim().is_empty()
}

#[test]
fn what_is_lost_doubled_or_out_of_order_is_noticed() {
    let said = ["The ramp is closing.", "Stand clear."];
    assert!(says("The ramp is closing. Stand clear.", &said, 0));
    assert!(says("The ramp is closing. Stand cl Stand clear.", &said, 1));
    assert!(says("The ramp is closing. The ramp is closing. Stand clear.", &said, 1));
    assert!(!says("The ramp is closing. The ramp is closing. Stand clear.", &said, 0));
    for wrong in [
        "The ramp is closing.",
        "Stand clear.",
        "Stand clear. The ramp is closing.",
        "The ramp is closing. Stand clear. Stand clear. Stand clear.",
        "The ramp is closing. Sta Sta Stand clear.",
    ] {
        assert!(!says(wrong, &said, 1), "{wrong}");
    }
}

/// Calls of a dispatch that were lost after their first audio: what came of it may have been heard.
async fn lost_in_the_middle(demo: &Demo, dispatch: &str) -> usize {
    let dispatch = demo.settled(dispatch).await;
    let attempts = dispatch["attempts"].as_array().unwrap();
    attempts.iter().filter(|attempt| attempt["state"] == "failed" && !attempt["first_audio"].is_null()).count()
}

/// One caller, who asks again and again.
async fn call(demo: &Demo, until: Instant, seed: u64, seen: &Seen) {
    let mut chance = StdRng::seed_from_u64(seed);
    let wav = Format::new(Codec::Wav, 24_000);
    while Instant::now() < until {
        let sentences = chance.random_range(1..=SENTENCES.len());
        let text = SENTENCES[..sentences].join(" ");
        let voice = if chance.random_range(0..4) == 0 { "heron/pellin" } else { "storm" };
        let response = demo.speak(json!({"text": text, "voice": voice, "language": "en-GB"}), "audio/wav").await;
        if response.status() != 200 {
            let kind = header(&response, "content-type");
            let problem: Value = response.json().await.expect("a problem document");
            assert!(kind.starts_with("application/problem+json") && problem["type"].is_string(), "{problem}");
            assert!([429, 502, 503, 504].contains(&problem["status"].as_u64().unwrap()), "{problem}");
            seen.refused.fetch_add(1, Ordering::Relaxed);
            tokio::time::sleep(Duration::from_millis(50)).await;
            continue;
        }
        let dispatch = header(&response, "dispatch-id");
        match response.bytes().await {
            Ok(audio) => {
                let heard = words_of(&audio, wav);
                let most = if voice == "storm" { lost_in_the_middle(demo, &dispatch).await } else { 0 };
                assert!(says(&heard, &SENTENCES[..sentences], most), "'{heard}' is not '{text}'");
                seen.whole.fetch_add(1, Ordering::Relaxed);
            }
            Err(_) => {
                seen.broken.fetch_add(1, Ordering::Relaxed);
            }
        }
    }
}

/// Characters of attempts by engine and state, as the ledger has them.
async fn charged(demo: &Demo) -> BTreeMap<(String, String), u64> {
    let mut sums = BTreeMap::new();
    let mut cursor = String::new();
    loop {
        let page = demo.get(&format!("/api/v1/dispatches?limit=100{cursor}")).await;
        for row in page["items"].as_array().unwrap() {
            assert_ne!(row["state"], "running", "a dispatch that never ended: {row}");
            let dispatch = demo.get(&format!("/api/v1/dispatches/{}", row["id"].as_str().unwrap())).await;
            let mut held = BTreeMap::<&str, i64>::new();
            for line in dispatch["ledger"].as_array().unwrap() {
                let number = line["attempt"].as_u64().unwrap();
                let attempt = dispatch["attempts"].as_array().unwrap().iter().find(|one| one["number"] == number);
                let engine = line["engine"].as_str().unwrap();
                let characters = line["characters"].as_i64().unwrap();
                let state = attempt.expect("its attempt")["state"].as_str().unwrap();
                let mut count = || {
                    let sum: &mut u64 = sums.entry((engine.to_owned(), state.to_owned())).or_default();
                    *sum += characters.unsigned_abs();
                };
                match line["kind"].as_str().unwrap() {
                    kind @ ("hold" | "release") => {
                        *held.entry(engine).or_default() += characters;
                        // Of those that failed nothing is charged.
                        if kind == "hold" && state == "failed" {
                            count();
                        }
                    }
                    _ => count(),
                }
            }
            assert!(held.values().all(|characters| *characters == 0), "a hold that stays: {dispatch}");
        }
        match page["next"].as_str() {
            Some(next) => cursor = format!("&cursor={next}"),
            None => return sums,
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_the_weather_no_answer_is_wrong_and_the_ledger_is_right() {
    let demo = Arc::new(Demo::start(BINARY).await);
    let legs: Vec<Value> = ENGINES.iter().map(|engine| json!({"engine": engine, "deadline": 3000})).collect();
    demo.put_route("storm", json!(legs)).await;
    let (seconds, callers) = (number("CHAOS_SECONDS", 10), number("CHAOS_CALLERS", 16));
    let seed = number("CHAOS_SEED", rand::random());
    eprintln!("CHAOS_SEED={seed}");
    let (stop, seen) = (Arc::new(AtomicBool::new(false)), Arc::new(Seen::default()));
    let wind = tokio::spawn({
        let (demo, stop) = (demo.clone(), stop.clone());
        async move { blow(&demo, &stop, seed).await }
    });
    let until = Instant::now() + Duration::from_secs(seconds);
    let calls = (0..callers).map(|caller| {
        let (demo, seen) = (demo.clone(), seen.clone());
        tokio::spawn(async move { call(&demo, until, seed.wrapping_add(caller + 1), &seen).await })
    });
    let ended = futures::future::join_all(calls.collect::<Vec<_>>()).await;
    stop.store(true, Ordering::Relaxed);
    wind.await.unwrap();
    ended.into_iter().for_each(|caller| caller.unwrap());
    let count = |of: &AtomicU64| of.load(Ordering::Relaxed);
    eprintln!("whole {} refused {} broken {}", count(&seen.whole), count(&seen.refused), count(&seen.broken));
    assert!(count(&seen.whole) > 2 * seconds, "hardly anything was answered");

    let sums = charged(&demo).await;
    for engine in ENGINES {
        let of = |state: &str| sums.get(&(engine.to_owned(), state.to_owned())).copied().unwrap_or_default();
        let delivered = demo.delivered_by(engine).await["characters"].as_u64().unwrap();
        // What was called ahead and not needed is charged, whether it was whole
        // or not; what was whole and no audio is not charged.
        let (least, most) = (of("done"), of("done") + of("abandoned") + of("failed"));
        assert!(
            (least..=most).contains(&delivered),
            "{engine} delivered {delivered}, charged are {least} to {most}: {sums:?}"
        );
        assert_eq!(of("uncertain"), 0, "{engine}: {sums:?}");
    }
    let check = demo.client(&["ledger", "check"]);
    let told = String::from_utf8_lossy(&check.stdout);
    assert!(check.status.success() && told.contains("held 0.00 EUR"), "{told}");
}
