//! What could be lost, or be called whole when it is not: over the network
//! and by the client.

use crate::BINARY;
use std::time::{Duration, Instant};

use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_e2e::{Demo, header, words_of};
use dispatcher_standins::tone;
use serde_json::{Value, json};

fn wav() -> Format {
    Format::new(Codec::Wav, 24_000)
}

async fn job(demo: &Demo, id: &str) -> Value {
    demo.get(&format!("/api/v1/jobs/{id}")).await
}

async fn until(demo: &Demo, id: &str, ready: impl Fn(&Value) -> bool) -> Value {
    let begun = Instant::now();
    loop {
        let seen = job(demo, id).await;
        if ready(&seen) {
            return seen;
        }
        assert!(begun.elapsed() < Duration::from_secs(120), "{seen}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

fn is_over(job: &Value) -> bool {
    ["done", "failed", "cancelled"].contains(&job["state"].as_str().unwrap())
}

async fn submit(demo: &Demo, path: &str, kind: &str, body: Vec<u8>) -> String {
    let request = demo.post(path).header("Prefer", "respond-async").header("Content-Type", kind).body(body);
    let answer = request.send().await.unwrap();
    assert_eq!(answer.status(), 202, "{path}");
    answer.json::<Value>().await.unwrap()["id"].as_str().unwrap().to_owned()
}

async fn file_of(demo: &Demo, job: &Value, extension: &str) -> Vec<u8> {
    let files = job["files"].as_array().unwrap();
    let file = files.iter().find(|file| file["name"].as_str().unwrap().ends_with(extension)).unwrap();
    let url = format!("{}{}", demo.url, file["url"].as_str().unwrap());
    demo.http.get(url).bearer_auth(&demo.app).send().await.unwrap().bytes().await.unwrap().to_vec()
}

fn announcements(count: usize) -> String {
    (1..=count)
        .map(|n| format!("Crossing {n} to Gullsay leaves from berth {}.", n % 4 + 1))
        .collect::<Vec<_>>()
        .join("\n\n")
}

#[tokio::test]
async fn jobs_of_both_kinds_outlive_kills_of_the_whole_demo() {
    let mut demo = Demo::start(BINARY).await;
    let text = "Stand clear of the doors. The crew opens them once the ship is fast.";
    let recording =
        demo.speak(json!({"text": text, "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap();
    for _ in 0..3 {
        let told = announcements(60);
        let spoken =
            submit(&demo, "/api/v1/jobs?voice=heron/pellin&type=flac&split=line", "text/plain", told.clone().into())
                .await;
        let heard =
            submit(&demo, "/api/v1/transcripts?engine=turnstone&title=Call", "audio/wav", recording.to_vec()).await;
        until(&demo, &spoken, |job| job["pieces"]["done"].as_u64() >= Some(2)).await;
        demo = Demo::start_in(BINARY, demo.kill()).await;
        let (spoken, heard) = (until(&demo, &spoken, is_over).await, until(&demo, &heard, is_over).await);
        for ended in [&spoken, &heard] {
            assert_eq!(ended["state"], "done", "{ended}");
        }
        assert_eq!(String::from_utf8(file_of(&demo, &heard, ".txt").await).unwrap().trim(), text);
        let first = file_of(&demo, &spoken, ".flac").await;
        assert_eq!(words_of(&first, Format::new(Codec::Flac, 24_000)), "Crossing 1 to Gullsay leaves from berth 2.");
        let files = spoken["files"].as_array().unwrap();
        let sounds = files.iter().filter(|file| file["name"].as_str().unwrap().ends_with(".flac")).count();
        assert_eq!(sounds, 60, "a file for each line");
    }
}

#[tokio::test]
async fn a_cancelled_job_goes_on_and_buys_nothing_again() {
    let demo = Demo::start(BINARY).await;
    demo.weather(json!({"weather": "drip", "pause": 5})).await;
    let path = "/api/v1/jobs?voice=heron/pellin&type=flac&split=line";
    let id = submit(&demo, path, "text/plain", announcements(12).into()).await;
    until(&demo, &id, |job| job["pieces"]["done"].as_u64() >= Some(3)).await;
    let cancelled = demo.client(&["job", "cancel", &id]);
    assert!(cancelled.status.success(), "{cancelled:?}");
    let before = job(&demo, &id).await;
    let resumed = demo.client(&["job", "resume", &id]);
    assert!(resumed.status.success(), "{resumed:?}");
    let done = until(&demo, &id, is_over).await;
    assert_eq!((&done["state"], &done["pieces"]["done"]), (&json!("done"), &json!(12)), "{before} {done}");
    let calls = demo.delivered().await["calls"].as_u64().unwrap();
    assert!((12..=13).contains(&calls), "{calls} calls: the one under way at most is bought again");
    let again = demo.client(&["job", "resume", &id]);
    assert!(!again.status.success());
    let told = String::from_utf8_lossy(&again.stderr).into_owned();
    assert!(told.contains("it is done"), "{told}");
}

#[tokio::test]
async fn answers_of_known_length_and_files_in_ranges() {
    let demo = Demo::start(BINARY).await;
    let text = "Mind the step between ship and shore.";
    let whole = demo.speak(json!({"text": text, "voice": "heron/pellin", "audio": {"whole": true}}), "audio/wav").await;
    let length: usize = header(&whole, "content-length").parse().unwrap();
    let audio = whole.bytes().await.unwrap();
    assert_eq!(length, audio.len());
    assert_eq!(u32::from_le_bytes(audio[4..8].try_into().unwrap()) as usize, length - 8, "the header is true");
    assert_eq!(words_of(&audio, wav()), text);
    let request = demo.post("/api/v1/utterances?voice=heron/pellin&type=wav&whole=true&deadline=20");
    let asked = request.header("Content-Type", "text/plain").body(text).send().await.unwrap();
    assert_eq!(header(&asked, "content-length"), length.to_string(), "the same by the address");
    let twice =
        demo.post("/api/v1/utterances?voice=heron/pellin&voice=heron/davi").header("Content-Type", "text/plain");
    assert_eq!(twice.body(text).send().await.unwrap().status(), 422, "which of them?");

    let id = submit(&demo, "/api/v1/jobs?voice=heron/pellin&type=wav", "text/plain", text.into()).await;
    let done = until(&demo, &id, is_over).await;
    let file = file_of(&demo, &done, ".wav").await;
    let url = format!("{}{}", demo.url, done["files"][0]["url"].as_str().unwrap());
    let part = demo.http.get(url).bearer_auth(&demo.app).header("Range", "bytes=100-299").send().await.unwrap();
    assert_eq!(
        (part.status().as_u16(), header(&part, "content-range")),
        (206, format!("bytes 100-299/{}", file.len()))
    );
    assert_eq!(part.bytes().await.unwrap(), &file[100..300]);
}

#[tokio::test]
async fn damaged_audio_is_heard_as_far_as_it_goes_and_silence_is_no_failure() {
    let demo = Demo::start(BINARY).await;
    let text = "The ramp is closing. The next crossing is in an hour.";
    let audio = demo.speak(json!({"text": text, "voice": "heron/pellin"}), "audio/flac").await.bytes().await.unwrap();
    let torn = [b"HTTP/1.1 200 OK\r\n\r\n".as_slice(), &audio].concat();
    let request = demo.post("/api/v1/transcripts?engine=turnstone").header("Content-Type", "audio/flac");
    let heard = request.body(torn.clone()).send().await.unwrap();
    let warning = header(&heard, "dispatch-warning");
    assert!(warning.contains("19 bytes before the audio are not audio; they are ignored"), "{warning}");
    assert_eq!(heard.json::<Value>().await.unwrap()["text"], text);
    let request = demo.post("/api/v1/transcripts?engine=turnstone").header("Content-Type", "audio/flac");
    let strict = request.header("Prefer", "handling=strict").body(torn).send().await.unwrap();
    assert_eq!(strict.status(), 415);
    let silence = encode_all(&vec![0.0; 48_000], wav()).unwrap();
    let nothing = demo.hear(silence, "audio/wav", "?engine=turnstone").await;
    assert_eq!((&nothing["text"], nothing["words"].as_array().map(Vec::len)), (&json!(""), Some(0)), "{nothing}");
}

#[tokio::test]
async fn a_caller_is_told_before_it_is_charged() {
    let demo = Demo::start(BINARY).await;
    let french = "Bonjour à tous, le bateau pour les îles part ce matin à neuf heures du quai numéro deux.";
    let spoken = demo.speak(json!({"text": french, "voice": "heron/pellin"}), "audio/wav").await;
    let warning = header(&spoken, "dispatch-warning");
    assert!(warning.contains("speaks en-GB") && warning.contains("fr"), "{warning}");
    spoken.bytes().await.unwrap();
    let calls = demo.delivered().await["calls"].clone();
    let lost =
        demo.client(&["speak", "The ramp is closing", "--voice", "heron/pellin", "-o", "no-such-folder/gap.mp3"]);
    assert!(!lost.status.success());
    let told = String::from_utf8_lossy(&lost.stderr).into_owned();
    assert!(told.contains("no-such-folder"), "{told}");
    assert_eq!(demo.delivered().await["calls"], calls, "and heron was not asked");
    let table = demo.client(&["usage", "--csv"]);
    let table = String::from_utf8(table.stdout).unwrap();
    let mut lines = table.lines();
    let head: Vec<&str> = lines.next().unwrap().split(',').collect();
    assert!(head.contains(&"app") && head.contains(&"engine") && head.contains(&"characters"), "{head:?}");
    let at = head.iter().position(|name| *name == "characters").unwrap();
    let heron = lines.find(|line| line.contains("heron")).unwrap_or_else(|| panic!("{table}"));
    assert_eq!(heron.split(',').nth(at), Some(french.chars().count().to_string().as_str()), "{table}");
}

/// Announcements as audio of 16 kHz, and their text; longer than so many seconds.
fn recording_of(seconds: usize) -> (Vec<f32>, String) {
    let (mut samples, mut lines) = (Vec::new(), Vec::new());
    while samples.len() < seconds * 16_000 {
        let line = format!("Crossing {} to Gullsay leaves from berth {}.", lines.len() + 1, lines.len() % 4 + 1);
        samples.extend(tone::speak(&line, tone::Manner { pitch: 1.0, rate: 1.5 }, 16_000));
        samples.extend([0.0; 16_000]);
        lines.push(line);
    }
    (samples, lines.join(" "))
}

#[tokio::test]
async fn a_recording_too_long_for_one_call_is_recognised_as_a_job() {
    let demo = Demo::start(BINARY).await;
    // Whimbrel takes 200 s in one call.
    let (samples, text) = recording_of(220);
    let file = demo.folder.path().join("round.wav");
    std::fs::write(&file, encode_all(&samples, Format::new(Codec::Wav, 16_000)).unwrap()).unwrap();
    let done = demo.client(&["transcribe", file.to_str().unwrap(), "--engine", "whimbrel"]);
    let told = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(done.status.success(), "{told}");
    let heard = String::from_utf8(done.stdout).unwrap();
    assert_eq!(heard.split_whitespace().collect::<Vec<_>>(), text.split_whitespace().collect::<Vec<_>>(), "{told}");
    let first = told
        .find("too long for one call; it is transcribed as a job, estimated cost ")
        .unwrap_or_else(|| panic!("{told}"));
    assert!(told.find("dispatcher job wait").is_some_and(|at| at > first), "the cost is said before it begins: {told}");
    let jobs = demo.get("/api/v1/jobs").await;
    assert_eq!(jobs["items"][0]["pieces"], json!({"done": 2, "all": 2}), "{jobs}");
    // What comes from a pipe cannot be read twice: it is advised, in words of the command line.
    let mut piped = demo.client_command(&["transcribe", "-", "--engine", "whimbrel"]);
    let refused = piped.stdin(std::fs::File::open(&file).unwrap()).output().unwrap();
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && told.contains("dispatcher job add FILE"), "{told}");
    assert!(!told.contains("Prefer") && !told.contains("respond-async"), "{told}");
}

#[tokio::test]
async fn the_demo_reads_the_settings_of_its_folder() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("dispatcher.toml"), "body_megabytes = 1\n").unwrap();
    let demo = Demo::start_in(BINARY, folder).await;
    let (status, problem) = demo.try_to_hear(vec![0; 1_500_000], "audio/wav", "").await;
    assert_eq!(status, 413, "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains('1'), "{problem}");
}

#[tokio::test]
async fn a_file_larger_than_a_request_is_estimated_and_charged_nothing() {
    let demo = Demo::start(BINARY).await;
    // 96 MB of silence, which no engine takes in one call.
    let file = demo.folder.path().join("long.wav");
    std::fs::write(&file, encode_all(&vec![0.0; 1_000 * 48_000], Format::new(Codec::Wav, 48_000)).unwrap()).unwrap();
    let before = demo.delivered().await;
    let estimate = demo.client(&["estimate", "--audio", file.to_str().unwrap(), "--json"]);
    assert!(estimate.status.success(), "{}", String::from_utf8_lossy(&estimate.stderr));
    let estimate: Value = serde_json::from_slice(&estimate.stdout).unwrap();
    assert_eq!((estimate["duration"].as_f64(), &estimate["exact"]), (Some(1_000.0), &json!(true)), "{estimate}");
    let plan = estimate["plan"].as_array().unwrap();
    let turnstone = plan.iter().find(|line| line["engine"] == "turnstone").unwrap_or_else(|| panic!("{estimate}"));
    assert_eq!(turnstone["cost"], json!({"amount": "0.400000", "currency": "EUR"}), "1,000 s at 0.0004");
    assert!(estimate["warnings"].to_string().contains("in parts, as a job"), "{estimate}");
    assert_eq!(demo.delivered().await, before);
    assert_eq!(std::fs::read_dir(demo.data().join("uploads")).map_or(0, Iterator::count), 0, "nothing of it is kept");
}
