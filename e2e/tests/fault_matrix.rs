//! Every weather, in every phase, over every simulated synthesiser, live and as
//! a job: the next leg answers, or a problem says why not; never is half an
//! answer called whole.

use std::time::{Duration, Instant};

use crate::BINARY;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

/// Each engine with its phases.
const ENGINES: [(&str, &[&str]); 7] = [
    ("bittern", &["call"]),
    ("curlew", &["call"]),
    ("godwit", &["token", "call"]),
    ("avocet", &["token", "call"]),
    ("sanderling", &["call", "poll", "link"]),
    ("dotterel", &["call"]),
    ("phalarope", &["call"]),
];
/// Engines that are called once for a text, since each call costs: what they
/// break off cannot be gone on with, and the answer breaks off too.
const CALLED_ONCE: [&str; 3] = ["sanderling", "dotterel", "phalarope"];
const WEATHERS: [&str; 14] = [
    "throttled",
    "down",
    "reset",
    "half",
    "drip",
    "garbage",
    "bad-base64",
    "wrong-type",
    "expired",
    "not-active-yet",
    "wrong-region",
    "missing-role",
    "unpaid",
    "echo",
];
const BROKEN: &str = "broken off";
const TEXT: &str = "The ramp is closing now. Stand clear of the doors.";

async fn reset(demo: &Demo, engine: &str) {
    let request = demo.http.delete(format!("{}/api/v1/breakers/{engine}", demo.url)).bearer_auth(&demo.operator);
    assert!(request.send().await.unwrap().status().is_success());
}

/// What comes of one request: the words, or why there are none.
async fn ask(demo: &Demo, voice: &str) -> Result<String, String> {
    let response = demo.speak(json!({"text": TEXT, "voice": voice, "language": "en-GB"}), "audio/wav").await;
    let (status, kind) = (response.status().as_u16(), header(&response, "content-type"));
    if status != 200 {
        let problem: Value = response.json().await.expect("a problem document");
        assert!(kind.starts_with("application/problem+json") && problem["type"].is_string(), "{status} {problem}");
        assert!((400..600).contains(&status) && status != 500, "{problem}");
        return Err(problem["detail"].to_string());
    }
    match response.bytes().await {
        Ok(audio) => Ok(words_of(&audio, Format::new(Codec::Wav, 24_000))),
        Err(_) => Err(BROKEN.into()),
    }
}

#[tokio::test]
async fn whatever_an_engine_does_the_next_leg_answers_or_a_problem_says_why() {
    let demo = Demo::start(BINARY).await;
    let (mut alone, mut spoken, mut failed) = (0, 0, Vec::new());
    for (engine, phases) in ENGINES {
        demo.put_route("pair", json!([{"engine": engine, "deadline": 5000}, {"engine": "heron"}])).await;
        demo.put_route("single", json!([{"engine": engine, "deadline": 5000}])).await;
        for weather in WEATHERS {
            for phase in phases {
                // Noise that is sent as raw samples cannot be told from speech.
                if weather == "garbage" && ["godwit", "dotterel"].contains(&engine) {
                    continue;
                }
                let forecast = json!({"weather": weather, "phase": phase, "calls": 3, "pause": 5});
                demo.weather_of(engine, forecast.clone()).await;
                match ask(&demo, "pair").await {
                    Ok(heard) if heard == TEXT => spoken += 1,
                    Err(why) if why == BROKEN && weather == "half" && CALLED_ONCE.contains(&engine) => {}
                    other => failed.push(format!("{engine}, {weather} in {phase}, with heron behind it: {other:?}")),
                }
                reset(&demo, engine).await;
                demo.weather_of(engine, forecast).await;
                match ask(&demo, "single").await {
                    Ok(heard) if heard == TEXT => alone += 1,
                    Ok(heard) => failed.push(format!("{engine}, {weather} in {phase}, called whole: {heard}")),
                    Err(_) => {}
                }
                reset(&demo, engine).await;
                demo.weather_of(engine, Value::Null).await;
            }
        }
    }
    eprintln!("{spoken} answers with a leg behind, {alone} by an engine alone");
    assert_eq!(failed, Vec::<String>::new());
    assert!(spoken > 140 && alone > 10, "{spoken} {alone}");
}

/// Waits until a job is over, or waits for its engine.
async fn end_of(demo: &Demo, id: &str) -> Value {
    let begun = Instant::now();
    loop {
        let job = demo.get(&format!("/api/v1/jobs/{id}")).await;
        if matches!(job["state"].as_str(), Some("done" | "failed" | "cancelled" | "waiting")) {
            return job;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "{job}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test]
async fn jobs_end_whole_whatever_an_engine_does() {
    let demo = Demo::start(BINARY).await;
    let mut failed = Vec::new();
    for (engine, _) in ENGINES {
        demo.put_route("pair", json!([{"engine": engine, "deadline": 5000}, {"engine": "heron"}])).await;
        for weather in WEATHERS {
            if weather == "garbage" && ["godwit", "dotterel"].contains(&engine) {
                continue;
            }
            demo.weather_of(engine, json!({"weather": weather, "calls": 3, "pause": 5})).await;
            let body = json!({"text": TEXT, "voice": "pair", "language": "en-GB", "audio": {"type": "audio/wav"}});
            let request = demo.post("/api/v1/utterances").header("Prefer", "respond-async").json(&body);
            let job: Value = request.send().await.unwrap().json().await.unwrap();
            let job = end_of(&demo, job["id"].as_str().unwrap()).await;
            let file = job["files"][0]["url"].as_str().unwrap_or_default().to_owned();
            let audio = demo.http.get(format!("{}{file}", demo.url)).bearer_auth(&demo.operator).send().await.unwrap();
            let heard = match job["state"] == "done" {
                true => words_of(&audio.bytes().await.unwrap(), Format::new(Codec::Wav, 24_000)),
                false => job.to_string(),
            };
            if heard.split_whitespace().collect::<Vec<_>>() != TEXT.split_whitespace().collect::<Vec<_>>() {
                failed.push(format!("{engine}, {weather}: {heard}"));
            }
            reset(&demo, engine).await;
            demo.weather_of(engine, Value::Null).await;
        }
    }
    assert_eq!(failed, Vec::<String>::new());
}
