//! What keeps answers coming while engines fail: breakers, measured health,
//! routes that go on in the middle of a text, and kept audio.

use crate::BINARY;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

const TEN: [&str; 10] = [
    "Welcome aboard the morning ferry.",
    "The crossing takes forty minutes.",
    "Lifejackets are under your seats.",
    "Please stow your bags on the racks.",
    "The cafe opens after we leave.",
    "Dogs stay on the lower deck.",
    "Keep the stairs free for the crew.",
    "The sea is a little rough today.",
    "Hold the rail when you walk about.",
    "We wish you a calm crossing.",
];

/// A route of two simulated engines that speak tone speech.
async fn deck(demo: &Demo) {
    demo.put_route("deck", json!([{"engine": "heron", "voice": "pellin"}, {"engine": "bittern"}])).await;
}

async fn spoken(demo: &Demo, text: &str, voice: &str) -> (u16, Vec<u8>, String) {
    let response = demo.speak(json!({"text": text, "voice": voice, "language": "en-GB"}), "audio/wav").await;
    let (status, id) = (response.status().as_u16(), header(&response, "dispatch-id"));
    let audio = response.bytes().await.map(|bytes| bytes.to_vec());
    (status, audio.expect("an answer that is whole"), id)
}

#[tokio::test]
async fn each_of_ten_sentences_is_heard_once_wherever_an_engine_is_lost() {
    let demo = Demo::start(BINARY).await;
    deck(&demo).await;
    let wav = Format::new(Codec::Wav, 24_000);
    let text = TEN.join(" ");
    for (skip, share) in [(0, 0.1), (0, 0.6), (3, 0.35), (6, 0.5), (9, 0.2)] {
        demo.weather(json!({"weather": "half", "skip": skip, "share": share})).await;
        let (status, audio, id) = spoken(&demo, &text, "deck").await;
        assert_eq!(status, 200);
        assert_eq!(words_of(&audio, wav), text, "heron was lost in sentence {skip}, behind {share} of it");
        let dispatch = demo.settled(&id).await;
        assert_eq!((dispatch["state"].as_str(), dispatch["engine"].as_str()), (Some("done"), Some("bittern")));
        demo.weather(Value::Null).await;
        demo.reset("heron");
    }
}

#[tokio::test]
async fn an_engine_that_stays_down_is_left_alone_and_the_operator_sees_it() {
    let demo = Demo::start(BINARY).await;
    deck(&demo).await;
    demo.weather(json!({"weather": "down"})).await;
    for _ in 0..5 {
        assert_eq!(spoken(&demo, "Cast off.", "deck").await.0, 200);
    }
    let calls = demo.delivered().await["calls"].clone();
    let response = demo.speak(json!({"text": "Cast off.", "voice": "deck"}), "audio/wav").await;
    let told = header(&response, "dispatch-warning");
    assert!(
        told.starts_with("heron was skipped: breaker-open (not called after repeated failures (unavailable)"),
        "{told}"
    );
    response.bytes().await.unwrap();
    assert_eq!(demo.delivered().await["calls"], calls, "heron is not called");

    let alone = demo.speak(json!({"text": "Cast off.", "voice": "heron/pellin"}), "audio/wav").await;
    let after: u64 = header(&alone, "retry-after").parse().unwrap();
    assert_eq!((alone.status().as_u16(), (1..=5).contains(&after)), (503, true), "{after}");
    let problem: Value = alone.json().await.unwrap();
    assert_eq!(problem["errors"], json!([{"engine": "heron", "cause": "breaker-open"}]));

    let breakers = demo.get("/api/v1/breakers").await;
    let heron = &breakers["items"][0];
    assert_eq!((heron["engine"].as_str(), heron["state"].as_str()), (Some("heron"), Some("open")));
    assert_eq!((heron["cause"].as_str(), heron["failures"].as_u64()), (Some("unavailable"), Some(5)));
    let metrics = demo.http.get(format!("{}/metrics", demo.url)).send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains("dispatcher_breakers_open{engine=\"heron\"} 1"), "{metrics}");
    let shown = String::from_utf8(demo.client(&["health", "--hours", "1"]).stdout).unwrap();
    let row = shown.lines().find(|line| line.trim_start().starts_with("heron")).expect(&shown);
    assert!(row.contains("100 %") && row.contains("open: unavailable"), "{shown}");
    let route = String::from_utf8(demo.client(&["health", "--scope", "route"]).stdout).unwrap();
    let row: Vec<&str> = route.lines().nth(1).expect(&route).split_whitespace().collect();
    assert_eq!(row[..7], ["deck", "synthesis", "6", "0", "%", "100", "%"], "{route}");

    demo.weather(Value::Null).await;
    demo.reset("heron");
    let back = demo.speak(json!({"text": "Cast off.", "voice": "deck"}), "audio/wav").await;
    assert_eq!(header(&back, "dispatch-engine"), "heron");
    back.bytes().await.unwrap();
    let missing = demo.client(&["engine", "reset", "herron"]);
    assert!(String::from_utf8_lossy(&missing.stderr).contains("heron"), "the nearest is named");
    let wrong = demo.http.get(format!("{}/api/v1/health?scope=tide", demo.url)).bearer_auth(&demo.operator);
    let problem: Value = wrong.send().await.unwrap().json().await.unwrap();
    assert_eq!(problem["detail"], "scope is engine, voice, model or route, not 'tide'");
}

#[tokio::test]
async fn a_route_is_tried_without_sending_and_its_versions_say_who_changed_it() {
    let demo = Demo::start(BINARY).await;
    let set = |legs: &[&str]| {
        let mut line = vec!["route", "set", "night"];
        line.extend(legs);
        let done = demo.client(&line);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    };
    set(&["--leg", "heron/pellin"]);
    let shown = set(&[
        "--order",
        "cheapest",
        "--leg",
        "heron/pellin,apps=helpline",
        "--leg",
        "godwit,formats=mp3 opus",
        "--leg",
        "espeak-ng,hours=00:00-24:00",
        "--leg",
        "bittern,languages=ja",
        "--leg",
        "curlew",
    ]);
    assert!(shown.starts_with("night (synthesis, cheapest first)\n"), "{shown}");
    let tried = demo.client(&["route", "try", "night", "The ramp is closing.", "--language", "en-GB"]);
    let tried = String::from_utf8(tried.stdout).unwrap();
    let lines: Vec<String> = tried.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ")).collect();
    // The free one first, then by price; those passed over say why.
    assert!(lines[1].starts_with("1 3 espeak-ng/") && lines[1].ends_with(" 0.00000 EUR native"), "{tried}");
    assert!(lines[2].starts_with("2 5 curlew/"), "{tried}");
    assert!(
        lines[3].starts_with("- 1 heron") && lines[3].ends_with("passed over: it is for helpline, not for console")
    );
    assert!(lines[4].ends_with("passed over: it is for mp3, opus, not for wav"), "{tried}");
    assert!(lines[5].ends_with("passed over: it is for ja, not for en-GB"), "{tried}");
    assert_eq!(lines[6], "For the app console, cheapest first; nothing was sent.");
    let helpline = demo.client(&["route", "try", "night", "--app", "helpline", "--format", "mp3", "--json"]);
    let answer: Value = serde_json::from_slice(&helpline.stdout).unwrap();
    let placed = answer["legs"].as_array().unwrap().iter().filter(|leg| leg["place"].is_u64()).count();
    assert_eq!((answer["app"].as_str(), placed), (Some("helpline"), 5));
    assert_eq!(demo.delivered().await["calls"], 0);

    let versions = String::from_utf8(demo.client(&["route", "versions", "night"]).stdout).unwrap();
    let rows: Vec<Vec<&str>> = versions.lines().skip(1).map(|line| line.split_whitespace().collect()).collect();
    assert_eq!((rows.len(), rows[0][0], rows[1][0]), (2, "2", "1"), "{versions}");
    assert!(versions.lines().nth(2).unwrap().contains("heron/pellin"), "{versions}");
    let wrong = demo.client(&["route", "set", "night", "--leg", "heron,hours=9-17"]);
    let told = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(!wrong.status.success() && told.contains("hours are two times of a day in UTC as 22:00-06:00"), "{told}");
    let ear = demo.client(&["route", "try", "captions", "--seconds", "600", "--language", "en-GB"]);
    let ear = String::from_utf8(ear.stdout).unwrap();
    assert!(ear.lines().nth(1).unwrap().trim_start().starts_with('1') && ear.contains("turnstone"), "{ear}");
    let text = demo.client(&["route", "try", "captions", "Ahoy"]);
    assert!(!text.status.success());
}

#[tokio::test]
async fn an_app_that_keeps_audio_pays_once() {
    let demo = Demo::start(BINARY).await;
    let added = demo.client(&["app", "add", "gate-signs", "--default-voice", "heron/pellin", "--recall", "private"]);
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
    let key = demo.client(&["app", "key", "add", "gate-signs", "--json"]);
    let key: Value = serde_json::from_slice(&key.stdout).unwrap();
    let key = key["key"].as_str().unwrap().to_owned();
    let ask = async |cache: Option<&str>| {
        let url = format!("{}/api/v1/utterances", demo.url);
        let mut request = demo
            .http
            .post(url)
            .bearer_auth(&key)
            .json(&json!({"text": "Gate 4 opens at 6.", "audio": {"type": "mp3"}}));
        if let Some(cache) = cache {
            request = request.header("Cache-Control", cache);
        }
        let response = request.send().await.unwrap();
        assert_eq!(response.status(), 200);
        let told = ["cache-status", "etag", "dispatch-cost", "dispatch-id"].map(|name| header(&response, name));
        (told, response.bytes().await.unwrap())
    };
    let ([first, tag, cost, _], audio) = ask(None).await;
    let ([second, same, free, id], again) = ask(None).await;
    assert_eq!((first.as_str(), second.as_str()), ("dispatcher; fwd=miss; stored", "dispatcher; hit"));
    assert!(tag.starts_with("W/\"2-") && tag == same, "{tag} {same}");
    // What is kept is signed; apart from that it is the same.
    let mut unsigned = again.to_vec();
    assert!(dispatcher_audio::put_provenance(&mut unsigned, dispatcher_audio::UNSIGNED));
    assert_eq!((free.as_str(), unsigned), ("0.000000 EUR", audio.to_vec()));
    assert_ne!(cost, free);
    let dispatch = demo.settled(&id).await;
    assert_eq!((dispatch["cost"]["amount"].as_str(), &dispatch["attempts"]), (Some("0.000000"), &json!([])));
    assert_eq!(format!("{} EUR", dispatch["saved"]["amount"].as_str().unwrap()), cost, "{dispatch}");
    let shown = String::from_utf8(demo.client(&["dispatches", &id]).stdout).unwrap();
    assert!(shown.contains("Answered with kept audio; an engine would have cost 0.000"), "{shown}");
    assert_eq!(ask(Some("no-store")).await.0[0], "dispatcher; fwd=bypass");
    assert_eq!(ask(Some("no-cache")).await.0[0], "dispatcher; fwd=miss; stored");
    assert_eq!(demo.delivered().await["calls"], 3);
    let wrong = demo.http.post(format!("{}/api/v1/apps", demo.url)).bearer_auth(&demo.operator);
    let problem: Value = wrong.json(&json!({"name": "x", "recall": "all"})).send().await.unwrap().json().await.unwrap();
    assert_eq!(
        (problem["status"].as_u64(), problem["detail"].as_str()),
        (Some(422), Some("recall is off, private or shared, not 'all'"))
    );
}

#[tokio::test]
async fn an_app_beyond_its_limits_is_refused_at_once_and_others_are_not() {
    let demo = Demo::start(BINARY).await;
    let add =
        demo.client(&["app", "add", "kiosk", "--default-voice", "heron/pellin", "--per-minute", "3", "--at-once", "2"]);
    assert!(add.status.success(), "{}", String::from_utf8_lossy(&add.stderr));
    let key = demo.client(&["app", "key", "add", "kiosk", "--json"]);
    let key: Value = serde_json::from_slice(&key.stdout).unwrap();
    let key = key["key"].as_str().unwrap().to_owned();
    let ask = async || {
        let url = format!("{}/api/v1/utterances", demo.url);
        demo.http.post(url).bearer_auth(&key).json(&json!({"text": "Gate 4 opens at 6."})).send().await.unwrap()
    };
    demo.weather(json!({"weather": "drip", "pause": 100})).await;
    let (first, second) = (ask().await, ask().await);
    assert_eq!((first.status().as_u16(), second.status().as_u16()), (200, 200));
    assert_eq!(header(&first, "ratelimit-policy"), "\"app\";q=3;w=60");
    assert!(header(&second, "ratelimit").starts_with("\"app\";r=1;t="), "{}", header(&second, "ratelimit"));
    let third = ask().await;
    assert_eq!((third.status().as_u16(), header(&third, "retry-after").as_str()), (429, "1"));
    let problem: Value = third.json().await.unwrap();
    assert_eq!(problem["detail"], "the app kiosk has 2 requests in work, and may have no more at once");
    // One that is read to its end, and one whose caller leaves.
    demo.weather(Value::Null).await;
    drop(second);
    first.bytes().await.unwrap();
    tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    assert_eq!(ask().await.status(), 200);
    let fifth = ask().await;
    let after: u64 = header(&fifth, "retry-after").parse().unwrap();
    assert_eq!((fifth.status().as_u16(), (10..=20).contains(&after)), (429, true), "{after}");
    let problem: Value = fifth.json().await.unwrap();
    assert_eq!(problem["detail"], "the app kiosk has made its 3 requests of a minute");
    assert_eq!(spoken(&demo, "Cast off.", "heron/pellin").await.0, 200, "the console's app has no limit");
    let wrong = demo.client(&["app", "add", "idle", "--per-minute", "0"]);
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("per_minute is 1 to 1000000, not 0"));
}
