//! The console's script editor and Jobs pages, in headless Chromium.

use crate::BINARY;
use crate::browser::Browser;
use dispatcher_e2e::Demo;
use serde_json::json;

/// Puts text into the script editor, as typing does.
fn typed(text: &str) -> String {
    let text = json!(text);
    format!(
        "const t = document.querySelector('[data-test=script]'); t.value = {text}; t.dispatchEvent(new Event('input'));"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_script_shows_its_faults_and_what_becomes_of_it_before_it_is_sent() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.find("mode-script").await.click().await.unwrap();
    let told = |text: &str| {
        format!("return document.querySelector('[data-test=script-told]')?.innerText.includes('{text}') ?? false")
    };
    browser.until("the check", &told("Valid.")).await;
    let beside =
        |text: &str| format!("return document.querySelector('[data-test=beside]').innerText.includes('{text}')");
    browser.until("what becomes of the break", &beside("break emulated")).await;
    browser.run(&typed("<speak version='1.1' xml:lang='en-GB'>\n  Mind <emphasis>the</emphsis> gap.\n</speak>")).await;
    browser.until("the fault", &told("Line 2, column 21:")).await;
    let enabled = browser.run("return document.querySelector('[data-test=speak]').disabled").await;
    assert_eq!(enabled, json!(true), "what has a fault is not sent");
    browser.run(&typed("<speak version='1.1' xml:lang='en-GB'>\n  The ramp is closing.\n</speak>")).await;
    browser.until("no fault", &told("Valid.")).await;
    browser.run("const t = document.querySelector('[data-test=script]'); t.focus(); t.setSelectionRange(44, 47)").await;
    browser.find("put-Emphasis").await.click().await.unwrap();
    let value = browser.run("return document.querySelector('[data-test=script]').value").await;
    assert_eq!(
        value,
        json!("<speak version='1.1' xml:lang='en-GB'>\n  The<emphasis> ra</emphasis>mp is closing.\n</speak>")
    );
    browser.until("what becomes of it", &beside("emphasis")).await;
    browser.find("speak").await.click().await.unwrap();
    browser.find("facts").await;
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_document_is_dropped_followed_and_heard_with_its_text() {
    let demo = Demo::start(BINARY).await;
    let document = demo.folder.path().join("rounds.md");
    let chapters: String =
        (1..=3).map(|n| format!("\n## Deck {n}\n\nDoor {n} opens. Mind the step at door {n}.\n")).collect();
    std::fs::write(&document, format!("# Rounds\n{chapters}")).unwrap();
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/jobs", demo.url)).await;
    browser.until("the empty list", "return document.body.innerText.includes('No jobs yet')").await;
    demo.weather(json!({"weather": "drip", "pause": 60})).await;
    browser.find("file").await.send_keys(document.to_str().unwrap()).await.unwrap();
    browser.until("the estimate", "return !document.querySelector('[data-test=begin]').disabled").await;
    let estimate = browser.find("job-estimate").await.text().await.unwrap();
    assert!(estimate.contains("EUR") && estimate.contains("files"), "{estimate}");
    browser.find("begin").await.click().await.unwrap();
    browser
        .until("the job", "return document.querySelector('[data-test=now]')?.innerText.includes('running') ?? false")
        .await;
    demo.weather(serde_json::Value::Null).await;
    browser
        .until("its end", "return document.querySelector('[data-test=now]')?.innerText.includes('done') ?? false")
        .await;
    let now = browser.find("now").await.text().await.unwrap();
    assert!(now.contains("3 of 3"), "{now}");
    // 145 characters with their line ends at 0.000016 each, with the digits that count.
    assert!(now.contains("Cost so far\n0.0023 EUR") && now.contains("Estimate\n0.0023 EUR"), "{now}");
    // A sentence may be over before the next question to the browser: the page itself takes down each.
    let take_down = "window.followed = [];
        new MutationObserver(() => {
            const here = document.querySelector('[data-test=said] .here')?.innerText;
            if (here && here !== window.followed.at(-1)) window.followed.push(here);
        }).observe(document.body, { subtree: true, childList: true, attributeFilter: ['class'] })";
    browser.run(take_down).await;
    browser.find("play").await.click().await.unwrap();
    browser
        .until("the text that follows", "return document.querySelectorAll('[data-test=said] button').length === 4")
        .await;
    browser.until("a second sentence", "return window.followed.length >= 2").await;
    let said = "[...document.querySelectorAll('[data-test=said] button')]";
    let texts = browser.run(&format!("return {said}.map(b => b.innerText)")).await;
    assert_eq!(texts, json!(["Rounds", "Deck 1", "Door 1 opens.", "Mind the step at door 1."]));
    let in_turn = "const all = [...document.querySelectorAll('[data-test=said] button')].map(b => b.innerText);
        const at = window.followed.map(text => all.indexOf(text));
        return at.every((one, i) => one >= 0 && (i === 0 || one > at[i - 1]))";
    assert_eq!(browser.run(in_turn).await, json!(true), "sentences are marked in their order");
    browser.go(&format!("{}/jobs", demo.url)).await;
    browser.until("the list", "return document.querySelectorAll('[data-test=job]').length === 1").await;
    browser.quit().await;
}
