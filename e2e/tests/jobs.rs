//! Long work over the network: kills, events, files, live calls beside it.

use crate::BINARY;
use std::time::{Duration, Instant};

use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, Service, check_signature, header, take_requests, words_of};
use dispatcher_standins::{StandIn, start_heron};
use futures::StreamExt as _;
use reqwest::Method;
use serde_json::{Value, json};

const HERON: &str = include_str!("../../demo/sheets/heron.toml");

/// The handbook as one text, its headings among it.
fn handbook() -> String {
    let document =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../demo/scripts/handbook.md")).unwrap();
    document.lines().map(|line| line.trim_start_matches(['#', ' '])).collect::<Vec<_>>().join("\n").trim().to_owned()
}

fn squeezed(text: &str) -> String {
    text.split_whitespace().collect()
}

/// A service with heron alone, which outlives it.
async fn with_heron() -> (Service, StandIn) {
    let heron = start_heron(0, "tkn/7Qx+canary").await.unwrap();
    let sheet = HERON.replace("http://127.0.0.1:7801", &heron.url());
    let service = Service::start(BINARY, &[("heron", sheet)]).await;
    let bind = json!({"engine": "heron", "parts": {"token": "tkn/7Qx+canary"}});
    assert_eq!(service.send(Method::POST, "/api/v1/credentials", bind).await.0, 201);
    (service, heron)
}

async fn submit(service: &Service, text: &str, audio: Value) -> String {
    let body = json!({"text": text, "voice": "heron/pellin", "audio": audio});
    let request = service.http.post(format!("{}/api/v1/utterances", service.url)).bearer_auth(&service.key);
    let response = request.header("Prefer", "respond-async").json(&body).send().await.unwrap();
    assert_eq!(response.status(), 202);
    assert_eq!(response.headers()["preference-applied"], "respond-async");
    let place = response.headers()["location"].to_str().unwrap().to_owned();
    let job: Value = response.json().await.unwrap();
    assert_eq!(place, format!("/api/v1/jobs/{}", job["id"].as_str().unwrap()));
    job["id"].as_str().unwrap().to_owned()
}

async fn until(service: &Service, id: &str, ready: impl Fn(&Value) -> bool) -> Value {
    let begun = Instant::now();
    loop {
        let job = service.get(&format!("/api/v1/jobs/{id}")).await;
        if ready(&job) {
            return job;
        }
        assert!(begun.elapsed() < Duration::from_secs(120), "{job}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

fn is_over(job: &Value) -> bool {
    matches!(job["state"].as_str(), Some("done" | "failed" | "cancelled"))
}

async fn delivered(heron: &StandIn) -> Value {
    reqwest::get(format!("{}/delivered", heron.url())).await.unwrap().json().await.unwrap()
}

#[tokio::test]
async fn a_job_that_is_killed_three_times_ends_whole_and_buys_no_settled_piece_again() {
    let (mut service, heron) = with_heron().await;
    let text = handbook();
    assert!(text.len() > 38_000, "{}", text.len());
    let id = submit(&service, &text, json!({"type": "audio/flac"})).await;
    for (kill, pieces) in [2, 5, 9].into_iter().enumerate() {
        until(&service, &id, |job| job["pieces"]["done"].as_u64() >= Some(pieces)).await;
        // Somewhere within the next piece.
        tokio::time::sleep(Duration::from_millis(37 * kill as u64)).await;
        service.kill_and_start(BINARY).await;
    }
    let job = until(&service, &id, is_over).await;
    assert_eq!(job["state"], "done", "{job}");
    let audio = service.http.get(format!("{}{}", service.url, job["files"][0]["url"].as_str().unwrap()));
    let audio = audio.bearer_auth(&service.key).send().await.unwrap().bytes().await.unwrap();
    assert_eq!(squeezed(&words_of(&audio, Format::new(Codec::Flac, 24_000))), squeezed(&text));
    let pieces = job["pieces"]["done"].as_u64().unwrap();
    assert_eq!(job["pieces"]["all"], pieces);
    let mut ends: Vec<String> = Vec::new();
    let list = service.get(&format!("/api/v1/dispatches?job={id}")).await;
    for dispatch in list["items"].as_array().unwrap() {
        let path = format!("/api/v1/dispatches/{}", dispatch["id"].as_str().unwrap());
        let attempts = service.get(&path).await["attempts"].clone();
        ends.extend(attempts.as_array().unwrap().iter().map(|attempt| attempt["state"].as_str().unwrap().to_owned()));
    }
    let count = |state: &str| ends.iter().filter(|end| *end == state).count() as u64;
    let calls = delivered(&heron).await["calls"].as_u64().unwrap();
    // One call was under way at each kill; it alone may be made again.
    assert!(count("uncertain") <= 3 && count("done") <= pieces && count("done") + count("uncertain") >= pieces);
    assert!((pieces..=pieces + count("uncertain")).contains(&calls), "{calls} calls for {pieces} pieces: {ends:?}");
    assert_eq!(ends.len() as u64, count("done") + count("uncertain"), "{ends:?}");
    let texts = service.http.get(format!("{}{}", service.url, job["files"][1]["url"].as_str().unwrap()));
    let captions = texts.bearer_auth(&service.key).send().await.unwrap().text().await.unwrap();
    let spoken: String = captions.lines().filter(|line| !line.contains("-->") && *line != "WEBVTT").collect();
    assert_eq!(squeezed(&spoken.replace("&amp;", "&")), squeezed(&text), "the captions have every word");
}

#[tokio::test]
async fn events_tell_each_step_and_end_with_the_job() {
    let (service, _heron) = with_heron().await;
    let text = handbook()[..9_000].to_owned();
    let id = submit(&service, &text, json!({"type": "audio/mpeg"})).await;
    let request = service.http.get(format!("{}/api/v1/jobs/{id}/events", service.url)).bearer_auth(&service.key);
    let response = request.send().await.unwrap();
    assert!(response.headers()["content-type"].to_str().unwrap().starts_with("text/event-stream"));
    let mut told = String::new();
    let mut stream = response.bytes_stream();
    while let Some(chunk) = tokio::time::timeout(Duration::from_secs(60), stream.next()).await.unwrap() {
        told += &String::from_utf8_lossy(&chunk.unwrap());
    }
    let events: Vec<Value> =
        told.lines().filter_map(|line| serde_json::from_str(line.strip_prefix("data:")?).ok()).collect();
    let done: Vec<u64> = events.iter().map(|job| job["pieces"]["done"].as_u64().unwrap()).collect();
    assert!(done.is_sorted() && done.len() >= 3, "{done:?}");
    let last = events.last().unwrap();
    assert_eq!(
        (last["state"].as_str(), last["pieces"]["done"].as_u64()),
        (Some("done"), last["pieces"]["all"].as_u64())
    );
    assert_eq!(last["files"][0]["type"], "audio/mpeg");
    let archive = service.http.get(format!("{}/api/v1/jobs/{id}/archive", service.url)).bearer_auth(&service.key);
    let archive = archive.send().await.unwrap();
    assert_eq!(archive.headers()["content-type"], "application/zip");
    assert_eq!(archive.headers()["dispatch-synthetic"], "?1");
    let bytes = archive.bytes().await.unwrap();
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    for (at, file) in last["files"].as_array().unwrap().iter().enumerate() {
        let packed = archive.by_index(at).unwrap();
        assert_eq!(
            (&*packed.name().unwrap(), Some(packed.size())),
            (file["name"].as_str().unwrap(), file["bytes"].as_u64())
        );
    }
}

#[tokio::test]
async fn the_client_follows_a_job_and_fetches_what_it_made() {
    let demo = Demo::start(BINARY).await;
    std::fs::write(demo.folder.path().join("notes.txt"), &handbook()[..5_000]).unwrap();
    let output = demo.client(&["job", "add", "notes.txt", "--voice", "heron/pellin", "--format", "mp3"]);
    assert!(output.status.success(), "{output:?}");
    let told = String::from_utf8(output.stdout).unwrap();
    let id = told.split_whitespace().next().unwrap().to_owned();
    assert!(told.contains("Follow it: dispatcher job wait"), "{told}");
    let output = demo.client(&["job", "wait", &id[..16], "-o", "made"]);
    assert!(output.status.success(), "{output:?}");
    let names: Vec<String> = String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect();
    assert_eq!(names.len(), 2, "{names:?}");
    let audio = std::fs::read(demo.folder.path().join(&names[0])).unwrap();
    assert_eq!(squeezed(&words_of(&audio, Format::new(Codec::Mp3, 24_000))), squeezed(&handbook()[..5_000]));
    let again = demo.client(&["job", "fetch", &id, "-o", "made"]);
    assert!(!again.status.success() && String::from_utf8_lossy(&again.stderr).contains("--force"), "{again:?}");
    let list = String::from_utf8(demo.client(&["job", "list"]).stdout).unwrap();
    assert!(list.contains(&id[..16]) && list.contains("done"), "{list}");
    assert!(demo.client(&["job", "remove", &id]).status.success());
    assert!(!demo.client(&["job", "show", &id]).status.success());
}

/// What each audio file of a folder says, by name.
fn spoken(folder: &std::path::Path) -> Vec<(String, String)> {
    let mut names: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    names.sort();
    let files = names.into_iter().filter(|path| path.extension().is_some_and(|extension| extension == "flac"));
    let said = |path: std::path::PathBuf| {
        let audio = std::fs::read(&path).unwrap();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        (name, squeezed(&words_of(&audio, Format::new(Codec::Flac, 24_000))))
    };
    files.map(said).collect()
}

#[tokio::test]
async fn a_document_becomes_files_by_its_headings() {
    let demo = Demo::start(BINARY).await;
    let page = "<h1>Rounds</h1><p>Every day.</p><h2>Upper deck</h2><p>Count twice<sup><a href='#n'>1</a></sup>.</p>\
                <h2>Lower deck</h2><p>The ramp is closing.</p>";
    std::fs::write(demo.folder.path().join("rounds.html"), page).unwrap();
    let arguments = ["job", "add", "rounds.html", "--voice", "heron/pellin", "--format", "flac"];
    let output = demo.client(&[&arguments[..], &["--split", "heading", "--wait", "-o", "made"]].concat());
    assert!(output.status.success(), "{output:?}");
    let made = spoken(&demo.folder.path().join("made"));
    let wanted = [
        ("001-rounds.flac", "Rounds Every day."),
        ("002-upper-deck.flac", "Upper deck Count twice."),
        ("003-lower-deck.flac", "Lower deck The ramp is closing."),
    ];
    assert_eq!(made, wanted.map(|(name, text)| (name.to_owned(), squeezed(text))));
    let captions = std::fs::read_to_string(demo.folder.path().join("made/002-upper-deck.vtt")).unwrap();
    assert!(captions.contains("\nUpper deck\n") && captions.contains("\nCount twice.\n"), "{captions}");
    for (body, kind, query, status, says) in [
        ("\u{89}PNG", "image/png", "", 415, "image/png"),
        (" ", "text/plain", "?voice=heron/pellin", 415, "no text"),
        ("One.", "text/plain", "?voice=heron/pellin&split=chapter", 422, "heading:6"),
        ("One.", "text/plain", "?voice=heron/pellin&split=heading", 422, "no headings"),
        ("One.", "text/plain", "?voice=heron/pellinn", 404, "heron/pellin"),
        ("One.", "text/plain", "?vioce=heron/pellin", 400, "vioce"),
    ] {
        let request = demo.post(&format!("/api/v1/jobs{query}")).header("Content-Type", kind).body(body);
        let response = request.send().await.unwrap();
        assert_eq!(response.status(), status, "{kind} {query}");
        let problem = response.text().await.unwrap();
        assert!(problem.contains(says), "{says} in {problem}");
    }
}

#[tokio::test]
async fn a_recording_is_uploaded_in_parts_after_a_break_and_written_down() {
    let demo = Demo::start(BINARY).await;
    let text = "All aboard for Gullsay. Mind the step at the last door.";
    let spoken = demo.speak(json!({"text": text, "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap();
    let begun = demo.post("/api/v1/uploads?name=call.wav&type=audio/wav").header("Upload-Complete", "?0");
    let begun = begun.body(spoken[..10_000].to_vec()).send().await.unwrap();
    assert_eq!((begun.status().as_u16(), begun.headers()["upload-offset"].to_str().unwrap()), (201, "10000"));
    let place = begun.headers()["location"].to_str().unwrap().to_owned();
    let part = async |offset: usize, to: usize, last: &str| {
        let request = demo.http.patch(format!("{}{place}", demo.url)).bearer_auth(&demo.app);
        let request = request.header("Upload-Offset", offset).header("Upload-Complete", last);
        request.body(spoken[offset..to].to_vec()).send().await.unwrap()
    };
    assert_eq!(part(20_000, 30_000, "?0").await.status(), 409, "a gap");
    let head = demo.http.head(format!("{}{place}", demo.url)).bearer_auth(&demo.app).send().await.unwrap();
    assert_eq!((head.status().as_u16(), head.headers()["upload-offset"].to_str().unwrap()), (204, "10000"));
    let id = place.rsplit('/').next().unwrap();
    let early = demo.post(&format!("/api/v1/transcripts?upload={id}&engine=turnstone")).send().await.unwrap();
    assert_eq!(early.status(), 409, "it is not complete");
    assert_eq!(part(10_000, spoken.len(), "?1").await.status(), 204);
    let request = demo.post(&format!("/api/v1/transcripts?upload={id}&engine=turnstone&title=Call"));
    let job: Value = request.header("Prefer", "respond-async").send().await.unwrap().json().await.unwrap();
    let id = job["id"].as_str().unwrap();
    let output = demo.client(&["job", "wait", id, "-o", "made"]);
    assert!(output.status.success(), "{output:?}");
    let said = std::fs::read_to_string(demo.folder.path().join("made/call.txt")).unwrap();
    assert_eq!(said.trim(), text);
    let captions = std::fs::read_to_string(demo.folder.path().join("made/call.vtt")).unwrap();
    assert!(captions.contains("All aboard for Gullsay."), "{captions}");
    for path in ["files/call.txt", "archive"] {
        let request = demo.http.get(format!("{}/api/v1/jobs/{id}/{path}", demo.url)).bearer_auth(&demo.app);
        let fetched = request.send().await.unwrap();
        assert_eq!(
            (fetched.status().as_u16(), header(&fetched, "dispatch-synthetic")),
            (200, String::new()),
            "a person said {path}"
        );
    }
}

#[tokio::test]
async fn an_app_sees_its_own_jobs_alone() {
    let demo = Demo::start(BINARY).await;
    let request = demo.post("/api/v1/utterances").header("Prefer", "respond-async");
    let job: Value = request.json(&json!({"text": "All aboard."})).send().await.unwrap().json().await.unwrap();
    let id = job["id"].as_str().unwrap();
    assert!(demo.client(&["app", "add", "other", "--default-voice", "quayside"]).status.success());
    let key = String::from_utf8(demo.client(&["app", "key", "add", "other"]).stdout).unwrap().trim().to_owned();
    for path in ["", "/events", "/archive", "/files/all-aboard.wav"] {
        let request = demo.http.get(format!("{}/api/v1/jobs/{id}{path}", demo.url)).bearer_auth(&key);
        assert_eq!(request.send().await.unwrap().status(), 404, "{path}");
    }
    let request = demo.http.post(format!("{}/api/v1/jobs/{id}/cancel", demo.url)).bearer_auth(&key);
    assert_eq!(request.send().await.unwrap().status(), 404);
    let list: Value = demo
        .http
        .get(format!("{}/api/v1/jobs", demo.url))
        .bearer_auth(&key)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(list["items"], json!([]));
}

#[tokio::test]
async fn the_end_of_a_job_is_told_signed_and_again_where_nobody_answers() {
    let (mut service, _heron) = with_heron().await;
    let (host, mut heard) = take_requests(&[503, 200]).await;
    let address = format!("http://{host}/told?of=jobs");
    let ask = async |service: &Service| {
        let url = format!("{}/api/v1/jobs?voice=heron/pellin&webhook={address}", service.url);
        let request = service.http.post(url).bearer_auth(&service.key).header("Content-Type", "text/plain");
        request.body("All aboard.").send().await.unwrap()
    };
    let refused = ask(&service).await;
    assert_eq!(refused.status(), 422);
    assert!(refused.text().await.unwrap().contains("webhook_hosts"));
    std::fs::write(service.folder.path().join("dispatcher.toml"), format!("webhook_hosts = [\"{host}\"]\n")).unwrap();
    service.kill_and_start(BINARY).await;
    let job: Value = ask(&service).await.json().await.unwrap();
    let (_, first) = tokio::time::timeout(Duration::from_secs(20), heard.recv()).await.unwrap().unwrap();
    let (head, body) = tokio::time::timeout(Duration::from_secs(20), heard.recv()).await.unwrap().unwrap();
    assert_eq!(first, body, "the same is told again");
    let told: Value = serde_json::from_slice(&body).unwrap();
    assert_eq!((&told["id"], told["state"].as_str()), (&job["id"], Some("done")));
    check_signature(&service.get("/api/v1/webhook-key").await, &head, &body, &address);
}
