//! Exchanges in headless Chromium with a fake microphone: on a page of another
//! origin with a token, and in the console; by push and by silence.

use std::path::{Path, PathBuf};
use std::time::Duration;

use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_e2e::Demo;
use dispatcher_standins::tone::{Manner, speak};
use serde_json::{Value, json};
use thirtyfour::{By, Key};

use crate::BINARY;
use crate::browser::Browser;
use crate::in_a_page::{open, other_origin};
use crate::tokens::{allow_origin, token_of};

const QUESTION: &str = "When is the next ferry to Gullsay?";
const REPLY: &str =
    "The next ferry to Gullsay leaves at quarter past six from quay 2. After that there is one at five past eight.";

/// A microphone in which the question is asked after a second, again and again.
fn microphone(folder: &Path) -> PathBuf {
    let mut samples = vec![0.0; 48_000];
    samples.extend(speak(QUESTION, Manner { pitch: 1.0, rate: 1.5 }, 48_000));
    samples.extend(vec![0.0; 48_000 * 20]);
    let path = folder.join("question.wav");
    std::fs::write(&path, encode_all(&samples, Format::new(Codec::Wav, 48_000)).unwrap()).unwrap();
    path
}

async fn texts(browser: &Browser, selector: &str) -> Vec<String> {
    let script = format!("return [...document.querySelectorAll('{selector}')].map((e) => e.innerText.trim())");
    serde_json::from_value(browser.run(&script).await).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_another_origin_asks_by_push_and_by_silence_and_reads_its_stages() {
    let demo = Demo::start(BINARY).await;
    let origin = other_origin().await;
    allow_origin(&demo, &origin).await;
    let (_, token) = token_of(&demo, json!({"calls": ["exchange"], "origin": origin})).await;
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::start(Some(&microphone(folder.path()))).await;
    open(&browser, &demo, &origin, &token).await;
    browser.run("document.getElementById('ask').focus()").await;
    browser.driver.action_chain().key_down(Key::Space).perform().await.unwrap();
    // The question is asked meanwhile.
    tokio::time::sleep(Duration::from_secs(6)).await;
    browser.driver.action_chain().key_up(Key::Space).perform().await.unwrap();
    let answered = "return document.getElementById('asked').innerText.startsWith('answered: ear ')";
    browser.until("the answer", answered).await;
    assert_eq!(texts(&browser, "#turns dt").await, [QUESTION]);
    assert_eq!(texts(&browser, "#turns dd").await.join(" "), REPLY);
    browser.run("document.getElementById('asked').innerText = ''; document.getElementById('converse').click()").await;
    browser.until("the answer by silence", answered).await;
    assert_eq!(texts(&browser, "#turns dt").await, [QUESTION, QUESTION]);
    let stages = browser.run("return document.getElementById('asked').innerText").await;
    assert!(["ear ", "reply ", "voice "].iter().all(|stage| stages.as_str().unwrap().contains(stage)), "{stages}");
    assert_eq!(browser.run("return document.getElementById('converse').ariaPressed").await, "true");
    browser.run("document.getElementById('converse').click()").await;
    browser.until("the end", "return document.getElementById('converse').ariaPressed === 'false'").await;
    let list = demo.get("/api/v1/exchanges").await;
    let states: Vec<&str> =
        list["items"].as_array().unwrap().iter().map(|one| one["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["answered", "answered"]);
    browser.quit().await;
}

/// Types a turn in the console, and sends it.
pub(crate) async fn type_turn(browser: &Browser, text: &str) {
    browser.find("typed").await;
    let typed = "const field = document.querySelector('[data-test=typed] input'); field.focus(); \
        field.value = TEXT; field.dispatchEvent(new Event('input'))";
    browser.run(&typed.replace("TEXT", &json!(text).to_string())).await;
    browser.until("a text to send", "return !document.querySelector('[data-test=send]').disabled").await;
    browser.find("send").await.click().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_asks_by_voice_and_by_keyboard_and_shows_the_stages() {
    let demo = Demo::start(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::start(Some(&microphone(folder.path()))).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/exchange", demo.url)).await;
    browser.until("the empty page", "return document.body.innerText.includes('No exchanges yet.')").await;
    let flag = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/pictures/flag.png").canonicalize().unwrap();
    let chooser = browser.driver.find(By::Css("[data-test=attachment]")).await.unwrap();
    chooser.send_keys(flag.to_str().unwrap()).await.unwrap();
    type_turn(&browser, "What does this flag mean?").await;
    let turns = |count: usize| format!("return document.querySelectorAll('[data-test=stages]').length === {count}");
    browser.until("the answer", &turns(1)).await;
    assert_eq!(
        texts(&browser, "[data-test=turn] .reply").await,
        ["This is the flag L. It means: stop your ship at once."]
    );
    assert_eq!(texts(&browser, "[data-test=stages] .name").await, ["reply", "voice"], "no ear was needed");
    // By silence: the session of the other kind ends, and this one listens.
    browser.find("talk").await.click().await.unwrap();
    browser.until("the spoken turn", &turns(2)).await;
    assert_eq!(texts(&browser, "[data-test=turn] .said").await[1], QUESTION);
    assert_eq!(texts(&browser, "[data-test=turn] .reply").await[1], REPLY);
    browser.find("talk").await.click().await.unwrap();
    browser.until("its end", "return document.querySelector('[data-test=talk]').innerText.includes('Talk')").await;
    // A hook that fails is told, with the apology.
    demo.weather_of("timetable", json!({"weather": "down"})).await;
    type_turn(&browser, "When?").await;
    browser.until("the apology", &turns(3)).await;
    let third = texts(&browser, "[data-test=turn]").await[2].clone();
    assert!(third.contains("the timetable desk does not answer") && third.contains("it answered 503"), "{third}");
    browser
        .until("the records", "return document.querySelectorAll('[data-test=exchanges] tbody tr').length === 3")
        .await;
    demo.weather_of("timetable", Value::Null).await;
    browser.quit().await;
}
