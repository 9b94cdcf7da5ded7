//! The module for pages: in headless Chromium, on a page of another origin that
//! has a token and nothing else.

use std::path::PathBuf;
use std::time::Duration;

use crate::BINARY;
use crate::browser::Browser;
use crate::console_transcripts::microphone_file;
use crate::tokens::{allow_origin, token_of};
use dispatcher_e2e::Demo;
use serde_json::{Value, json};
use thirtyfour::Key;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

/// Compressed bytes that the module may have.
const LARGEST: usize = 12_000;

fn client_folder() -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../client"))
}

/// Serves the files of `client/` on another origin, as a team's own page would
/// be; gives the origin.
pub(crate) async fn other_origin() -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let origin = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut socket, _)) = listener.accept().await {
            tokio::spawn(async move {
                let mut head = vec![0; 8_192];
                let count = socket.read(&mut head).await.unwrap_or(0);
                let head = String::from_utf8_lossy(&head[..count]).into_owned();
                let name = head.split_whitespace().nth(1).unwrap_or("/").trim_start_matches('/').to_owned();
                let body = std::fs::read(client_folder().join(&name)).unwrap_or_default();
                let kind = match name.rsplit('.').next() {
                    Some("js") => "text/javascript",
                    Some("css") => "text/css",
                    _ => "text/html",
                };
                let head = format!(
                    "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                    body.len()
                );
                let _ = socket.write_all(head.as_bytes()).await;
                let _ = socket.write_all(&body).await;
            });
        }
    });
    origin
}

/// Opens the example on its own origin.
pub(crate) async fn open(browser: &Browser, demo: &Demo, origin: &str, token: &str) {
    let service = demo.url.replace(':', "%3A").replace('/', "%2F");
    browser.go(&format!("{origin}/example.html#service={service}&token={token}")).await;
    browser.until("the page", "return document.getElementById('service').value.startsWith('http')").await;
}

const TEXT: &str = "The 06:15 to Gullsay is delayed by twenty minutes. Please wait behind the line.";

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_another_origin_speaks_shows_words_as_they_sound_and_stops_at_a_click() {
    let demo = Demo::start(BINARY).await;
    let origin = other_origin().await;
    allow_origin(&demo, &origin).await;
    let (_, token) = token_of(&demo, json!({"calls": ["speak", "caption"], "origin": origin})).await;
    let browser = Browser::start(None).await;
    open(&browser, &demo, &origin, &token).await;
    browser.run("document.getElementById('voice').value = 'dotterel/cairn'; return true").await;
    browser
        .run("document.getElementById('text').value = 'The ramp is closing. Please stand clear.'; document.getElementById('speak').click()")
        .await;
    browser.until("the end", "return document.getElementById('spoken').innerText.startsWith('Spoken after')").await;
    let words = browser.run("return document.getElementById('words').innerText.trim()").await;
    assert_eq!(words, "The ramp is closing. Please stand clear.");
    let told = browser.run("return document.getElementById('spoken').innerText").await;
    let told = told.as_str().unwrap();
    let id = told.rsplit(' ').next().unwrap();
    let dispatch = demo.settled(id).await;
    assert!(told.contains(&format!(", {} EUR, ", dispatch["cost"]["amount"].as_str().unwrap())), "{told}: {dispatch}");
    let heard: f64 = told["Spoken after ".len()..].split(' ').next().unwrap().parse().unwrap();
    let length =
        dispatch["audio_ms"].as_f64().or(dispatch["duration"].as_f64().map(|s| s * 1_000.0)).unwrap() / 1_000.0;
    // A busy machine may play with gaps; what is played ends no sooner than the audio.
    assert!((length - 0.3..length + 5.0).contains(&heard), "heard {heard} s of {length} s");

    // Words come while the audio sounds, not at its end, and a click ends it.
    demo.weather_of("dotterel", json!({"weather": "drip", "pause": 250})).await;
    let script = format!(
        "window.ends = []; document.getElementById('text').value = {}; document.getElementById('speak').click(); \
         document.getElementById('speak').click(); return true",
        json!(TEXT)
    );
    browser.run(&script).await;
    browser.until("two words", "return document.querySelectorAll('#words .said').length >= 2").await;
    let stopped = browser
        .run(
            "const begun = performance.now(); document.getElementById('stop').click(); \
             const told = document.getElementById('spoken').innerText; return [told, performance.now() - begun]",
        )
        .await;
    assert!(stopped[0].as_str().unwrap().starts_with("Stopped after "), "{stopped}");
    assert!(stopped[1].as_f64().unwrap() < 1_000.0, "{stopped}");
    let count = "return document.querySelectorAll('#words .said').length";
    let said = browser.run(count).await.as_u64().unwrap();
    assert!(said < TEXT.split(' ').count() as u64, "it was stopped in the middle: {said}");
    tokio::time::sleep(Duration::from_millis(600)).await;
    assert_eq!(browser.run(count).await.as_u64(), Some(said), "nothing sounds after it");
    demo.weather_of("dotterel", Value::Null).await;
    let ended = || async {
        let list = demo.get("/api/v1/dispatches").await;
        list["items"].as_array().unwrap().iter().all(|one| one["state"] != "running")
    };
    while !ended().await {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let list = demo.get("/api/v1/dispatches").await;
    let states: Vec<&str> =
        list["items"].as_array().unwrap().iter().map(|one| one["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["abandoned", "done"], "two clicks at once are one request, and the engine was told to stop");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stolen_token_is_of_no_use_to_another_page_and_the_page_says_why() {
    let demo = Demo::start(BINARY).await;
    let (home, thief) = (other_origin().await, other_origin().await);
    allow_origin(&demo, &format!("{home},{thief}")).await;
    let (_, token) = token_of(&demo, json!({"calls": ["speak"], "origin": home, "characters": 30})).await;
    let browser = Browser::start(None).await;
    let try_to_speak = async |origin: &str| {
        open(&browser, &demo, origin, &token).await;
        browser.run("location.reload()").await;
        open(&browser, &demo, origin, &token).await;
        browser.run("document.getElementById('speak').click()").await;
        browser.until("why not", "return document.getElementById('spoken').classList.contains('fault')").await;
        browser.run("return document.getElementById('spoken').innerText").await.as_str().unwrap().to_owned()
    };
    let why = try_to_speak(&thief).await;
    assert!(why.contains(&format!("the token is for pages of {home}")), "{why}");
    let why = try_to_speak(&home).await;
    assert!(why.contains("the token has 30 characters left, and the request needs"), "{why}");
    assert_eq!(demo.delivered().await, demo.delivered_by("heron").await, "no engine was called");
    assert_eq!(demo.get("/api/v1/dispatches").await["items"], json!([]));
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_holds_a_button_of_the_page_to_talk_and_reads_the_captions() {
    let demo = Demo::start(BINARY).await;
    let origin = other_origin().await;
    allow_origin(&demo, &origin).await;
    let (_, token) = token_of(&demo, json!({"calls": ["caption"], "origin": origin})).await;
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::start(Some(&microphone_file(folder.path(), 2.0))).await;
    open(&browser, &demo, &origin, &token).await;
    browser.run("document.getElementById('talk').focus()").await;
    browser.driver.action_chain().key_down(Key::Space).perform().await.unwrap();
    browser.until("a caption", "return document.querySelectorAll('#captions .final').length >= 1").await;
    assert_eq!(browser.run("return document.getElementById('talk').ariaPressed").await, "true");
    browser.driver.action_chain().key_up(Key::Space).perform().await.unwrap();
    browser.until("the end", "return document.getElementById('heard').innerText.includes('EUR')").await;
    let first = browser.run("return document.querySelector('#captions .final').innerText").await;
    assert_eq!(first, "The ramp is closing now.");
    assert_eq!(browser.run("return document.getElementById('talk').ariaPressed").await, "false");
    browser.quit().await;
}

/// The records of a sequence (RFC 7464).
fn records(body: &str) -> Vec<Value> {
    let parts = body.split('\u{1e}').filter(|part| !part.trim().is_empty());
    parts.map(|part| serde_json::from_str(part).unwrap()).collect()
}

#[tokio::test]
async fn a_sequence_has_the_audio_and_each_word_and_says_when_it_breaks_off() {
    use base64::Engine as _;
    let demo = Demo::start(BINARY).await;
    let body = json!({"text": TEXT, "voice": "dotterel/cairn", "audio": {"type": "audio/pcm;rate=24000"}});
    let response = demo.speak(body.clone(), "application/json-seq").await;
    assert_eq!(dispatcher_e2e::header(&response, "content-type"), "application/json-seq");
    let told = records(&response.text().await.unwrap());
    let of = |kind: &str| told.iter().filter(|one| one["type"] == kind).collect::<Vec<_>>();
    assert_eq!((told[0]["type"].as_str(), told.last().unwrap()["type"].as_str()), (Some("start"), Some("end")));
    assert_eq!(told[0]["voice"], "dotterel/cairn");
    let audio: Vec<u8> = of("audio")
        .iter()
        .flat_map(|one| base64::engine::general_purpose::STANDARD.decode(one["base64"].as_str().unwrap()).unwrap())
        .collect();
    let format = dispatcher_audio::Format::new(dispatcher_audio::Codec::Pcm, 24_000);
    assert_eq!(dispatcher_e2e::words_of(&audio, format), TEXT);
    let words: Vec<&str> = of("word").iter().map(|one| one["text"].as_str().unwrap()).collect();
    assert_eq!(words.join(" "), TEXT);
    let starts: Vec<f64> = of("word").iter().map(|one| one["start"].as_f64().unwrap()).collect();
    let length = audio.len() as f64 / 48_000.0;
    assert!(starts.is_sorted() && starts.iter().all(|start| (0.0..length).contains(start)), "{starts:?} of {length}");
    let end = of("end")[0];
    assert!((end["duration"].as_f64().unwrap() - length).abs() < 0.001, "{end}");
    let cost = demo.settled(told[0]["dispatch"].as_str().unwrap()).await["cost"].clone();
    assert_eq!(end["cost"], cost);
    demo.weather_of("dotterel", json!({"weather": "half"})).await;
    let broken = records(&demo.speak(body, "application/json-seq").await.text().await.unwrap());
    let last = broken.last().unwrap();
    assert_eq!((&last["type"], &last["problem"]["status"]), (&json!("problem"), &json!(502)), "{last}");
}

#[tokio::test]
async fn the_module_is_small_public_and_a_package() {
    let demo = Demo::start(BINARY).await;
    let place = format!("{}/client/dispatcher.js", demo.url);
    let response = demo.http.get(&place).header("Accept-Encoding", "gzip").send().await.unwrap();
    let field = |name: &str| dispatcher_e2e::header(&response, name);
    assert!(field("content-type").starts_with("text/javascript"), "{}", field("content-type"));
    assert_eq!((field("access-control-allow-origin").as_str(), field("content-encoding").as_str()), ("*", "gzip"));
    let bytes = response.bytes().await.unwrap().len();
    assert!((1_000..LARGEST).contains(&bytes), "{bytes} bytes");
    // The package, as npm makes it, is used by another module with its types.
    let folder = tempfile::tempdir().unwrap();
    let run = |program: &str, arguments: &[&str]| {
        let mut command = std::process::Command::new(program);
        let output = command.args(arguments).current_dir(folder.path()).output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert!(output.status.success(), "{program}: {}{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    };
    let packed = run("npm", &["pack", "--silent", client_folder().to_str().unwrap()]);
    let archive = packed.trim().lines().last().unwrap().to_owned();
    std::fs::write(folder.path().join("package.json"), r#"{"type": "module"}"#).unwrap();
    run("npm", &["install", "--offline", "--silent", "--no-audit", "--no-fund", &format!("./{archive}")]);
    let used = r#"
        import { Dispatcher, DispatcherError } from 'dispatcher-client'
        const dispatcher = new Dispatcher({ token: 'x', url: 'http://127.0.0.1:9' })
        const names = ['speak', 'transcribe', 'record', 'caption', 'exchange', 'pushToTalk']
        console.log(names.every((name) => typeof dispatcher[name] === 'function'), new DispatcherError({ status: 403 }).status)"#;
    std::fs::write(folder.path().join("use.js"), used).unwrap();
    assert_eq!(run("node", &["use.js"]).trim(), "true 403");
    let typed = "import { Dispatcher, type SpokenEnd } from 'dispatcher-client'\n\
        const dispatcher = new Dispatcher({ token: async () => 'x' })\n\
        const utterance = dispatcher.speak('Ahoy.', { voice: 'quayside', prosody: { rate: '90%' } })\n\
        utterance.addEventListener('word', ({ detail }) => { const text: string = detail.text; void text })\n\
        const end: SpokenEnd = await utterance.ended\n\
        // @ts-expect-error: there is no such event\n\
        utterance.addEventListener('tide', () => undefined)\n\
        // @ts-expect-error: a token is a text or gives one\n\
        new Dispatcher({ token: 7 })\n\
        export { end }\n";
    std::fs::write(folder.path().join("typed.ts"), typed).unwrap();
    let compiler = concat!(env!("CARGO_MANIFEST_DIR"), "/../console/node_modules/typescript/bin/tsc");
    let options = ["--noEmit", "--strict", "--target", "es2022", "--module", "nodenext", "--lib", "es2022,dom"];
    run("node", &[&[compiler], &options[..], &["typed.ts"]].concat());
}
