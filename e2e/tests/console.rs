//! The console in headless Chromium.

use crate::BINARY;
use std::path::Path;
use std::time::Duration;

use crate::browser::Browser;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_e2e::Demo;
use dispatcher_standins::tone::{Manner, speak};
use serde_json::json;
use thirtyfour::By;

const SPOKEN: &str = "All aboard for Gullsay";

/// The microphone hears tone speech, with a silence before it in which the
/// page gets ready.
fn microphone_file(folder: &Path) -> std::path::PathBuf {
    let mut samples = vec![0.0; 48_000 * 3];
    samples.extend(speak(SPOKEN, Manner { pitch: 1.0, rate: 1.0 }, 48_000));
    samples.extend(vec![0.0; 48_000]);
    let path = folder.join("microphone.wav");
    std::fs::write(&path, encode_all(&samples, Format::new(Codec::Wav, 48_000)).unwrap()).unwrap();
    path
}

#[tokio::test(flavor = "multi_thread")]
async fn one_signs_in_speaks_and_hears() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.go(&format!("{}/usage", demo.url)).await;
    browser.find("key").await.find(By::Tag("input")).await.unwrap().send_keys("dispatch_op_wrong").await.unwrap();
    browser.find("enter").await.click().await.unwrap();
    browser.until("the refusal", "return document.body.innerText.includes('not right')").await;
    browser.sign_in(&demo).await;
    browser
        .until(
            "the estimate",
            "return document.querySelector('[data-test=estimate]')?.innerText.includes('0.0008 EUR') ?? false",
        )
        .await;
    browser.find("speak").await.click().await.unwrap();
    let facts = browser.find("facts").await.text().await.unwrap();
    assert!(facts.contains("heron/pellin") && facts.contains("0.0008 EUR") && facts.contains("1 attempt"), "{facts}");
    browser
        .until("the sound", "const a = document.querySelector('[data-test=audio]'); return a && a.currentTime > 0.3")
        .await;
    let first = browser.run("return document.querySelector('[data-test=audio]').currentTime").await.as_f64().unwrap();
    let length = browser.run("return document.querySelector('[data-test=audio]').duration").await.as_f64().unwrap();
    assert!((2.0..4.0).contains(&length), "{length} s");
    browser
        .until(
            "the sound going on",
            &format!(
                "const a = document.querySelector('[data-test=audio]'); return a.ended || a.currentTime > {first} + 0.3"
            ),
        )
        .await;
    let drawn = browser.run("const w = document.querySelector('.player .wave > div').shadowRoot; return w.querySelectorAll('canvas').length").await;
    assert!(drawn.as_u64() > Some(0), "the waveform is drawn");
    let elsewhere = browser.run(&format!("return performance.getEntriesByType('resource').map((e) => e.name).filter((n) => !n.startsWith('{}') && !n.startsWith('blob:') && !n.startsWith('data:'))", demo.url)).await;
    assert_eq!(elsewhere, json!([]), "no request leaves the machine");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recording_of_the_microphone_is_transcribed() {
    let demo = Demo::start(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::start(Some(&microphone_file(folder.path()))).await;
    browser.sign_in(&demo).await;
    browser.find("record").await.click().await.unwrap();
    browser.until("the recording", "return document.querySelector('meter') !== null").await;
    tokio::time::sleep(Duration::from_secs(7)).await;
    browser.find("record").await.click().await.unwrap();
    // What it costs is shown before an engine is called.
    let estimate = browser.find("hear-estimate").await.text().await.unwrap();
    assert!(estimate.contains("s of audio, will cost") && estimate.contains("by turnstone"), "{estimate}");
    let dispatches = demo.get("/api/v1/dispatches").await;
    assert_eq!(dispatches["items"], json!([]), "nothing was called yet");
    browser.find("transcribe").await.click().await.unwrap();
    browser.until("the transcript", "return document.querySelector('[data-test=transcript]') !== null").await;
    let words = browser.run("return [...document.querySelectorAll('.word')].map((w) => [w.firstChild.innerText, Number(w.lastChild.innerText)])").await;
    let words: Vec<(String, f64)> = serde_json::from_value(words).unwrap();
    assert_eq!(words.iter().map(|word| word.0.as_str()).collect::<Vec<_>>().join(" "), SPOKEN);
    assert!(words.windows(2).all(|pair| pair[0].1 < pair[1].1), "times go forward: {words:?}");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_pages_show_what_was_done() {
    let demo = Demo::start(BINARY).await;
    demo.weather(json!({"weather": "throttled", "calls": 1})).await;
    let response = demo.speak(json!({"text": "Berth two.", "voice": "quayside"}), "audio/mpeg").await;
    let id = dispatcher_e2e::header(&response, "dispatch-id");
    response.bytes().await.unwrap();
    demo.speak(json!({"text": "Berth two.", "voice": "heron/pellin"}), "audio/mpeg").await.bytes().await.unwrap();
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;

    browser.go(&format!("{}/voices?search=heron", demo.url)).await;
    browser.until("nine voices", "return document.querySelectorAll('[data-test=voice-row]').length === 9").await;
    browser.run("document.querySelector('[data-test=voice-row] button').click()").await;
    browser.until("the audition", "return document.querySelector('[aria-label^=\"Stop \"]') !== null").await;

    browser.go(&format!("{}/dispatches", demo.url)).await;
    browser.until("the requests", "return document.querySelectorAll('[data-test=dispatch-row]').length >= 2").await;
    browser.go(&format!("{}/dispatches/{id}", demo.url)).await;
    browser.until("two attempts", "return document.querySelectorAll('[data-test=attempt]').length === 2").await;
    let text = browser.run("return document.body.innerText").await;
    assert!(
        text.as_str().unwrap().contains("throttled") && text.as_str().unwrap().contains("too many birds"),
        "{text}"
    );

    browser.go(&format!("{}/usage", demo.url)).await;
    browser.until("the table", "return document.querySelectorAll('[data-test=usage-row]').length >= 2").await;
    browser.until("the chart", "return document.querySelectorAll('.chart svg path').length > 3").await;
    // The digits that count are shown, and the amount in full on hover.
    let total = browser.run("return document.querySelector('tfoot [title]').title").await;
    let usage = demo.get("/api/v1/usage").await;
    assert!(total.as_str().unwrap().contains(usage["total"][0]["amount"].as_str().unwrap()), "{total}");

    browser.go(&format!("{}/overview", demo.url)).await;
    browser.until("the engines", "return document.body.innerText.includes('PocketSphinx')").await;
    browser.go(&format!("{}/api/reference", demo.url)).await;
    browser
        .until(
            "the reference",
            "return document.querySelector('[data-test=operation]')?.textContent.includes('Speak a text') ?? false",
        )
        .await;
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_plays_every_format_that_browsers_play() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    for kind in [
        "audio/mpeg",
        "audio/wav",
        "audio/flac",
        "audio/ogg;codecs=opus",
        "audio/webm;codecs=opus",
        "audio/vnd.wave;codec=7",
    ] {
        browser
            .run(&format!(
                "window.heard = undefined;
                 (async () => {{
                   const answer = await fetch('/api/v1/utterances', {{
                     method: 'POST',
                     headers: {{ 'Content-Type': 'application/json', Accept: '{kind}' }},
                     body: JSON.stringify({{ text: 'The ramp is closing.', voice: 'heron/pellin' }}),
                   }});
                   const blob = await answer.blob();
                   const audio = new Audio(URL.createObjectURL(blob));
                   audio.ontimeupdate = () => {{ if (audio.currentTime > 0.3) window.heard = true }};
                   audio.onerror = () => (window.heard = audio.error.message);
                   await audio.play();
                 }})().catch((error) => (window.heard = String(error)))"
            ))
            .await;
        browser.until(kind, "return window.heard !== undefined").await;
        assert_eq!(browser.run("return window.heard").await, json!(true), "{kind}");
    }
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_browser_records_is_read_in_either_container() {
    let demo = Demo::start(BINARY).await;
    for kind in ["audio/webm;codecs=opus", "audio/mp4;codecs=opus"] {
        let folder = tempfile::tempdir().unwrap();
        let browser = Browser::start(Some(&microphone_file(folder.path()))).await;
        browser.sign_in(&demo).await;
        browser
            .run(&format!(
                "window.answer = undefined;
                 (async () => {{
                   const stream = await navigator.mediaDevices.getUserMedia({{
                     audio: {{ echoCancellation: false, noiseSuppression: false, autoGainControl: false }},
                   }});
                   const recorder = new MediaRecorder(stream, {{ mimeType: '{kind}', audioBitsPerSecond: 64000 }});
                   const pieces = [];
                   recorder.ondataavailable = (event) => pieces.push(event.data);
                   recorder.onstop = async () => {{
                     const answer = await fetch('/api/v1/transcripts?engine=turnstone', {{
                       method: 'POST', headers: {{ 'Content-Type': '{kind}' }}, body: new Blob(pieces),
                     }});
                     window.answer = await answer.json();
                   }};
                   recorder.start(500);
                   setTimeout(() => recorder.stop(), 8000);
                 }})().catch((error) => (window.answer = {{ text: String(error) }}))"
            ))
            .await;
        browser.until("the transcript", "return window.answer !== undefined").await;
        let answer = browser.run("return window.answer").await;
        assert_eq!(answer["text"], SPOKEN, "{kind}: {answer}");
        assert!((5.0..9.0).contains(&answer["duration"].as_f64().unwrap()), "{kind}: {answer}");
        browser.quit().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_prompt_set_is_made_heard_and_approved() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    let table = demo.folder.path().join("Gate prompts.csv");
    std::fs::write(&table, "id,text,voice,formats\nopen,Gate 4 is open.,heron/pellin,mp3\n").unwrap();
    browser.go(&format!("{}/jobs/prompts", demo.url)).await;
    browser.until("the demo's set", "return document.querySelectorAll('[data-test=set]').length === 1").await;
    let choose = browser.driver.find(By::Css("[data-test=table]")).await.unwrap();
    choose.send_keys(table.to_str().unwrap()).await.unwrap();
    browser.find("keep").await.click().await.unwrap();
    browser
        .until("the new file", "return document.body.innerText.includes('1 of 1 files to make, for 0.00024 EUR')")
        .await;
    assert!(browser.driver.current_url().await.unwrap().path().ends_with("/jobs/prompts/gate-prompts"));
    browser.find("make").await.click().await.unwrap();
    browser.until("the file", "return document.body.innerText.includes('All files match their rows')").await;
    browser.driver.find(By::Css("[aria-label='Play open, mp3']")).await.unwrap().click().await.unwrap();
    browser
        .until("the sound", "const a = document.querySelector('[data-test=audio]'); return a && a.currentTime > 0.3")
        .await;
    browser.find("approve").await.click().await.unwrap();
    browser.until("the approval", "return document.body.innerText.includes('1 of 1 approved')").await;
    browser.find("approve").await.click().await.unwrap();
    browser.until("it is taken back", "return document.body.innerText.includes('0 of 1 approved')").await;
    browser.find("approve").await.click().await.unwrap();
    browser.until("the approval", "return document.body.innerText.includes('1 of 1 approved')").await;

    // A word that sounds wrong goes into a lexicon, and what has it is to be made again.
    browser.find("fix-word").await.click().await.unwrap();
    browser.find("fix-choice").await;
    browser.run("[...document.querySelectorAll('[data-test=fix-choice]')].find((chip) => chip.innerText === 'Gate').click()").await;
    let alias = browser.driver.find(By::Css("[data-test=fix-alias] input")).await.unwrap();
    alias.send_keys("gayt").await.unwrap();
    browser.find("fix-listen").await.click().await.unwrap();
    browser
        .until("the new sound", "return document.querySelectorAll('.v-dialog [data-test=audio]').length === 1")
        .await;
    browser.find("fix-save").await.click().await.unwrap();
    browser.find("fix-done").await;
    let told = browser.run("return document.querySelector('[data-test=fix-sets]').innerText").await;
    assert!(told.as_str().unwrap().contains("gate-prompts: open"), "{told}");
    let lexicons = demo.get("/api/v1/lexicons").await;
    let kept = lexicons["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["examples"].as_array().unwrap().iter().any(|word| word == "Gate"));
    assert!(kept.is_some_and(|kept| kept["version"].as_i64() > Some(0)), "{lexicons}");
    browser.until("it is to be made again", "return document.body.innerText.includes('1 of 1 files to make')").await;
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_recording_is_sent_in_parts() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    // 92 MB, most of them silence, with words at the end.
    let mut samples = vec![0.0; 45_500_000];
    samples.extend(speak(SPOKEN, Manner { pitch: 1.0, rate: 1.0 }, 48_000));
    let recording = demo.folder.path().join("drill.wav");
    std::fs::write(&recording, encode_all(&samples, Format::new(Codec::Wav, 48_000)).unwrap()).unwrap();
    assert!(recording.metadata().unwrap().len() > 90_000_000);
    browser.go(&format!("{}/jobs", demo.url)).await;
    browser.find("file").await.send_keys(recording.to_str().unwrap()).await.unwrap();
    browser.until("the estimate", "return !document.querySelector('[data-test=begin]').disabled").await;
    browser.find("begin").await.click().await.unwrap();
    browser.until("the job", "return /\\/jobs\\/[0-9a-f-]{8,}/.test(location.pathname)").await;
    let id = browser.driver.current_url().await.unwrap().path().rsplit('/').next().unwrap().to_owned();
    let mut job = demo.get(&format!("/api/v1/jobs/{id}")).await;
    for _ in 0..600 {
        if ["done", "failed"].contains(&job["state"].as_str().unwrap()) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
        job = demo.get(&format!("/api/v1/jobs/{id}")).await;
    }
    assert_eq!(job["state"], "done", "{job}");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn alerts_are_set_tried_and_seen_where_something_is_wrong() {
    let (host, mut heard) = dispatcher_e2e::take_requests(&[200, 200, 200]).await;
    let demo = Demo::start_with_settings(BINARY, &format!("webhook_hosts = [\"{host}\"]\n")).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/alerts", demo.url)).await;
    browser.find("new-alert").await.click().await.unwrap();
    browser.find("alert-form").await;
    for (field, text) in [("input", "night-watch"), ("textarea", &*format!("http://{host}/told"))] {
        let field = browser.driver.find(By::Css(format!("[data-test=alert-form] {field}"))).await.unwrap();
        field.send_keys(text).await.unwrap();
    }
    browser.find("keep-alert").await.click().await.unwrap();
    browser.until("the alert", "return document.querySelectorAll('[data-test=alert]').length === 1").await;
    browser.find("try-alert").await.click().await.unwrap();
    browser.until("the trial", "return document.body.innerText.includes('● sent to http')").await;
    assert!(String::from_utf8_lossy(&heard.recv().await.unwrap().1).contains("This is a test message"));
    demo.weather(json!({"weather": "down"})).await;
    for _ in 0..5 {
        demo.speak(json!({"text": "Ahoy.", "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap();
    }
    // Without a reload: the page is told.
    browser.until("the notice", "return document.querySelectorAll('[data-test=notice]').length === 1").await;
    browser.go(&format!("{}/overview", demo.url)).await;
    let told =
        "return document.querySelector('[data-test=notices]')?.innerText.includes('the breaker of heron is open')";
    browser.until("the notice on the overview", told).await;
    demo.weather(serde_json::Value::Null).await;
    demo.reset("heron");
    let over = "return document.querySelector('[data-test=notices]') === null";
    browser.until("the notice is gone", over).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn routes_are_read_tried_changed_and_retired_and_a_shut_engine_is_seen() {
    let demo = Demo::start(BINARY).await;
    demo.put_route(
        "gangway",
        json!([{"engine": "heron", "voice": "pellin"}, {"engine": "espeak-ng", "voice": "en-gb"}]),
    )
    .await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    demo.weather(json!({"weather": "down"})).await;
    for _ in 0..5 {
        let response = demo.speak(json!({"text": "Ahoy.", "voice": "gangway"}), "audio/wav").await;
        response.bytes().await.unwrap();
    }
    browser.go(&format!("{}/routes?route=gangway", demo.url)).await;
    browser.until("the legs", "return document.querySelectorAll('[data-test=leg]').length === 2").await;
    let done = "return document.body.innerText.includes('Last 24 hours: 5 requests, 0 % failed, 100 % answered after a fallback')";
    browser.until("the health of the route", done).await;
    let legs =
        browser.run("return [...document.querySelectorAll('[data-test=leg]')].map((leg) => leg.innerText)").await;
    let first = legs[0].as_str().unwrap();
    // On a slow machine the pause of the breaker is over by now.
    let shut = ["failures (unavailable)", "one call finds out whether it works again"];
    assert!(first.contains("heron/pellin") && shut.iter().any(|shut| first.contains(shut)), "{first}");
    assert!(!legs[1].as_str().unwrap().contains("not called"), "{legs}");
    let text = browser.driver.find(By::Css("[data-test=try-text] input")).await.unwrap();
    text.send_keys("The ramp is closing.").await.unwrap();
    browser.find("try").await.click().await.unwrap();
    browser
        .until("what it would do", "return document.querySelectorAll('[data-test=preview] tbody tr').length === 2")
        .await;
    let rows = browser
        .run("return [...document.querySelectorAll('[data-test=preview] tbody tr')].map((row) => row.innerText)")
        .await;
    // Heron is passed over until its breaker lets a call through.
    assert!(rows[0].as_str().unwrap().contains("heron"), "{rows}");
    assert!(rows[1].as_str().unwrap().contains("espeak-ng/en-gb\t–\t0.00 EUR"), "{rows}");

    browser.find("change-route").await.click().await.unwrap();
    browser.find("route-json").await;
    browser.run("const t = document.querySelector('[data-test=route-json]'); const r = JSON.parse(t.value); r.order = 'cheapest'; t.value = JSON.stringify(r); t.dispatchEvent(new Event('input'))").await;
    browser.find("keep-route").await.click().await.unwrap();
    browser.until("the order", "return document.body.innerText.includes('the cheapest first')").await;
    let versions = demo.get("/api/v1/routes/gangway/versions").await;
    assert_eq!(
        (versions["items"].as_array().unwrap().len(), &versions["items"][0]["route"]["order"]),
        (2, &json!("cheapest"))
    );
    browser.find("change-route").await.click().await.unwrap();
    browser.find("route-json").await;
    browser.run("const t = document.querySelector('[data-test=route-json]'); t.value = '{\"work\": '; t.dispatchEvent(new Event('input'))").await;
    browser.find("keep-route").await.click().await.unwrap();
    browser.until("the fault", "return document.body.innerText.includes('This is not JSON')").await;

    browser.go(&format!("{}/routes?route=gangway", demo.url)).await;
    browser.find("retire-route").await.click().await.unwrap();
    browser.find("confirm-retire").await.click().await.unwrap();
    browser.until("it is gone", "return ![...document.querySelectorAll('[data-test=route]')].some((one) => one.innerText.includes('gangway'))").await;
    assert!(
        demo.get("/api/v1/routes").await["items"].as_array().unwrap().iter().all(|route| route["name"] != "gangway")
    );

    browser.go(&format!("{}/overview", demo.url)).await;
    browser.until("the breaker", "return document.querySelector('[data-test=breaker]') !== null").await;
    let told = browser.run("return document.querySelector('[data-test=breaker]').innerText").await;
    assert!(shut.iter().any(|shut| told.as_str().unwrap().contains(shut)), "{told}");
    browser.run("document.querySelector('[data-test=breaker] button').click()").await;
    browser.until("it is closed", "return document.querySelector('[data-test=breaker]') === null").await;
    assert_eq!(demo.get("/api/v1/breakers").await["items"], json!([]));
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_is_added_with_a_role_and_sees_what_the_role_may_see() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/people", demo.url)).await;
    browser.find("add-person").await.click().await.unwrap();
    for (field, text) in [("person-name", "axel"), ("person-password", "a long walk on the quay")] {
        browser.find(field).await;
        browser
            .driver
            .find(By::Css(format!("[data-test={field}] input")))
            .await
            .unwrap()
            .send_keys(text)
            .await
            .unwrap();
    }
    browser.find("person-role").await.click().await.unwrap();
    browser
        .until(
            "the roles",
            "return [...document.querySelectorAll('.v-list-item')].some((one) => one.innerText === 'Auditor')",
        )
        .await;
    browser
        .run("[...document.querySelectorAll('.v-list-item')].find((one) => one.innerText === 'Auditor').click()")
        .await;
    browser.find("keep-person").await.click().await.unwrap();
    browser
        .until("the person", "return [...document.querySelectorAll('[data-test=person]')].some((one) => one.innerText.includes('axel') && one.innerText.includes('Auditor'))")
        .await;
    let status = browser
        .run_async("const done = arguments[0]; fetch('/api/v1/session', { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ person: 'axel', password: 'a long walk on the quay' }) }).then((answer) => done(answer.status))")
        .await;
    assert_eq!(status, 200);
    browser.go(&format!("{}/", demo.url)).await;
    // An auditor begins with the Overview, and has no pages that make requests.
    browser
        .until("the note", "return document.querySelector('[role=note]')?.innerText.includes('You are an auditor')")
        .await;
    browser.until("the overview", "return location.pathname === '/overview'").await;
    let rail =
        browser.run("return [...document.querySelectorAll('nav .entry')].map((one) => one.innerText.trim())").await;
    let rail: Vec<&str> = rail.as_array().unwrap().iter().filter_map(|entry| entry.as_str()).collect();
    assert!(rail.contains(&"People") && rail.contains(&"Usage") && !rail.contains(&"Sound check"), "{rail:?}");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_app_gets_an_allowance_and_a_key_and_loses_them_again() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/apps", demo.url)).await;
    browser.until("the apps", "return document.body.innerText.includes('No allowance: use is not limited.')").await;
    browser.go(&format!("{}/apps/quay-announcer", demo.url)).await;
    let spoken = demo.speak(json!({"text": "a".repeat(50), "voice": "heron/pellin"}), "audio/mpeg").await;
    assert_eq!(spoken.status(), 200);
    spoken.bytes().await.unwrap();
    browser.find("allowance-amount").await;
    browser.driver.find(By::Css("[data-test=allowance-amount] input")).await.unwrap().send_keys("0.001").await.unwrap();
    browser.find("add-allowance").await.click().await.unwrap();
    // 50 characters of heron cost 0.0008 EUR; the session of the page is an operator's.
    browser
        .until(
            "the bar",
            "return document.querySelector('[data-test=allowance]')?.innerText.includes('80 %, nearly used')",
        )
        .await;
    let bar = browser.run("return document.querySelector('[data-test=allowance]').innerText").await;
    let bar = bar.as_str().unwrap();
    assert!(bar.contains("0.001 EUR per month") && bar.contains("0.0008 EUR used"), "{bar}");
    let refused = demo.speak(json!({"text": "b".repeat(50), "voice": "heron/pellin"}), "audio/mpeg").await;
    assert_eq!(refused.status(), 429);
    browser.driver.find(By::Css("[data-test=key-label] input")).await.unwrap().send_keys("gates").await.unwrap();
    browser.find("add-key").await.click().await.unwrap();
    browser
        .until("the key", "return document.querySelector('[data-test=secret]')?.innerText.startsWith('dispatch_app_')")
        .await;
    let secret = browser.run("return document.querySelector('[data-test=secret]').innerText").await;
    let voices = async || {
        let url = format!("{}/api/v1/voices", demo.url);
        demo.http.get(url).bearer_auth(secret.as_str().unwrap()).send().await.unwrap().status()
    };
    assert_eq!(voices().await, 200);
    browser.run("document.querySelector('[aria-label=\"Revoke gates\"]').click()").await;
    browser.find("confirm").await.click().await.unwrap();
    browser.until("the end of the key", "return document.body.innerText.includes('▲ revoked')").await;
    assert_eq!(voices().await, 401);
    browser.run("document.querySelector('[aria-label=\"Remove 0.001 EUR per month\"]').click()").await;
    browser
        .until("the dialog", "return document.body.innerText.includes('Remove the allowance of 0.001 EUR per month?')")
        .await;
    browser.find("confirm").await.click().await.unwrap();
    browser.until("no allowance", "return document.body.innerText.includes('No allowance: use is not limited.')").await;
    let spoken = demo.speak(json!({"text": "b".repeat(50), "voice": "heron/pellin"}), "audio/mpeg").await;
    assert_eq!(spoken.status(), 200);
    browser.quit().await;
}
