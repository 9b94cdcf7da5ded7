//! What an app has done with its transcripts: names, commands, masks, kept
//! versions, languages, addresses, comparisons; the same by file, as a job and
//! live.

use std::time::Duration;

use crate::BINARY;
use crate::live::{connect, converse, opening, spoken};
use dispatcher_e2e::Demo;
use futures::SinkExt as _;
use reqwest::Method;
use serde_json::{Value, json};

async fn send(demo: &Demo, key: &str, method: Method, path: &str, body: Value) -> (u16, Value) {
    let request = demo.http.request(method, format!("{}/api/v1/{path}", demo.url)).bearer_auth(key).json(&body);
    let response = request.send().await.unwrap();
    let status = response.status().as_u16();
    (status, response.json().await.unwrap_or(Value::Null))
}

async fn read(demo: &Demo, key: &str, path: &str, accept: &str) -> (u16, String) {
    let request = demo.http.get(format!("{}/api/v1/{path}", demo.url)).bearer_auth(key).header("Accept", accept);
    let response = request.send().await.unwrap();
    (response.status().as_u16(), response.text().await.unwrap())
}

async fn recording(demo: &Demo, text: &str) -> Vec<u8> {
    let response = demo.speak(json!({"text": text, "voice": "heron/pellin"}), "audio/wav").await;
    assert_eq!(response.status(), 200);
    response.bytes().await.unwrap().to_vec()
}

const CARD: &str = "My card is 4000 0012 3456 7899, my booking SF-204816.";

#[tokio::test]
async fn a_name_is_corrected_a_number_masked_and_a_phrase_is_a_command_by_file_as_a_job_and_live() {
    let demo = Demo::start(BINARY).await;
    let said = "When is the next ferry to gull say?";
    let heard = demo.hear(recording(&demo, said).await, "audio/wav", "?engine=turnstone").await;
    assert_eq!(heard["text"], "When is the next ferry to Gullsay?");
    let change = &heard["changes"][0];
    assert_eq!(
        (&change["by"], &change["heard"], &change["written"]),
        (&json!("vocabulary"), &json!("gull say"), &json!("Gullsay"))
    );
    let word = heard["words"].as_array().unwrap().last().unwrap();
    assert_eq!((word["text"].as_str(), &word["start"]), (Some("Gullsay?"), &change["start"]));
    assert_eq!(heard["command"], json!({"command": "next-departure", "slots": {"place": "Gullsay"}}));
    // Nothing but the masked text is anywhere: in the answer, in what is kept, in the log.
    let (card, kind) = (spoken(&[CARD], 0.3), "audio/pcm;rate=16000");
    let masked = demo.hear(card.clone(), kind, "?engine=turnstone").await;
    assert_eq!(masked["text"], "My card is [card-number], my booking [booking].");
    assert_eq!((&masked["command"], masked["changes"].as_array().unwrap().len()), (&Value::Null, 2));
    let job = demo.post("/api/v1/transcripts?engine=turnstone&title=Call").header("Content-Type", kind);
    let job = job.header("Prefer", "respond-async").body(card).send().await.unwrap();
    let job: Value = job.json().await.unwrap();
    let id = job["id"].as_str().unwrap();
    let deadline = std::time::Instant::now() + Duration::from_secs(60);
    while demo.get(&format!("/api/v1/jobs/{id}")).await["state"] != "done" {
        assert!(std::time::Instant::now() < deadline, "the job does not end");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let (_, text) = read(&demo, &demo.app, &format!("transcripts/{id}"), "text/plain").await;
    assert_eq!(text.trim(), "My card is [card-number], my booking [booking].");
    for file in dispatcher_e2e::files_below(&demo.data()) {
        let bytes = std::fs::read(&file).unwrap_or_default();
        for secret in ["4000 0012", "SF-204816"] {
            let found = bytes.windows(secret.len()).any(|window| window == secret.as_bytes());
            assert!(!found, "{secret} is in {}", file.display());
        }
    }
    assert!(!demo.log().contains("0012"));
    // Live: what was said is a command once it is final, and the same words are corrected.
    let mut socket = connect(&demo, &demo.app).await;
    socket.send(opening(json!({"engine": "whimbrel"}))).await.unwrap();
    let (messages, code) = converse(socket, spoken(&[said, "Close the ramp."], 1.3), 16_000).await;
    assert_eq!(code, Some(1000));
    let finals: Vec<&Value> = messages.iter().filter(|message| message["type"] == "final").collect();
    assert_eq!(finals[0]["command"], heard["command"]);
    assert_eq!((&finals[0]["text"], &finals[0]["changes"][0]["heard"]), (&heard["text"], &json!("gull say")));
    assert_eq!(finals[1]["command"], json!({"command": "close-ramp", "slots": {}}));
    assert!(messages.iter().filter(|message| message["type"] == "interim").all(|message| message["command"].is_null()));
    let last = messages.last().unwrap();
    assert_eq!(last["text"], "When is the next ferry to Gullsay? Close the ramp.");
    assert_eq!(last["kept"], true);
    let (_, vtt) =
        read(&demo, &demo.app, &format!("transcripts/{}", last["dispatch"].as_str().unwrap()), "text/vtt").await;
    assert!(vtt.starts_with("WEBVTT\n\n00:00:0") && vtt.contains("next ferry to Gullsay?\n"), "{vtt}");
}

#[tokio::test]
async fn a_kept_transcript_is_corrected_version_by_version_and_seen_by_its_app_alone() {
    let demo = Demo::start(BINARY).await;
    let heard = demo.hear(recording(&demo, "The lamp is closing now.").await, "audio/wav", "?engine=turnstone").await;
    assert_eq!(heard["kept"], true);
    let id = heard["dispatch"].as_str().unwrap();
    let place = format!("transcripts/{id}");
    let correct = |text: &str, version: i64| {
        send(&demo, &demo.app, Method::PUT, &place, json!({"text": text, "version": version}))
    };
    let (status, kept) = correct("The ramp is closing now. My card: 4000001234567899", 1).await;
    assert_eq!((status, &kept["version"]), (200, &json!(2)));
    assert_eq!(kept["text"], "The ramp is closing now. My card: [card-number]");
    let (before, after) = (&heard["words"], &kept["words"]);
    for (at, text) in [(0, "The"), (1, "ramp"), (2, "is"), (3, "closing"), (4, "now.")] {
        assert_eq!(after[at]["text"], text);
        assert_eq!((&after[at]["start"], &after[at]["end"]), (&before[at]["start"], &before[at]["end"]));
    }
    let (status, refused) = correct("another", 1).await;
    assert_eq!((status, refused["type"].as_str().map(|it| it.ends_with("/problems/changed"))), (409, Some(true)));
    let (_, first) = read(&demo, &demo.app, &format!("{place}?version=1"), "text/plain").await;
    assert_eq!(first, "The lamp is closing now.\n");
    let (_, whole) = read(&demo, &demo.operator, &place, "application/json").await;
    let whole: Value = serde_json::from_str(&whole).unwrap();
    let made: Vec<_> = whole["versions"].as_array().unwrap().iter().map(|one| one["by"].clone()).collect();
    assert_eq!((made.len(), &made[1]), (2, &json!("turnstone")));
    assert_eq!(read(&demo, &demo.app, &format!("{place}?version=3"), "text/plain").await.0, 404);
    // Another app neither sees nor changes it.
    let (_, key) = send(&demo, &demo.operator, Method::POST, "apps/helpline/keys", json!({"label": "x"})).await;
    let other = key["key"].as_str().unwrap();
    assert_eq!(read(&demo, other, &place, "text/plain").await.0, 404);
    let stolen = send(&demo, other, Method::PUT, &place, json!({"text": "x", "version": 2})).await;
    assert_eq!((stolen.0, send(&demo, other, Method::DELETE, &place, Value::Null).await.0), (404, 404));
    // An app that does not keep any has none.
    let audio = recording(&demo, "Cast off.").await;
    let request = demo.http.post(format!("{}/api/v1/transcripts?engine=turnstone", demo.url)).bearer_auth(other);
    let response = request.header("Content-Type", "audio/wav").body(audio).send().await.unwrap();
    let unkept: Value = response.json().await.unwrap();
    assert_eq!(unkept["kept"], false);
    assert_eq!(read(&demo, other, "transcripts", "application/json").await.1, r#"{"items":[],"next":null}"#);
    let deleted = send(&demo, &demo.app, Method::DELETE, &place, Value::Null).await;
    assert_eq!((deleted.0, read(&demo, &demo.app, &place, "text/plain").await.0), (204, 404));
}

#[tokio::test]
async fn rules_are_versions_of_their_app_and_a_fault_is_told_at_its_place() {
    let demo = Demo::start(BINARY).await;
    let word = json!({"grapheme": ["Tarnwick"], "alias": ["turn wick"]});
    let (status, kept) = send(&demo, &demo.app, Method::POST, "vocabulary/words", word).await;
    assert_eq!((status, &kept["version"], kept["words"].as_array().unwrap().len()), (200, &json!(2), 4));
    let tried = json!({"text": "to turn wick, card four thousand"});
    let (_, tried) = send(&demo, &demo.app, Method::POST, "vocabulary/try", tried).await;
    assert_eq!(tried["text"], "to Tarnwick, card four thousand");
    for (path, body, pointer) in [
        ("vocabulary", json!({"words": [{"grapheme": []}]}), "/words/0/grapheme"),
        ("phrases", json!({"phrases": [{"command": "x", "phrase": "go [now"}]}), "/phrases/0/phrase"),
    ] {
        let (status, problem) = send(&demo, &demo.app, Method::PUT, path, body).await;
        assert_eq!((status, problem["errors"][0]["pointer"].as_str()), (422, Some(pointer)), "{problem}");
    }
    let masks = json!({"rules": [{"name": "pin", "digits": [4, 6]}]});
    assert_eq!(send(&demo, &demo.app, Method::PUT, "masks", masks.clone()).await.0, 403, "an app keeps its masks");
    let (status, kept) = send(&demo, &demo.operator, Method::PUT, "masks?app=quay-announcer", masks).await;
    assert_eq!((status, kept["rules"][0]["digits"].clone()), (200, json!([4, 6])));
    let elsewhere = send(&demo, &demo.app, Method::PUT, "phrases?app=helpline", json!({"phrases": []})).await;
    assert_eq!(elsewhere.0, 403);
    let (_, versions) = read(&demo, &demo.app, "vocabulary/versions", "application/json").await;
    let versions: Value = serde_json::from_str(&versions).unwrap();
    assert_eq!(versions["items"].as_array().unwrap().len(), 2);
    // The client reads and changes the same.
    let shown = demo.client(&["vocabulary", "show", "--app", "quay-announcer"]);
    assert!(String::from_utf8_lossy(&shown.stdout).contains("turn wick"), "{shown:?}");
    let tried = demo.client(&["vocabulary", "try", "close the ramp at scare oh", "--app", "quay-announcer"]);
    let tried = String::from_utf8(tried.stdout).unwrap();
    assert_eq!(tried, "close the ramp at Skerrow\n  'scare oh' became 'Skerrow' (likeness 1.00)\n");
    let removed = demo.client(&["vocabulary", "remove", "Tarnwick", "--app", "quay-announcer"]);
    assert!(String::from_utf8_lossy(&removed.stderr).contains("version 3: 3 words"), "{removed:?}");
    let again = demo.client(&["vocabulary", "remove", "Tarnwick", "--app", "quay-announcer"]);
    assert_eq!(again.status.code(), Some(1));
    let changed = demo.client(&["app", "change", "helpline", "--region", "north", "--transcript-days", "3"]);
    assert!(changed.status.success(), "{changed:?}");
    let app = demo.get("/api/v1/apps/helpline").await;
    assert_eq!(
        (&app["region"], &app["transcript_days"], &app["default_format"]),
        (&json!("north"), &json!(3), &json!("phone"))
    );
    demo.client(&["app", "change", "helpline", "--region", "none", "--transcript-days", "none"]);
    let app = demo.get("/api/v1/apps/helpline").await;
    assert_eq!((&app["region"], &app["transcript_days"]), (&Value::Null, &Value::Null));
}

#[tokio::test]
async fn the_language_is_stated_else_the_apps_else_the_likeliest_and_the_answer_says_which() {
    let demo = Demo::start(BINARY).await;
    let audio = recording(&demo, "Have a calm crossing.").await;
    let hear =
        async |query: &str| demo.try_to_hear(audio.clone(), "audio/wav", &format!("?engine=turnstone{query}")).await;
    let (_, stated) = hear("&language=en-GB").await;
    assert_eq!((&stated["language"], &stated["language_from"]), (&json!("en-GB"), &json!("request")));
    let (status, refused) = hear("&language=xx-bogus").await;
    assert_eq!((status.as_u16(), &refused["errors"][0]["pointer"]), (422, &json!("/language")));
    demo.client(&["app", "change", "quay-announcer", "--language", "en-IE"]);
    let (_, own) = hear("").await;
    assert_eq!((&own["language"], &own["language_from"]), (&json!("en-IE"), &json!("app")));
    let (_, auto) = hear("&language=auto").await;
    assert_ne!(auto["language_from"], "app");
    let (_, compared) = hear("&language=auto&languages=ja,en-GB").await;
    assert_eq!(compared["language_from"], "compared");
    let told: Vec<_> = compared["languages"].as_array().unwrap().iter().map(|one| one["language"].clone()).collect();
    assert_eq!(told, ["ja", "en-GB"]);
    assert!(compared["languages"][0]["cost"]["amount"].is_string() && compared["text"] == "Have a calm crossing.");
    for wrong in ["&languages=en-GB", "&languages=en-GB,fr&language=fr", "&languages=a1b2c3d4e,fr"] {
        assert_eq!(hear(wrong).await.0.as_u16(), 422, "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn audio_at_an_address_is_fetched_from_allowed_hosts_alone() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let demo = Demo::start_with_settings(BINARY, &format!("fetch_hosts = [\"127.0.0.1:{port}\"]")).await;
    let audio = recording(&demo, "Stand clear of the doors.").await;
    let sound = audio.clone();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut head = [0; 2_048];
            let count = tokio::io::AsyncReadExt::read(&mut stream, &mut head).await.unwrap_or(0);
            let found = head[..count].starts_with(b"GET /drill.wav");
            let (status, body) = if found { ("200 OK", sound.as_slice()) } else { ("404 Not Found", &b"none"[..]) };
            let answer = format!(
                "HTTP/1.1 {status}\r\nContent-Type: audio/wav\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, answer.as_bytes()).await;
            let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, body).await;
        }
    });
    let heard = async |url: String| {
        let request = demo.post("/api/v1/transcripts").query(&[("engine", "turnstone"), ("url", &url)]);
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    let (status, answer) = heard(format!("http://127.0.0.1:{port}/drill.wav")).await;
    assert_eq!((status, answer["text"].as_str()), (200, Some("Stand clear of the doors.")), "{answer}");
    for (url, why) in [
        (format!("http://127.0.0.1:{port}/none.wav"), "404"),
        (demo.url.clone(), "fetch_hosts"),
        ("file:///etc/passwd".to_owned(), "no address"),
    ] {
        let (status, problem) = heard(url).await;
        assert_eq!((status, problem["errors"][0]["pointer"].as_str()), (422, Some("/url")), "{problem}");
        assert!(problem["detail"].as_str().unwrap().contains(why), "{problem}");
    }
    let url = format!("http://127.0.0.1:{port}/drill.wav");
    // It may stand in JSON and in a form as well.
    let body = json!({"url": url, "engine": "turnstone"});
    let (status, answer) = send(&demo, &demo.app, Method::POST, "transcripts", body).await;
    assert_eq!((status, answer["text"].as_str()), (200, Some("Stand clear of the doors.")), "{answer}");
    let both = json!({"url": url, "engine": "turnstone", "audio": {"base64": "AAAA", "type": "audio/pcm;rate=16000"}});
    let (status, problem) = send(&demo, &demo.app, Method::POST, "transcripts", both).await;
    assert_eq!((status, problem["errors"][0]["pointer"].as_str()), (422, Some("/url")), "{problem}");
    let form = reqwest::multipart::Form::new().text("url", url.clone()).text("engine", "turnstone");
    let answer: Value = demo.post("/api/v1/transcripts").multipart(form).send().await.unwrap().json().await.unwrap();
    assert_eq!(answer["text"].as_str(), Some("Stand clear of the doors."), "{answer}");
    let told = demo.client(&["transcribe", &url, "--engine", "turnstone"]);
    assert_eq!(String::from_utf8_lossy(&told.stdout), "Stand clear of the doors.\n");
}

#[tokio::test]
async fn transcripts_are_compared_with_what_was_said_and_with_one_another() {
    let demo = Demo::start(BINARY).await;
    let request = json!({"reference": "The ferry leaves at six.", "transcripts": [
        {"name": "one", "text": "the ferry leave six o'clock"}, {"name": "two", "text": "the very leaves at six"},
        {"name": "three", "text": "The ferry leaves that six"}]});
    let (status, told) = send(&demo, &demo.app, Method::POST, "transcripts/compare", request).await;
    assert_eq!((status, &told["reference"]), (200, &json!("the ferry leaves at six")));
    let words = |at: usize| told["transcripts"][at]["words"].clone();
    assert_eq!(words(0), json!({"rate": 0.6, "substituted": 1, "missing": 1, "inserted": 1, "of": 5}));
    assert_eq!(words(1)["rate"], 0.2);
    assert_eq!((&told["transcripts"][3]["name"], words(3)["rate"].as_f64()), (&json!("consensus"), Some(0.0)));
    assert_eq!(
        told["consensus"]["words"][1],
        json!({"text": "ferry", "start": null, "end": null, "confidence": 0.647, "votes": 2})
    );
    assert_eq!(told["transcripts"][0]["alignment"][3], json!({"reference": "at", "heard": null}));
    assert_eq!(told["agreement"][2], json!({"first": "two", "second": "three", "agreement": 0.6}));
    for wrong in [json!({"transcripts": []}), json!({"transcripts": [{"name": "x", "text": "a".repeat(30_001)}]})] {
        assert_eq!(send(&demo, &demo.app, Method::POST, "transcripts/compare", wrong).await.0, 422);
    }
    let audio = recording(&demo, "The ramp is closing.").await;
    let (sound, said) = (demo.folder.path().join("a.wav"), demo.folder.path().join("said.txt"));
    std::fs::write(&sound, audio).unwrap();
    std::fs::write(&said, "The ramp is closing.").unwrap();
    let (sound, said) = (sound.to_str().unwrap(), said.to_str().unwrap());
    let told = demo.client(&["compare", sound, "--engine", "turnstone", "--engine", "whimbrel", "--reference", said]);
    let told = String::from_utf8(told.stdout).unwrap();
    assert!(told.contains("turnstone") && told.contains("0.0 %") && told.contains("EUR"), "{told}");
    assert!(told.contains("Consensus: The ramp is closing."), "{told}");
    std::fs::write(said, "The old ramp was closing now.").unwrap();
    let report = demo.folder.path().join("heard.html");
    let args = ["compare", sound, "--engine", "turnstone", "--reference", said, "--report", report.to_str().unwrap()];
    let told = String::from_utf8(demo.client(&args).stdout).unwrap();
    assert!(told.contains("turnstone: the [old|] ramp [was|is] closing [now|]"), "{told}");
    let page = std::fs::read_to_string(report).unwrap();
    let marked = "the <del class=\"m\">old</del> ramp <span class=\"s\"><del>was</del> is</span> closing";
    assert!(page.contains(marked) && page.contains("EUR"), "{page}");
}

/// A thousand frames that are none, in as many ways as there are seeds.
#[tokio::test]
async fn a_thousand_broken_frames_harm_nobody_else() {
    let demo = Demo::start(BINARY).await;
    let mut other = connect(&demo, &demo.app).await;
    other.send(opening(json!({"engine": "whimbrel"}))).await.unwrap();
    let before = demo.memory();
    let mut state = 0x5a17_u64;
    let mut next = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as u8
    };
    let host = demo.url.trim_start_matches("http://").to_owned();
    for round in 0..1_000_usize {
        let mut stream = tokio::net::TcpStream::connect(&host).await.unwrap();
        let head = format!(
            "GET /api/v1/transcripts/live HTTP/1.1\r\nHost: {host}\r\nAuthorization: Bearer {}\r\nConnection: Upgrade\r\n\
             Upgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n",
            demo.app
        );
        tokio::io::AsyncWriteExt::write_all(&mut stream, head.as_bytes()).await.unwrap();
        let mut answer = [0; 1_024];
        let count = tokio::io::AsyncReadExt::read(&mut stream, &mut answer).await.unwrap();
        assert!(answer[..count].starts_with(b"HTTP/1.1 101"), "round {round}");
        let length = 2 + usize::from(next()) % 60;
        let frame: Vec<u8> = (0..length).map(|_| next()).collect();
        let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, &frame).await;
        // It is closed, with a code or without, or waits for the rest of the frame.
        let reading = tokio::io::AsyncReadExt::read(&mut stream, &mut answer);
        if let Ok(Ok(count)) = tokio::time::timeout(Duration::from_millis(20), reading).await
            && count > 1
        {
            assert!(matches!(answer[0] & 0x0f, 1 | 8 | 9 | 10), "a message or a close: {:?}", &answer[..count]);
        }
    }
    let (messages, code) = converse(other, spoken(&["Stand clear of the doors."], 1.3), 8_000).await;
    assert_eq!((messages.last().unwrap()["text"].as_str(), code), (Some("Stand clear of the doors."), Some(1000)));
    let grown = demo.memory().saturating_sub(before);
    assert!(grown < 64 << 20, "the service has grown by {} MB", grown >> 20);
    assert!(!demo.log().contains("panicked"));
}

/// A recording with two channels, of which each is a speaker.
fn call(left: &str, right: &str) -> Vec<u8> {
    let channel = |text: &str, before: f64| {
        let mut samples = vec![0.0; (before * 16_000.0) as usize];
        let manner = dispatcher_standins::tone::Manner { pitch: 1.0, rate: 1.5 };
        samples.extend(dispatcher_standins::tone::speak(text, manner, 16_000));
        samples
    };
    let (left, right) = (channel(left, 0.2), channel(right, 3.5));
    let length = left.len().max(right.len()) + 8_000;
    let at = |samples: &[f32], index: usize| samples.get(index).copied().unwrap_or(0.0);
    let both: Vec<f32> = (0..length).flat_map(|index| [at(&left, index), at(&right, index)]).collect();
    let wav =
        dispatcher_audio::Format { channels: 2, ..dispatcher_audio::Format::new(dispatcher_audio::Codec::Wav, 16_000) };
    dispatcher_audio::encode_all(&both, wav).unwrap()
}

#[tokio::test]
async fn each_channel_of_a_call_is_a_speaker_and_is_charged() {
    let demo = Demo::start(BINARY).await;
    let recording = call("When is the ferry?", "It sails at noon.");
    let heard = demo.hear(recording.clone(), "audio/wav", "?engine=turnstone&channels=true").await;
    assert_eq!(heard["text"], "When is the ferry?\nIt sails at noon.", "{heard}");
    let words = heard["words"].as_array().unwrap();
    let speakers: Vec<&str> = words.iter().map(|word| word["speaker"].as_str().unwrap()).collect();
    assert_eq!(speakers, ["1", "1", "1", "1", "2", "2", "2", "2"]);
    assert!(words[4]["start"].as_f64().unwrap() > 3.3, "{heard}");
    let nanos = |amount: &Value| (amount["amount"].as_str().unwrap().parse::<f64>().unwrap() * 1e9).round() as i64;
    let channels = heard["channels"].as_array().unwrap();
    assert_eq!(channels.iter().map(|one| nanos(&one["cost"])).sum::<i64>(), nanos(&heard["cost"]));
    assert_ne!(channels[0]["dispatch"], channels[1]["dispatch"]);
    for channel in channels {
        let dispatch = demo.settled(channel["dispatch"].as_str().unwrap()).await;
        assert_eq!((&dispatch["state"], &dispatch["cost"]), (&json!("done"), &channel["cost"]));
    }
    let mono = spoken(&["Ahoy."], 0.3);
    let (status, problem) = demo.try_to_hear(mono, "audio/pcm;rate=16000", "?engine=turnstone&channels=true").await;
    assert_eq!(status, 422);
    assert!(problem["detail"].as_str().unwrap().contains("one channel"), "{problem}");
}

#[tokio::test]
async fn kept_transcripts_are_listed_page_by_page() {
    let demo = Demo::start(BINARY).await;
    assert!(demo.client(&["app", "change", "quay-announcer", "--transcript-days", "3"]).status.success());
    for text in ["One.", "Two.", "Three."] {
        demo.hear(spoken(&[text], 0.3), "audio/pcm;rate=16000", "?engine=turnstone").await;
    }
    let mut ids = Vec::new();
    let mut cursor = String::new();
    loop {
        let page = demo.get(&format!("/api/v1/transcripts?app=quay-announcer&limit=2{cursor}")).await;
        ids.extend(page["items"].as_array().unwrap().iter().map(|one| one["id"].as_str().unwrap().to_owned()));
        match page["next"].as_str() {
            Some(next) => cursor = format!("&cursor={next}"),
            None => break,
        }
    }
    assert_eq!(ids.len(), 3);
    assert!(ids.is_sorted_by(|one, other| one > other), "the newest first, each once: {ids:?}");
}
