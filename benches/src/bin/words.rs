//! Measures what speed costs a recogniser: sentences that the voices of a
//! local engine speak through the service, at three speeds, are heard by
//! another local engine, through the service again. Prints the word errors of
//! each in per cent, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::sync::Arc;

use dispatcher_benches::{Service, binary, operator_key};
use dispatcher_core::{WordErrors, word_errors};
use serde_json::{Value, json};
use tokio::task::JoinSet;

/// None of these was used to set the constants of the measure of the tempo.
const SENTENCES: &str = include_str!("../../data/sentences.txt");
const VOICES: [&str; 4] = ["rms", "slt", "kal16", "awb"];
const SPEEDS: [(&str, f64); 3] = [("100%", 1.0), ("70%", 0.7), ("140%", 1.4)];
/// Sentences that are heard at once.
const AT_ONCE: usize = 2;

struct Bench {
    http: reqwest::Client,
    service: Service,
    key: String,
}

impl Bench {
    fn post(&self, path: &str) -> reqwest::RequestBuilder {
        self.http.post(format!("{}/api/v1/{path}", self.service.url)).bearer_auth(&self.key)
    }

    async fn errors(&self, voice: &str, rate: &str, sentence: &str) -> WordErrors {
        let body = json!({"text": sentence, "voice": format!("flite/{voice}"), "prosody": {"rate": rate}});
        let spoken = self.post("utterances").header("Accept", "audio/wav").json(&body).send().await.unwrap();
        assert!(spoken.status().is_success(), "{}", spoken.status());
        let audio = spoken.bytes().await.unwrap();
        let hearing = self.post("transcripts?engine=pocketsphinx").header("Content-Type", "audio/wav").body(audio);
        let heard = hearing.send().await.unwrap();
        assert!(heard.status().is_success(), "{}", heard.status());
        let heard: Value = heard.json().await.unwrap();
        word_errors(sentence, heard["text"].as_str().unwrap())
    }

    /// Per cent of the words that are heard wrong.
    async fn rate(self: &Arc<Self>, voice: &'static str, rate: &'static str) -> f64 {
        let sentences: Vec<&str> = SENTENCES.lines().collect();
        let mut whole = WordErrors { errors: 0, words: 0 };
        for some in sentences.chunks(AT_ONCE) {
            let mut tasks = JoinSet::new();
            for sentence in some.iter().map(|sentence| (*sentence).to_owned()) {
                let bench = self.clone();
                tasks.spawn(async move { bench.errors(voice, rate, &sentence).await });
            }
            for found in tasks.join_all().await {
                whole = WordErrors { errors: whole.errors + found.errors, words: whole.words + found.words };
            }
        }
        100.0 * whole.rate()
    }
}

#[tokio::main]
async fn main() {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&binary(), &data, "http://127.0.0.1:9", &http).await;
    let key = operator_key(&data).await;
    let bench = Arc::new(Bench { http, service, key });
    println!("{:<6} {}   mean", "speed", VOICES.map(|voice| format!("{voice:>7}")).join(" "));
    let mut report = Vec::new();
    for (rate, speed) in SPEEDS {
        let mut found = Vec::new();
        for voice in VOICES {
            found.push(bench.rate(voice, rate).await);
        }
        let mean = found.iter().sum::<f64>() / found.len() as f64;
        let row: Vec<String> = found.iter().map(|errors| format!("{errors:>6.1}%")).collect();
        println!("{speed:<6} {} {mean:>5.1}%", row.join(" "));
        report.push(json!({"speed": speed, "word_errors_percent": found, "mean": mean}));
    }
    println!("{}", Value::from(report));
}
