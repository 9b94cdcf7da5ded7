//! A service that is killed under load, again and again: what was settled stays
//! and is charged once, what was in flight is uncertain, and no hold is left.
//!
//! `KILLS` makes it longer: `make soak`.

use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, RwLock};
use std::time::Duration;

use crate::BINARY;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Service, header, words_of};
use dispatcher_standins::start_heron;
use reqwest::Method;
use serde_json::{Value, json};

const HERON: &str = include_str!("../../demo/sheets/heron.toml");
const CALLERS: u64 = 8;

/// What callers have seen.
#[derive(Default)]
struct Seen {
    /// Dispatches whose answers came whole.
    whole: Mutex<HashSet<String>>,
    /// Answers to a repeated idempotency key, by the key.
    repeated: Mutex<BTreeMap<String, u64>>,
    wrong: Mutex<Vec<String>>,
    asked: AtomicU64,
}

/// One caller: a request after the other, each with a key of its own; what
/// breaks off is asked for once more with the same key.
async fn call(url: Arc<RwLock<String>>, key: String, caller: u64, stop: Arc<AtomicBool>, seen: Arc<Seen>) {
    let http = dispatcher_e2e::http();
    let mut number = 0;
    while !stop.load(Ordering::Relaxed) {
        number += 1;
        let text = format!("Caller {caller}, call {number}.");
        for attempt in 0..3 {
            let address = format!("{}/api/v1/utterances", url.read().unwrap());
            let request = http.post(address).bearer_auth(&key).header("Accept", "audio/wav");
            let request = request.header("Idempotency-Key", format!("\"{caller}-{number}\""));
            let sent = request.json(&json!({"text": text, "voice": "heron/pellin"})).send().await;
            seen.asked.fetch_add(1, Ordering::Relaxed);
            let Ok(response) = sent else {
                tokio::time::sleep(Duration::from_millis(30)).await;
                continue;
            };
            let (status, id) = (response.status().as_u16(), header(&response, "dispatch-id"));
            if status != 200 {
                break;
            }
            match response.bytes().await {
                Ok(audio) => {
                    if words_of(&audio, Format::new(Codec::Wav, 24_000)) != text {
                        seen.wrong.lock().unwrap().push(text.clone());
                    }
                    seen.whole.lock().unwrap().insert(id);
                    if attempt > 0 {
                        *seen.repeated.lock().unwrap().entry(format!("{caller}-{number}")).or_default() += 1;
                    }
                    break;
                }
                Err(_) => tokio::time::sleep(Duration::from_millis(30)).await,
            }
        }
    }
}

/// Every dispatch with its attempts and its ledger.
async fn dispatches(service: &Service) -> Vec<Value> {
    let (mut all, mut cursor) = (Vec::new(), String::new());
    loop {
        let page = service.get(&format!("/api/v1/dispatches?limit=100{cursor}")).await;
        for row in page["items"].as_array().unwrap() {
            all.push(service.get(&format!("/api/v1/dispatches/{}", row["id"].as_str().unwrap())).await);
        }
        match page["next"].as_str() {
            Some(next) => cursor = format!("&cursor={next}"),
            None => return all,
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_settled_is_lost_or_charged_twice_and_no_hold_stays() {
    let kills: u64 = std::env::var("KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(5);
    let heron = start_heron(0, "tkn/7Qx+canary").await.unwrap();
    let drip = json!({"weather": "drip", "pause": 20});
    let http = reqwest::Client::new();
    http.put(format!("{}/weather", heron.url())).json(&drip).send().await.unwrap();
    let sheet = HERON.replace("http://127.0.0.1:7801", &heron.url());
    let mut service = Service::start(BINARY, &[("heron", sheet)]).await;
    let bind = json!({"engine": "heron", "parts": {"token": "tkn/7Qx+canary"}});
    assert_eq!(service.send(Method::POST, "/api/v1/credentials", bind).await.0, 201);
    let url = Arc::new(RwLock::new(service.url.clone()));
    let (stop, seen) = (Arc::new(AtomicBool::new(false)), Arc::new(Seen::default()));
    let callers: Vec<_> = (0..CALLERS)
        .map(|caller| tokio::spawn(call(url.clone(), service.key.clone(), caller, stop.clone(), seen.clone())))
        .collect();
    for kill in 0..kills {
        // Somewhere within some calls.
        tokio::time::sleep(Duration::from_millis(400 + 37 * (kill % 11))).await;
        service.kill_and_start(BINARY).await;
        url.write().unwrap().clone_from(&service.url);
    }
    tokio::time::sleep(Duration::from_millis(500)).await;
    stop.store(true, Ordering::Relaxed);
    futures::future::join_all(callers).await.into_iter().for_each(|caller| caller.unwrap());
    assert_eq!(*seen.wrong.lock().unwrap(), Vec::<String>::new(), "called whole, and not the text");

    let all = dispatches(&service).await;
    let mut states = BTreeMap::<String, u64>::new();
    let (mut settled, mut whole) = (0, HashSet::new());
    for dispatch in &all {
        let id = dispatch["id"].as_str().unwrap().to_owned();
        let state = dispatch["state"].as_str().unwrap().to_owned();
        assert_ne!(state, "running", "{dispatch}");
        *states.entry(state.clone()).or_default() += 1;
        if state == "done" {
            whole.insert(id.clone());
        }
        let lines = dispatch["ledger"].as_array().unwrap();
        let of = |kind: &str| lines.iter().filter(|line| line["kind"] == kind).collect::<Vec<_>>();
        assert_eq!(of("hold").len(), dispatch["attempts"].as_array().unwrap().len(), "{dispatch}");
        assert_eq!(of("release").len(), of("hold").len(), "a hold that stays: {dispatch}");
        assert!(of("settle").len() <= of("hold").len(), "charged twice: {dispatch}");
        settled += of("settle").iter().map(|line| line["characters"].as_u64().unwrap()).sum::<u64>();
        if state == "done" {
            assert_eq!(of("settle").len(), 1, "{dispatch}");
        }
    }
    let check = service.send(Method::GET, "/api/v1/ledger/check", Value::Null).await.1;
    assert!(check["holds"] == true && check["held"][0]["amount"] == "0.000000", "{check}");
    let told = seen.whole.lock().unwrap().clone();
    let lost: Vec<_> = told.difference(&whole).collect();
    assert_eq!(lost, Vec::<&String>::new(), "answered whole, and not settled");
    let delivered: Value = http.get(format!("{}/delivered", heron.url())).send().await.unwrap().json().await.unwrap();
    let delivered = delivered["characters"].as_u64().unwrap();
    eprintln!("{kills} kills: {states:?}, {} whole, settled {settled}, delivered {delivered}", told.len());
    // A call that the engine never got is charged as held too.
    assert!(settled >= delivered, "the engine delivered {delivered} characters, and {settled} are charged");
    let uncertain = states.get("uncertain").copied().unwrap_or_default();
    assert!(uncertain <= kills * CALLERS, "{states:?}");
    assert!(told.len() as u64 > kills, "hardly anything was answered: {states:?}");
}
