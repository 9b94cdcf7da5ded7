//! Captions, the editor of transcripts and vocabularies, in headless Chromium.

use std::path::{Path, PathBuf};

use crate::BINARY;
use crate::browser::Browser;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_e2e::Demo;
use dispatcher_standins::tone::{Manner, speak};
use serde_json::{Value, json};
use thirtyfour::Key;
use thirtyfour::prelude::*;

const SAID: [&str; 2] = ["The ramp is closing now.", "When is the next ferry to gull say?"];
const FINAL: [&str; 2] = ["The ramp is closing now.", "When is the next ferry to Gullsay?"];

/// What the microphone hears, with time for the page before it.
pub(crate) fn microphone_file(folder: &Path, before: f64) -> PathBuf {
    let silence = |seconds: f64| vec![0.0; (48_000.0 * seconds) as usize];
    let mut samples = silence(before);
    for sentence in SAID {
        samples.extend(speak(sentence, Manner { pitch: 1.0, rate: 1.0 }, 48_000));
        samples.extend(silence(1.6));
    }
    samples.extend(silence(6.0));
    let path = folder.join("microphone.wav");
    std::fs::write(&path, encode_all(&samples, Format::new(Codec::Wav, 48_000)).unwrap()).unwrap();
    path
}

/// Notes every change of the captions, as one line each.
const WATCH: &str = "
    window.seen = [];
    const note = () => {
        const lines = [...document.querySelectorAll('[data-test=captions] li')];
        const state = JSON.stringify(lines.map((li) => [li.dataset.test, li.querySelector('span').innerText]));
        if (window.seen.at(-1) !== state) window.seen.push(state);
    };
    new MutationObserver(note).observe(document.body, { subtree: true, childList: true, characterData: true, attributes: true });
    return true";

async fn seen(browser: &Browser) -> Vec<Vec<(String, String)>> {
    let states: Vec<String> = serde_json::from_value(browser.run("return window.seen").await).unwrap();
    states.iter().map(|state| serde_json::from_str(state).unwrap()).collect()
}

pub(crate) async fn choose_whimbrel(browser: &Browser) {
    browser.find("caption-with").await.click().await.unwrap();
    browser
        .until(
            "the engines",
            "return [...document.querySelectorAll('.v-list-item-title')].some((e) => e.innerText === 'whimbrel')",
        )
        .await;
    browser
        .run("[...document.querySelectorAll('.v-list-item-title')].find((e) => e.innerText === 'whimbrel').click()")
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn captions_change_while_one_speaks_and_stay_once_they_are_final() {
    let demo = Demo::start(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::start(Some(&microphone_file(folder.path(), 3.0))).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/captions", demo.url)).await;
    choose_whimbrel(&browser).await;
    browser.run(WATCH).await;
    browser.find("listen").await.click().await.unwrap();
    browser.until("two captions", "return document.querySelectorAll('[data-test=final]').length === 2").await;
    browser.find("listen").await.click().await.unwrap();
    browser
        .until("the cost", "return document.querySelector('[data-test=caption-facts]').innerText.includes('EUR')")
        .await;
    let states = seen(&browser).await;
    let last = states.last().unwrap();
    assert_eq!(last.iter().map(|(_, text)| text.as_str()).collect::<Vec<_>>(), FINAL);
    // Each is seen as a guess first, whose words are in another order, in the place of the same line.
    for (line, text) in FINAL.iter().enumerate() {
        let guess = states.iter().find_map(|state| state.get(line).filter(|(kind, _)| kind == "interim"));
        assert!(guess.is_some_and(|(_, guess)| guess != text), "{states:?}");
        let settled = states.iter().position(|state| state.get(line).is_some_and(|(kind, _)| kind == "final")).unwrap();
        assert!(states[settled..].iter().all(|state| state[line] == ("final".into(), (*text).into())), "{states:?}");
    }
    let command = browser.run("return document.querySelector('.command').innerText").await;
    assert_eq!(command, "▸ next-departure, place: Gullsay");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_holds_a_key_or_a_finger_to_talk() {
    let demo = Demo::start(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::start(Some(&microphone_file(folder.path(), 1.5))).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/captions", demo.url)).await;
    choose_whimbrel(&browser).await;
    let hold = browser.find("hold").await;
    browser.run("document.querySelector('[data-test=hold]').focus()").await;
    browser.driver.action_chain().key_down(Key::Space).perform().await.unwrap();
    browser.until("a caption", "return document.querySelectorAll('[data-test=final]').length >= 1").await;
    assert_eq!(hold.attr("aria-pressed").await.unwrap().as_deref(), Some("true"));
    browser.driver.action_chain().key_up(Key::Space).perform().await.unwrap();
    browser
        .until("the end", "return document.querySelector('[data-test=caption-facts]').innerText.includes('EUR')")
        .await;
    let texts = browser
        .run("return [...document.querySelectorAll('[data-test=final] span:first-child')].map((e) => e.innerText)")
        .await;
    assert_eq!(texts[0], FINAL[0]);
    assert_eq!(hold.attr("aria-pressed").await.unwrap().as_deref(), Some("false"));
    // A finger, which is a pointer: it begins a session, and its lifting ends it.
    let touch = |kind: &str| {
        format!(
            "document.querySelector('[data-test=hold]').dispatchEvent(new PointerEvent('{kind}', {{ pointerType: 'touch', bubbles: true, cancelable: true }}))"
        )
    };
    browser.run(&touch("pointerdown")).await;
    browser.until("the session", "return document.querySelector('meter') !== null && document.querySelector('[data-test=caption-facts]').innerText === 'by whimbrel'").await;
    browser.run(&touch("pointerup")).await;
    browser.until("its end", "return document.querySelector('meter') === null").await;
    let dispatches = demo.get("/api/v1/dispatches").await;
    assert_eq!(dispatches["items"].as_array().unwrap().len(), 2);
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_transcript_is_followed_corrected_and_its_word_goes_into_the_vocabulary() {
    let demo = Demo::start(BINARY).await;
    let audio =
        demo.speak(json!({"text": "The tarn wick lamp is closing now.", "voice": "heron/pellin"}), "audio/wav").await;
    let audio = audio.bytes().await.unwrap();
    let recording = demo.folder.path().join("drill.wav");
    std::fs::write(&recording, &audio).unwrap();
    let heard = demo.hear(audio.to_vec(), "audio/wav", "?engine=turnstone").await;
    let id = heard["dispatch"].as_str().unwrap();
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/transcripts", demo.url)).await;
    browser.find("transcript-line").await;
    browser.go(&format!("{}/transcripts/{id}", demo.url)).await;
    // The words light up with the sound.
    browser.until("the words", "return document.querySelectorAll('[data-test=words] .word').length === 7").await;
    browser
        .driver
        .find(By::Css("[data-test=recording]"))
        .await
        .unwrap()
        .send_keys(recording.to_str().unwrap())
        .await
        .unwrap();
    browser.until("the sound", "return document.querySelector('[data-test=audio]')?.duration > 1").await;
    browser.run("document.querySelector('[data-test=audio]').play()").await;
    browser.until("a word in its turn", "return document.querySelector('.word.now')?.innerText === 'closing'").await;
    // A corrected text is the next version.
    let set = |text: &str| {
        format!(
            "const t = document.querySelector('[data-test=text] textarea'); t.value = {}; t.dispatchEvent(new Event('input', {{ bubbles: true }}))",
            json!(text)
        )
    };
    browser.run(&set("The Tarnwick ramp is closing now.")).await;
    browser.until("it can be saved", "return !document.querySelector('[data-test=save]').disabled").await;
    browser.find("save").await.click().await.unwrap();
    browser.until("two versions", "return document.querySelectorAll('[data-test=version]').length === 2").await;
    let kept: Value = demo.get(&format!("/api/v1/transcripts/{id}")).await;
    assert_eq!((&kept["version"], kept["text"].as_str()), (&json!(2), Some("The Tarnwick ramp is closing now.")));
    // A word is fixed for good.
    browser.run("[...document.querySelectorAll('.word')].find((w) => w.innerText === 'ramp').click()").await;
    browser.find("fix").await.click().await.unwrap();
    let field = browser.find("fix-written").await.find(By::Tag("input")).await.unwrap();
    field.send_keys(Key::Control + "a").await.unwrap();
    field.send_keys("Linkspan").await.unwrap();
    browser.find("fix-keep").await.click().await.unwrap();
    browser
        .until("what was done", "return document.querySelector('[data-test=told]').innerText.includes('Linkspan')")
        .await;
    let words = demo.get("/api/v1/vocabulary?app=quay-announcer").await;
    let word = words["words"].as_array().unwrap().iter().find(|word| word["grapheme"][0] == "Linkspan").cloned();
    assert_eq!(word.unwrap()["alias"], json!(["ramp"]));
    // It is in the vocabulary's page, and is tried there.
    browser.go(&format!("{}/vocabulary", demo.url)).await;
    browser.until("the apps", "return document.querySelector('[data-test=app]') !== null").await;
    browser.find("app").await.click().await.unwrap();
    browser
        .until(
            "the app",
            "return [...document.querySelectorAll('.v-list-item-title')].some((e) => e.innerText === 'quay-announcer')",
        )
        .await;
    browser.run("[...document.querySelectorAll('.v-list-item-title')].find((e) => e.innerText === 'quay-announcer').click()").await;
    browser.until("four words", "return document.querySelectorAll('[data-test=word]').length === 4").await;
    browser.find("new-word").await.click().await.unwrap();
    browser.find("grapheme").await.find(By::Tag("input")).await.unwrap().send_keys("Tarnwick").await.unwrap();
    browser.find("alias").await.find(By::Tag("input")).await.unwrap().send_keys("tarn wick, turn wick").await.unwrap();
    browser.find("keep-word").await.click().await.unwrap();
    browser.until("five words", "return document.querySelectorAll('[data-test=word]').length === 5").await;
    browser
        .find("sentence")
        .await
        .find(By::Tag("input"))
        .await
        .unwrap()
        .send_keys("close the ramp at turn wick")
        .await
        .unwrap();
    browser.find("try").await.click().await.unwrap();
    let tried = browser.find("tried").await.text().await.unwrap();
    assert!(tried.starts_with("close the Linkspan at Tarnwick"), "{tried}");
    browser.quit().await;
}
