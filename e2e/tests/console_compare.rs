//! The console's page Compare, in headless Chromium: voices by ear, recognisers by their errors.

use dispatcher_e2e::Demo;
use serde_json::json;
use thirtyfour::prelude::*;

use crate::BINARY;
use crate::browser::Browser;

#[tokio::test(flavor = "multi_thread")]
async fn two_voices_are_compared_and_rated_without_their_names() {
    let demo = Demo::start(BINARY).await;
    let made = json!({"text": "Stand clear.", "voices": ["heron/pellin", "espeak-ng/en-gb"]});
    let url = format!("{}/api/v1/comparisons", demo.url);
    let made = demo.http.post(url).bearer_auth(&demo.operator).json(&made).send().await.unwrap();
    let made: serde_json::Value = made.json().await.unwrap();
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/compare?id={}", demo.url, made["id"].as_str().unwrap())).await;
    browser.find("score-3").await;
    let shown = browser.run("return document.querySelector('.rating').innerText").await;
    assert!(!shown.as_str().unwrap().contains("heron"), "the names are not shown: {shown}");
    assert_eq!(
        browser.run("return document.querySelector('[data-test=score-2]').disabled").await,
        true,
        "nothing was heard yet"
    );
    for number in 0..2 {
        browser.find(&format!("play-{number}")).await.click().await.unwrap();
        let heard = format!("return document.querySelector('[data-test=play-{number}]').innerText.includes('✓')");
        browser.until("the end of the audio", &heard).await;
    }
    browser.find("score-2").await.click().await.unwrap();
    browser.until("the rating", "return document.querySelector('.rating').innerText.includes('1 rating so far')").await;
    browser.find("names").await.click().await.unwrap();
    browser.until("the voices", "return document.querySelectorAll('[data-test=compared-voice]').length === 2").await;
    let kept = demo.get(&format!("/api/v1/comparisons/{}", made["id"].as_str().unwrap())).await;
    assert_eq!(
        (&kept["ratings"], kept["preferences"][0]["mean"].as_f64().map(f64::abs)),
        (&json!(1), Some(2.0)),
        "{kept}"
    );
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn recognisers_are_compared_on_a_recording_with_their_errors_marked() {
    let demo = Demo::start(BINARY).await;
    let spoken = demo.speak(json!({"text": "The ramp is closing.", "voice": "heron/pellin"}), "audio/wav").await;
    let file = demo.folder.path().join("ramp.wav");
    std::fs::write(&file, spoken.bytes().await.unwrap()).unwrap();
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/compare?of=recognisers", demo.url)).await;
    browser.find("compare-hearers").await;
    // The field of the file itself is not seen: what is seen is its label.
    let field = browser.driver.find(By::Css("[data-test=compare-audio]")).await.unwrap();
    field.send_keys(file.to_str().unwrap()).await.unwrap();
    for engine in ["turnstone", "whimbrel"] {
        browser.find("compare-hearers").await.click().await.unwrap();
        let items = "[...document.querySelectorAll('.v-list-item-title')]";
        let of_engine = format!("one => one.innerText === '{engine}'");
        browser.until("the recognisers", &format!("return {items}.some({of_engine})")).await;
        browser.run(&format!("{items}.find({of_engine}).click()")).await;
    }
    browser.run("document.activeElement.blur(); document.querySelector('h1').click()").await;
    let said = browser.driver.find(By::Css("[data-test=compare-reference] textarea")).await.unwrap();
    said.send_keys("The old ramp was closing now.").await.unwrap();
    let both = "const told = document.querySelector('[data-test=compare-estimates]')?.innerText ?? '';
        return told.includes('turnstone 0.') && told.includes('whimbrel 0.')";
    browser.until("what both would cost", both).await;
    browser.find("compare-recognisers").await.click().await.unwrap();
    browser.until("the rows", "return document.querySelectorAll('[data-test=recogniser]').length === 3").await;
    let row = browser.run("return document.querySelector('[data-test=recogniser]').innerText").await;
    let row: Vec<&str> = row.as_str().unwrap().split_whitespace().collect();
    assert_eq!((row[..3].join(" "), row[5..8].join(" ")), ("turnstone 50.0 %".into(), "1 2 0".into()), "{row:?}");
    let marked = "const [first] = document.querySelectorAll('[data-test=alignment]');
        return ['substituted', 'missing'].map(kind => [...first.querySelectorAll('.' + kind)].map(one => one.innerText))";
    assert_eq!(browser.run(marked).await, json!([["was is"], ["old", "now"]]));
    let agreed = browser.run("return document.querySelector('[data-test=agreement]').innerText").await;
    assert_eq!(agreed, json!("turnstone and whimbrel agree on 100.0 % of the words"));
    browser.quit().await;
}
