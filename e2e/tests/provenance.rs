//! Signed provenance: complete files are signed, streams are not, and the
//! client finds out whatever was changed.

use crate::BINARY;
use dispatcher_audio::{Codec, Format, Meter};
use dispatcher_e2e::{Demo, words_of};
use serde_json::{Value, json};

/// What `dispatcher provenance` says of a file: its exit code, state and key.
fn check(demo: &Demo, audio: &[u8], options: &[&str]) -> (i32, String, Value) {
    let path = demo.data().join("checked.audio");
    std::fs::write(&path, audio).unwrap();
    let done = demo.client(&[&["--json", "provenance", path.to_str().unwrap()], options].concat());
    let found: Value = serde_json::from_slice(&done.stdout).unwrap();
    let item = &found["items"][0];
    (done.status.code().unwrap(), item["state"].as_str().unwrap().to_owned(), item["key"].clone())
}

#[tokio::test(flavor = "multi_thread")]
async fn complete_audio_is_signed_and_a_changed_file_is_found_out() {
    let demo = Demo::start(BINARY).await;
    demo.client(&["app", "change", "quay-announcer", "--recall", "private"]);
    let key: Value =
        demo.http.get(format!("{}/api/v1/provenance-key", demo.url)).send().await.unwrap().json().await.unwrap();
    let (public, kid) = (key["x"].as_str().unwrap(), &key["kid"]);
    let body = |kind: &str| {
        let text = format!("The ramp is closing, says {kind}.");
        json!({"text": text, "voice": "heron/pellin", "audio": {"type": kind}})
    };
    for kind in ["mp3", "ogg", "webm", "flac", "wav"] {
        // A stream is not signed, the same as JSON is, and so is what was kept.
        let streamed = demo.speak(body(kind), "*/*").await.bytes().await.unwrap();
        assert_eq!(check(&demo, &streamed, &[]), (1, "unsigned".into(), Value::Null), "{kind}");
        let kept = demo.speak(body(kind), "*/*").await;
        assert!(kept.headers()["cache-status"].to_str().unwrap().contains("hit"), "{kind}");
        let kept = kept.bytes().await.unwrap().to_vec();
        assert_eq!(check(&demo, &kept, &[]), (0, "verified".into(), kid.clone()), "{kind}");
        assert_eq!(kept.len(), streamed.len(), "{kind}: the signature takes the place that was kept for it");
        let mut changed = kept.clone();
        *changed.last_mut().unwrap() ^= 1;
        assert_eq!(check(&demo, &changed, &[]).1, "changed", "{kind}");
    }
    let answer: Value = demo.speak(body("mp3"), "application/json").await.json().await.unwrap();
    use base64::Engine as _;
    let audio = base64::engine::general_purpose::STANDARD.decode(answer["audio"]["base64"].as_str().unwrap()).unwrap();
    assert_eq!(check(&demo, &audio, &["--public-key", public]).1, "verified");
    let other = "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo";
    assert_eq!(check(&demo, &audio, &["--public-key", other]).1, "foreign");
    // Nobody may say of a converted file that it is as it was made.
    let (from, to) = (demo.data().join("signed.mp3"), demo.data().join("converted.ogg"));
    std::fs::write(&from, &audio).unwrap();
    let converted = demo.client(&["convert", from.to_str().unwrap(), to.to_str().unwrap()]);
    assert!(converted.status.success(), "{}", String::from_utf8_lossy(&converted.stderr));
    assert_eq!(check(&demo, &std::fs::read(&to).unwrap(), &[]).1, "missing");
}

#[tokio::test(flavor = "multi_thread")]
async fn files_of_a_job_are_signed() {
    let demo = Demo::start(BINARY).await;
    let text = demo.data().join("notice.txt");
    std::fs::write(&text, "The first ferry leaves at six. The last one leaves at nine.").unwrap();
    let args = ["job", "add", text.to_str().unwrap(), "--voice", "heron/pellin", "--format", "mp3", "--json"];
    let job: Value = serde_json::from_slice(&demo.client(&args).stdout).unwrap();
    let folder = demo.data().join("spoken");
    let done = demo.client(&["job", "wait", job["id"].as_str().unwrap(), "-o", folder.to_str().unwrap()]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let files = dispatcher_e2e::files_below(&folder);
    let audio = files.iter().find(|path| path.extension().is_some_and(|it| it != "vtt")).expect("audio");
    assert_eq!(check(&demo, &std::fs::read(audio).unwrap(), &[]).1, "verified");
}

#[tokio::test(flavor = "multi_thread")]
async fn synthetic_speech_is_disclosed_as_the_policy_of_its_app_says() {
    const NOTICE: &str = "This is a computer.";
    let demo = Demo::start(BINARY).await;
    let change = |options: &[&str]| {
        let done = demo.client(&[&["app", "change", "quay-announcer"], options].concat());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    let flac = Format::new(Codec::Flac, 24_000);
    let speak = async |body: Value| {
        let answer = demo.speak(body, "audio/flac").await;
        assert_eq!(answer.status(), 200);
        let headers = answer.headers().clone();
        let audio = answer.bytes().await.unwrap();
        let mut meter = Meter::new(flac).unwrap();
        meter.push(&audio).unwrap();
        (words_of(&audio, flac), headers, meter.tags().synthetic)
    };
    let plain = json!({"text": "The ramp is closing.", "voice": "heron/pellin"});
    let (words, headers, tagged) = speak(plain.clone()).await;
    assert_eq!((words.as_str(), tagged), ("The ramp is closing.", true));
    assert_eq!(headers["dispatch-synthetic"], "?1");
    change(&["--notice", NOTICE, "--disclosure", "header"]);
    let (words, headers, tagged) = speak(plain.clone()).await;
    assert_eq!(words, format!("{NOTICE}\n\nThe ramp is closing."), "a paragraph of its own");
    assert!(headers["dispatch-synthetic"] == "?1" && !tagged, "{headers:?}");
    assert!(
        headers["content-disposition"].to_str().unwrap().contains("the-ramp-is-closing"),
        "the file has its own name"
    );
    let estimate = demo.post("/api/v1/estimates").json(&plain).send().await.unwrap().json::<Value>().await.unwrap();
    let cost = headers["dispatch-cost"].to_str().unwrap();
    assert_eq!(cost, format!("{} EUR", estimate["cost"]["amount"].as_str().unwrap()), "the notice is estimated too");
    change(&["--disclosure", "tag"]);
    let ssml = r#"<speak version="1.1" xmlns="http://www.w3.org/2001/10/synthesis" xml:lang="en-GB"><p>The ramp is open.</p></speak>"#;
    let (words, headers, tagged) = speak(json!({"ssml": ssml, "voice": "heron/pellin"})).await;
    assert_eq!((words, tagged), (format!("{NOTICE}\n\nThe ramp is open."), true));
    assert!(!headers.contains_key("dispatch-synthetic"), "{headers:?}");
    // A fault is found where it stands, without the notice.
    let faulty = demo.speak(json!({"ssml": ssml.replace("</p>", "</q>"), "voice": "heron/pellin"}), "*/*").await;
    assert!(faulty.text().await.unwrap().contains("column 103"), "the column of the end tag");
    let refused = demo.client(&["app", "change", "quay-announcer", "--disclosure", "smell"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("header"), "it names the places");
    // In a document it is said once.
    let job =
        demo.post("/api/v1/jobs?split=heading&voice=heron/pellin&type=flac").header("Content-Type", "text/markdown");
    let job = job.body("# One\n\nThe first.\n\n# Two\n\nThe second.\n").send().await.unwrap();
    let job: Value = job.json().await.unwrap();
    let folder = demo.data().join("spoken");
    demo.client(&["job", "wait", job["id"].as_str().unwrap(), "-o", folder.to_str().unwrap()]);
    let mut files = dispatcher_e2e::files_below(&folder);
    files.retain(|path| path.extension().is_some_and(|it| it == "flac"));
    files.sort();
    let heard: Vec<String> = files.iter().map(|path| words_of(&std::fs::read(path).unwrap(), flac)).collect();
    assert!(heard.len() == 2 && heard[0].starts_with(NOTICE) && !heard[1].contains("computer"), "{heard:?}");
    change(&["--notice", "none"]);
    assert_eq!(speak(plain).await.0, "The ramp is closing.");
}
