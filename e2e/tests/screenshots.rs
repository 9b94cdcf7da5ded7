//! The pictures of docs/screenshots, from demo data. Not a check of anything:
//! `make screenshots` runs it.

use crate::BINARY;
use std::path::Path;
use std::time::Duration;

use crate::browser::Browser;
use dispatcher_e2e::Demo;
use serde_json::json;
use thirtyfour::By;

/// Alerts, of which one finds something.
async fn set_alerts(demo: &Demo) {
    let to = ["https://watch.saltmarsh.example/alerts"];
    let rules = [
        ("night-watch", json!({"on": "breaker-open", "to": to, "after": 60, "note": "Call the harbour office."})),
        (
            "errors",
            json!({"on": "error-share", "threshold": 10, "engines": ["heron", "godwit"], "to": to, "quiet": "22:00-06:00"}),
        ),
        ("voices", json!({"on": "voice-withdrawn", "to": to})),
    ];
    for (name, rule) in rules {
        let put = demo.http.put(format!("{}/api/v1/alerts/{name}", demo.url)).bearer_auth(&demo.operator).json(&rule);
        assert!(put.send().await.unwrap().status().is_success());
    }
    demo.put_route("pier", json!([{"engine": "heron", "voice": "sandpiper"}, {"engine": "espeak-ng"}])).await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes pictures; run by make screenshots"]
async fn take_the_pictures() {
    let settings = "webhook_hosts = [\"watch.saltmarsh.example\"]\n";
    let demo = Demo::start_with_settings(BINARY, settings).await;
    set_alerts(&demo).await;
    let texts = [
        "The 06:15 to Gullsay is delayed by twenty minutes.",
        "The 07:40 to Marram Point leaves from berth two.",
        "The ramp is closing.",
    ];
    let mut fallback = String::new();
    for (round, text) in texts.iter().cycle().take(9).enumerate() {
        let voice = ["quayside", "heron/pellin", "harbour-phone", "espeak-ng/en-gb"][round % 4];
        let model = ["quick", "fine"][round % 2];
        if round == 4 {
            demo.weather(json!({"weather": "throttled", "calls": 1})).await;
        }
        let mut body = json!({"text": text, "voice": voice, "language": "en-GB"});
        if voice.starts_with("heron") {
            body["model"] = model.into();
        }
        let response = demo.speak(body, "audio/mpeg").await;
        if round == 4 {
            fallback = dispatcher_e2e::header(&response, "dispatch-id");
        }
        response.bytes().await.unwrap();
    }
    demo.weather(json!({"weather": "down", "calls": 1})).await;
    demo.speak(json!({"text": texts[0], "voice": "heron/tarrick"}), "audio/mpeg").await.bytes().await.unwrap();
    let audio = demo
        .speak(json!({"text": "Please walk to the nearest assembly station.", "voice": "heron/pellin"}), "audio/mpeg")
        .await
        .bytes()
        .await
        .unwrap();
    demo.hear(audio.to_vec(), "audio/mpeg", "").await;
    let recording = demo.folder.path().join("assembly.mp3");
    std::fs::write(&recording, &audio).unwrap();

    let browser = Browser::start(None).await;
    let out = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/screenshots");
    let shot = async |name: &str| {
        tokio::time::sleep(Duration::from_millis(700)).await;
        browser.driver.screenshot(&out.join(name)).await.unwrap();
    };
    browser.driver.set_window_rect(0, 0, 1280, 940).await.unwrap();
    browser.sign_in(&demo).await;
    browser.until("the estimate", "return document.querySelector('[data-test=estimate]') !== null").await;
    browser.find("speak").await.click().await.unwrap();
    browser.find("facts").await;
    browser.find("file").await.send_keys(recording.to_str().unwrap()).await.unwrap();
    browser.find("hear-estimate").await;
    browser.find("transcribe").await.click().await.unwrap();
    browser.until("the transcript", "return document.querySelector('[data-test=transcript]') !== null").await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    shot("sound-check.png").await;
    browser.go(&format!("{}/?mode=script&voice=godwit/maren", demo.url)).await;
    browser.until("the fidelity", "return document.querySelectorAll('[data-test=beside] .row').length > 3").await;
    shot("script-editor.png").await;
    let handbook = concat!(env!("CARGO_MANIFEST_DIR"), "/../demo/scripts/handbook.md");
    let format = ["--split", "heading", "--voice", "heron/pellin", "--format", "mp3"];
    let begun = demo.client(&[&["job", "add", handbook, "--json"][..], &format].concat());
    let job: serde_json::Value = serde_json::from_slice(&begun.stdout).unwrap();
    browser.go(&format!("{}/jobs/{}", demo.url, job["id"].as_str().unwrap())).await;
    browser.until("some files", "return document.querySelectorAll('[data-test=play]').length > 1").await;
    browser.driver.find(By::Css("[data-test=play]")).await.unwrap().click().await.unwrap();
    browser.until("the text", "return document.querySelector('[data-test=said] .here') !== null").await;
    shot("job-progress.png").await;
    demo.client(&["job", "cancel", job["id"].as_str().unwrap()]);
    let table = include_str!("../../demo/scripts/prompts.toml").replace("Goodbye.", "Until soon.");
    let path = format!("{}/api/v1/prompt-sets/helpline", demo.url);
    let put = demo.http.put(path).bearer_auth(&demo.operator).header("Content-Type", "application/toml").body(table);
    assert!(put.send().await.unwrap().status().is_success());
    browser.go(&format!("{}/jobs/prompts/helpline", demo.url)).await;
    browser.find("make").await;
    browser.driver.find(By::Css("[aria-label='Play welcome, phone']")).await.unwrap().click().await.unwrap();
    browser
        .until("the sound", "const a = document.querySelector('[data-test=audio]'); return a && a.currentTime > 0.5")
        .await;
    browser.go(&format!("{}/voices", demo.url)).await;
    browser.until("the voices", "return document.querySelectorAll('[data-test=voice-row]').length > 9").await;
    shot("voices.png").await;
    browser.go(&format!("{}/dispatches/{fallback}", demo.url)).await;
    browser.until("the attempts", "return document.querySelectorAll('[data-test=attempt]').length === 2").await;
    shot("dispatch.png").await;
    browser.go(&format!("{}/usage", demo.url)).await;
    browser.until("the table", "return document.querySelectorAll('[data-test=usage-row]').length > 2").await;
    shot("usage.png").await;
    browser.go(&format!("{}/alerts", demo.url)).await;
    browser.until("a notice", "return document.querySelectorAll('[data-test=notice]').length > 0").await;
    shot("alerts.png").await;
    browser.driver.find(By::Css("body")).await.unwrap();
    demo.http.put(format!("{}/broken", demo.heron)).json(&json!(["fine", "pace"])).send().await.unwrap();
    std::fs::write(
        demo.folder.path().join("parts.json"),
        r#"{"user": "saltmarsh", "password": "mistyped", "shore": "north"}"#,
    )
    .unwrap();
    demo.client(&["credential", "add", "bittern", "--file", "parts.json"]);
    demo.client(&["credential", "revoke", "curlew"]);
    demo.weather_of("sanderling", json!({"weather": "unpaid", "calls": 1})).await;
    demo.speak(json!({"text": texts[0], "voice": "sanderling/sand"}), "audio/mpeg").await.bytes().await.unwrap();
    browser.go(&format!("{}/engines", demo.url)).await;
    browser.until("the engines", "return document.querySelectorAll('[data-test=engine-row]').length === 14").await;
    browser.go(&format!("{}/compare", demo.url)).await;
    browser.until("the comparison", "return document.body.innerText.includes('The ferry to Gullsay leaves')").await;
    browser
        .driver
        .find(By::LinkText("The ferry to Gullsay leaves from quay two at a quarter past six."))
        .await
        .unwrap()
        .click()
        .await
        .unwrap();
    browser.find("names").await.click().await.unwrap();
    browser.until("the preference", "return document.querySelector('[data-test=preference]') !== null").await;
    browser.driver.execute("document.querySelector('.rating').scrollIntoView()", Vec::new()).await.unwrap();
    shot("compare.png").await;
    browser.go(&format!("{}/engines/heron?tab=check", demo.url)).await;
    browser.find("check").await.click().await.unwrap();
    browser.until("the matrix", "return document.querySelector('[data-test=summary]') !== null").await;
    shot("engine-check.png").await;
    let legs = json!([
        {"engine": "heron", "voice": "pellin", "deadline": 3000, "conditions": {"languages": ["en"], "formats": ["mp3", "opus"]}},
        {"engine": "godwit", "conditions": {"apps": ["helpline"]}},
        {"engine": "espeak-ng", "voice": "en-gb"},
    ]);
    demo.put_route("gangway", legs).await;
    for text in texts.iter().cycle().take(8) {
        let body = json!({"text": text, "voice": "gangway", "language": "en-GB"});
        demo.speak(body, "audio/mpeg").await.bytes().await.unwrap();
    }
    demo.weather(json!({"weather": "down"})).await;
    for text in texts.iter().cycle().take(6) {
        let body = json!({"text": text, "voice": "gangway", "language": "en-GB"});
        demo.speak(body, "audio/mpeg").await.bytes().await.unwrap();
    }
    browser.go(&format!("{}/routes?route=gangway", demo.url)).await;
    browser.until("the legs", "return document.querySelectorAll('[data-test=leg]').length === 3").await;
    browser.find("try").await.click().await.unwrap();
    browser.until("what it would do", "return document.querySelector('[data-test=preview]') !== null").await;
    shot("routes.png").await;
    browser.go(&format!("{}/overview", demo.url)).await;
    browser.until("the engines", "return document.body.innerText.includes('PocketSphinx')").await;
    browser.until("the breaker", "return document.querySelector('[data-test=breaker]') !== null").await;
    shot("overview.png").await;
    browser.go(&format!("{}/apps", demo.url)).await;
    browser.until("the bars", "return document.querySelectorAll('[data-test=allowance]').length === 4").await;
    shot("apps.png").await;
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes pictures; run by make screenshots"]
async fn take_the_pictures_of_transcripts() {
    let demo = Demo::start_with_samples(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let microphone = crate::console_transcripts::microphone_file(folder.path(), 3.0);
    let browser = Browser::start(Some(&microphone)).await;
    let out = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/screenshots");
    let shot = async |name: &str| {
        tokio::time::sleep(Duration::from_millis(700)).await;
        browser.driver.screenshot(&out.join(name)).await.unwrap();
    };
    browser.driver.set_window_rect(0, 0, 1280, 940).await.unwrap();
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/captions", demo.url)).await;
    crate::console_transcripts::choose_whimbrel(&browser).await;
    browser.find("listen").await.click().await.unwrap();
    browser.until("a caption", "return document.querySelectorAll('[data-test=captions] li').length === 2").await;
    browser.driver.screenshot(&out.join("captions.png")).await.unwrap();
    let kept = demo.get("/api/v1/transcripts").await;
    let id = kept["items"][0]["id"].as_str().unwrap();
    // The microphone is still on: what it says is answered.
    browser.go(&format!("{}/exchange", demo.url)).await;
    browser.find("talk").await.click().await.unwrap();
    browser.until("the spoken turns", "return document.querySelectorAll('[data-test=stages]').length >= 2").await;
    browser.find("talk").await.click().await.unwrap();
    browser.run("window.scrollTo(0, 0)").await;
    shot("exchange.png").await;
    browser.go(&format!("{}/transcripts/{id}", demo.url)).await;
    browser.until("the words", "return document.querySelectorAll('.word').length > 20").await;
    browser.run("document.querySelectorAll('.word')[11].click()").await;
    browser.find("fix").await;
    shot("transcript.png").await;
    let (_, token) = crate::tokens::token_of(&demo, json!({"calls": ["speak", "caption"]})).await;
    browser.go(&format!("{}/client/example.html#token={token}", demo.url)).await;
    browser
        .run("document.getElementById('voice').value = 'dotterel/cairn'; document.getElementById('speak').click()")
        .await;
    browser.until("some words", "return document.querySelectorAll('#words .said').length === 9").await;
    // A token is no secret of a picture: this one ends with its demo.
    browser.run("document.getElementById('token').value = 'dispatch_token_…'").await;
    browser.driver.screenshot(&out.join("example-page.png")).await.unwrap();
    browser.quit().await;
}
