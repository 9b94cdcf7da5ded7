//! Programs beside the browser: the Python module and the recipe in C, as the
//! guide shows them, against the running service.

use std::path::Path;
use std::process::{Command, Output};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, words_of};
use serde_json::{Value, json};

use crate::BINARY;
use crate::tokens::token_of;

const GUIDE: &str = include_str!("../../docs/guide/8-in-an-app.md");

/// The code of a language that the chapter shows, in which some text stands.
fn shown(language: &str, with: &str) -> &'static str {
    let fence = format!("```{language}\n");
    let mut blocks = GUIDE.split(&fence).skip(1).map(|after| after.split_once("```").expect("its end").0);
    blocks.find(|block| block.contains(with)).expect("the code")
}

async fn python(demo: &Demo, folder: &Path, script: &str) -> Output {
    let module = demo.http.get(format!("{}/client/dispatcher.py", demo.url)).send().await.unwrap();
    assert_eq!(module.status(), 200);
    std::fs::write(folder.join("dispatcher.py"), module.bytes().await.unwrap()).unwrap();
    std::fs::write(folder.join("main.py"), script).unwrap();
    let folder = folder.to_owned();
    let run = move || Command::new("python3").arg("main.py").current_dir(folder).output().unwrap();
    tokio::task::spawn_blocking(run).await.unwrap()
}

#[tokio::test]
async fn a_python_program_plays_while_audio_comes_cancels_transcribes_and_asks() {
    let demo = Demo::start(BINARY).await;
    let (_, token) = token_of(&demo, json!({"calls": ["speak", "transcribe", "exchange"]})).await;
    let folder = tempfile::tempdir().unwrap();
    demo.weather(json!({"weather": "drip", "pause": 40})).await;
    let example = shown("python", "from dispatcher import").replace("http://127.0.0.1:7420", &demo.url);
    let script = format!(
        r#"
import sys, time, json
token = lambda: {token:?}
audio = open("audio.raw", "wb")
longest = 0
pieces = 0
def play(samples):
    global pieces
    pieces += len(samples) > 0
    samples.tofile(audio)
    time.sleep(0.005)
{example}
audio.close()
assert speech.facts["voice"] == "heron/pellin" and speech.facts["cost"], speech.facts
assert pieces >= 3, "it is heard while it is made"
long = service.speak("The ferry leaves, and the ferry comes back. " * 20, voice="heron/pellin")
begun = time.perf_counter()
assert len(long.read()) == 0 and time.perf_counter() - begun < 0.05, "reading never waits"
while not len(long.read() or b""): time.sleep(0.01)
long.cancel()
assert long.read() is None, "nothing is heard after it"
"#
    );
    let ran = python(&demo, folder.path(), &script).await;
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let audio = std::fs::read(folder.path().join("audio.raw")).unwrap();
    assert_eq!(words_of(&audio, Format::new(Codec::Pcm, 22_050)), "Land ahoy.");
    demo.weather(Value::Null).await;
    // The engine was told to stop.
    for _ in 0..200 {
        let list = demo.get("/api/v1/dispatches?state=abandoned").await;
        if !list["items"].as_array().unwrap().is_empty() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(demo.get("/api/v1/dispatches?state=abandoned").await["items"].as_array().unwrap().len(), 1);
    let script = format!(
        r#"
from dispatcher import Dispatcher, DispatcherError
dispatcher = Dispatcher({url:?}, {token:?})
answer = dispatcher.exchange(text="the last one to Eelpool", voice={{"voice": "heron/pellin", "audio": {{"type": "wav"}}}}).result(60)
heard = dispatcher.transcribe(answer["audio"]["bytes"], "audio/wav", engine="turnstone").result(60)
assert heard["text"] == answer["reply"]["spoken"] == "The last ferry to Eelpool leaves at quarter past eleven from quay 4.", heard
try:
    dispatcher.speak("x" * 10, voice="nobody/here").result(60)
    raise SystemExit("it was not refused")
except DispatcherError as error:
    assert error.status == 404 or error.status == 422, error.status
"#,
        url = demo.url
    );
    let ran = python(&demo, folder.path(), &script).await;
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    // Half of the audio is no audio.
    demo.weather(json!({"weather": "half"})).await;
    let script = format!(
        r#"
import time
from dispatcher import Dispatcher, DispatcherError
speech = Dispatcher({url:?}, {token:?}).speak("The ferry leaves, and the ferry comes back.", voice="heron/pellin")
try:
    while speech.read() is not None: time.sleep(0.01)
    raise SystemExit("it was taken for the whole")
except DispatcherError as error:
    assert "lost" in str(error), error
"#,
        url = demo.url
    );
    let ran = python(&demo, folder.path(), &script).await;
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
}

#[tokio::test]
async fn a_game_in_c_reads_samples_without_waiting_and_notices_what_is_not_whole() {
    let demo = Demo::start(BINARY).await;
    let (_, token) = token_of(&demo, json!({"calls": ["speak"]})).await;
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("game.c"), shown("c", "speech_begin")).unwrap();
    let built = Command::new("cc")
        .args(["-std=gnu11", "-Wall", "-Wextra", "-Werror", "-o", "game", "game.c"])
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    let port = demo.url.rsplit_once(':').unwrap().1.to_owned();
    let run = |token: &str| {
        let path = format!(
            "/api/v1/utterances?text=Land+ahoy.&voice=heron/pellin&type=audio/pcm&sample_rate=22050&access_token={token}"
        );
        let mut command = Command::new(folder.path().join("game"));
        command.args(["127.0.0.1", &port, &path]);
        tokio::task::spawn_blocking(move || command.output().unwrap())
    };
    let ran = run(&token).await.unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(words_of(&ran.stdout, Format::new(Codec::Pcm, 22_050)), "Land ahoy.");
    let refused = run("dispatch_token_wrong").await.unwrap();
    assert!(!refused.status.success());
    assert_eq!(String::from_utf8_lossy(&refused.stderr).trim(), "HTTP/1.1 401");
}

#[tokio::test]
async fn a_spreadsheet_gets_links_durations_and_costs_and_pays_for_changed_rows_alone() {
    let demo = Demo::start(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let table = folder.path().join("table.csv");
    std::fs::write(folder.path().join("sheet.py"), shown("python", "sheet.py")).unwrap();
    std::fs::write(&table, "text,voice\nThe ramp is closing.,heron/pellin\n\"Mind the step, please.\",\n").unwrap();
    let run = async || {
        let mut command = tokio::process::Command::new("python3");
        command.args(["sheet.py", "table.csv"]).current_dir(folder.path());
        let done =
            command.env("DISPATCHER_URL", &demo.url).env("DISPATCHER_APP_KEY", &demo.app).output().await.unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        std::fs::read_to_string(&table).unwrap()
    };
    let requests = async || {
        let list = demo.get("/api/v1/dispatches?limit=100").await;
        list["items"].as_array().unwrap().len()
    };
    let written = run().await;
    let rows: Vec<&str> = written.lines().collect();
    assert_eq!((rows[0], rows.len()), ("text,voice,link,seconds,cost,spoken", 3));
    assert!(rows[1].contains(",0.000320 EUR,The ramp is closing."), "{written}");
    let link = rows[1].split(',').nth(2).unwrap();
    let audio = demo.http.get(link).send().await.unwrap().bytes().await.unwrap();
    assert_eq!(words_of(&audio, Format::new(Codec::Mp3, 24_000)), "The ramp is closing.");
    assert_eq!(requests().await, 2);
    let changed = written.replacen("The ramp is closing.,heron", "The ramp is open.,heron", 1);
    std::fs::write(&table, changed).unwrap();
    let written = run().await;
    assert!(written.contains(",0.000272 EUR,The ramp is open."), "{written}");
    assert_eq!(requests().await, 3, "the other row is as it was");
}

#[tokio::test]
async fn one_call_with_json_gives_the_audio_and_phone_prompts_are_files_of_their_ids() {
    let demo = Demo::start(BINARY).await;
    let recipes = GUIDE.split_once("## Tools that make one call").unwrap().1.split_once("## Python").unwrap().0;
    let is_command = |line: &&str| ["curl ", "printf ", "dispatcher "].iter().any(|name| line.starts_with(name));
    let commands: Vec<&str> = recipes.lines().filter(is_command).collect();
    assert_eq!(commands.len(), 5, "{commands:?}");
    let folder = tempfile::tempdir().unwrap();
    let bin = folder.path().join("bin");
    std::fs::create_dir(&bin).unwrap();
    std::os::unix::fs::symlink(BINARY, bin.join("dispatcher")).unwrap();
    for line in commands {
        let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
        let mut command = tokio::process::Command::new("bash");
        command.args(["-c", line]).current_dir(folder.path()).env("PATH", path).env("DISPATCHER_URL", &demo.url);
        let done =
            command.env("DISPATCHER_APP_KEY", &demo.app).env("DISPATCHER_KEY", &demo.app).output().await.unwrap();
        assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
    }
    let json =
        |name: &str| -> Value { serde_json::from_slice(&std::fs::read(folder.path().join(name)).unwrap()).unwrap() };
    let audio = |answer: &Value| STANDARD.decode(answer["audio"]["base64"].as_str().unwrap()).unwrap();
    let mp3 = Format::new(Codec::Mp3, 24_000);
    let spoken = json("spoken.json");
    assert_eq!(words_of(&audio(&spoken), mp3), "The ramp is closing.");
    assert!(spoken["audio"]["data_uri"].as_str().unwrap().starts_with("data:audio/mpeg;base64,"));
    let asked = json("asked.json");
    let reply = asked["reply"]["text"].as_str().unwrap();
    assert!(reply.contains("Gullsay"), "{asked}");
    assert_eq!(words_of(&audio(&asked), mp3), reply);
    let welcome = std::fs::read(folder.path().join("menu/welcome.ulaw")).unwrap();
    assert_eq!(words_of(&welcome, Format::new(Codec::Mulaw, 8_000)), "Welcome to Saltmarsh Ferries.");
    assert!(folder.path().join("menu/wait.ulaw").exists());
}
