//! The command line as people and scripts use it.

use crate::BINARY;
use std::process::{Command, Output, Stdio};

use dispatcher_audio::{Codec, Format, measure};
use dispatcher_e2e::{Demo, words_of};
use serde_json::{Value, json};

const TEXT: &str = "The ramp is closing";

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn good(output: &Output) -> (String, String) {
    let (out, err) = (text(&output.stdout), text(&output.stderr));
    assert!(output.status.success(), "{out}\n{err}");
    (out, err)
}

#[tokio::test]
async fn speak_writes_files_folders_and_streams() {
    let demo = Demo::start(BINARY).await;
    let file = |name: &str| std::fs::read(demo.folder.path().join(name)).unwrap();
    let (out, err) = good(&demo.client(&["speak", TEXT, "--voice", "heron/pellin", "-o", "gap.mp3"]));
    assert_eq!(out, "", "data goes to the file, the rest to standard error");
    assert!(err.contains("gap.mp3") && err.contains("0.0003 EUR"), "{err}");
    assert_eq!(words_of(&file("gap.mp3"), Format::new(Codec::Mp3, 24_000)), TEXT);

    let again = demo.client(&["speak", TEXT, "-o", "gap.mp3"]);
    assert_eq!(again.status.code(), Some(1));
    assert!(text(&again.stderr).contains("--force"), "{}", text(&again.stderr));
    good(&demo.client(&["speak", "Over", "--voice", "heron/pellin", "-o", "gap.mp3", "--force"]));
    assert_eq!(words_of(&file("gap.mp3"), Format::new(Codec::Mp3, 24_000)), "Over");

    for _ in 0..2 {
        good(&demo.client(&["speak", TEXT, "--format", "wav", "-o", "out/"]));
    }
    let names: Vec<String> = std::fs::read_dir(demo.folder.path().join("out"))
        .unwrap()
        .map(|e| e.unwrap().file_name().into_string().unwrap())
        .collect();
    assert_eq!(names.len(), 2, "{names:?}");
    assert!(
        names
            .iter()
            .all(|name| name.starts_with("20") && name.contains("-the-ramp-is-closing") && name.ends_with(".wav")),
        "{names:?}"
    );
    let wav = file(&format!("out/{}", names[0]));
    // Tags stand between the head and the samples.
    let data = wav.windows(4).position(|id| id == b"data").unwrap() + 4;
    let declared = u32::from_le_bytes([wav[data], wav[data + 1], wav[data + 2], wav[data + 3]]) as usize;
    assert_eq!(declared, wav.len() - data - 4, "a file says its true length");
    let (shown, _) = good(&demo.client(&["convert", "--show", "--json", &format!("out/{}", names[0])]));
    let told: Value = serde_json::from_str(&shown).unwrap();
    assert_eq!(told["items"][0]["tags"]["title"], TEXT, "{told}");
    assert_eq!(told["items"][0]["tags"]["synthetic"], true, "{told}");

    let mut child = demo
        .client_command(&["speak", "--format", "opus", "-o", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::io::Write::write_all(child.stdin.as_mut().unwrap(), b"from standard input\n").unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    assert_eq!(words_of(&output.stdout, Format::new(Codec::OggOpus, 48_000)), "from standard input");
}

#[tokio::test]
async fn a_broken_answer_leaves_no_file_behind() {
    let demo = Demo::start(BINARY).await;
    demo.weather(json!({"weather": "half"})).await;
    let output =
        demo.client(&["speak", "A text that is long enough to break", "--voice", "heron/pellin", "-o", "half.mp3"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stderr).contains("cut off"), "{}", text(&output.stderr));
    let left: Vec<_> = std::fs::read_dir(demo.folder.path())
        .unwrap()
        .map(|e| e.unwrap().file_name())
        .filter(|name| name != "data" && name != "log" && name != "told")
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

#[tokio::test]
async fn transcribe_reads_files_and_standard_input() {
    let demo = Demo::start(BINARY).await;
    good(&demo.client(&["speak", TEXT, "--voice", "heron/pellin", "-o", "gap.wav"]));
    let (out, err) = good(&demo.client(&["transcribe", "gap.wav"]));
    assert_eq!(out, "The ramp is closing\n");
    assert!(err.contains("turnstone") && err.contains("EUR"), "{err}");
    let (json, _) = good(&demo.client(&["transcribe", "gap.wav", "--json"]));
    let answer: Value = serde_json::from_str(&json).unwrap();
    assert_eq!(answer["words"].as_array().unwrap().len(), 4);
    good(&demo.client(&["transcribe", "gap.wav", "--format", "vtt", "-o", "gap.vtt"]));
    assert!(std::fs::read_to_string(demo.folder.path().join("gap.vtt")).unwrap().starts_with("WEBVTT\n"));
    let sound = std::fs::File::open(demo.folder.path().join("gap.wav")).unwrap();
    let output = demo.client_command(&["transcribe", "-", "--engine", "turnstone"]).stdin(sound).output().unwrap();
    assert_eq!(good(&output).0, "The ramp is closing\n");
    let missing = demo.client(&["transcribe", "nowhere.wav"]);
    assert!(!missing.status.success() && text(&missing.stderr).contains("nowhere.wav"));
}

#[tokio::test]
async fn lists_are_tables_or_json_and_tell_what_is_there() {
    let demo = Demo::start(BINARY).await;
    let run = |arguments: &[&str]| good(&demo.client(arguments)).0;
    let voices = run(&["voices", "--languages", "pt", "--engine", "heron"]);
    assert!(
        voices.contains("heron/beatriz") && voices.contains("heron/davi") && !voices.contains("pellin"),
        "{voices}"
    );
    let exact = run(&["voices", "--languages", "pt-BR", "--json"]);
    let exact: Value = serde_json::from_str(&exact).unwrap();
    assert!(exact["items"].as_array().unwrap().iter().all(|voice| voice["languages"].to_string().contains("pt-BR")));
    assert!(run(&["engine", "list"]).contains("pocketsphinx"));
    let show = run(&["engine", "show", "heron"]);
    assert!(show.contains(&demo.heron) && show.contains("dispatcher credential add heron"), "{show}");
    assert!(run(&["engine", "check", "heron"]).matches("holds").count() >= 12);
    assert!(run(&["route", "list"]).contains("heron → espeak-ng"));
    assert!(run(&["route", "show", "captions"]).contains("pocketsphinx"));
    let credentials = run(&["credential", "list"]);
    assert!(credentials.contains("turnstone") && credentials.contains("active"), "{credentials}");
    assert!(run(&["app", "list"]).contains("drill-captions"));
    let csv = run(&["usage", "--by", "engine", "--csv"]);
    let head = "engine,requests,failures,fallbacks,recalled,characters,duration,amount,saved,currency,latency_median,latency_p95\r\nheron,";
    assert!(csv.starts_with(head), "{csv}");
    let usage = demo.get("/api/v1/usage?by=engine").await;
    let heron = usage["items"].as_array().unwrap().iter().find(|row| row["group"][0] == "heron").unwrap();
    let requests = format!("heron,{},", heron["requests"]);
    assert!(csv.contains(&requests), "what a check costs is in the books: {csv} {usage}");
    assert!(run(&["usage"]).contains("total"));
    let estimate = run(&["estimate", "0123456789", "--voice", "heron/pellin", "--model", "fine"]);
    assert!(estimate.contains("10 characters, exactly 0.00027 EUR"), "{estimate}");
    let list = run(&["dispatches", "--limit", "1", "--json"]);
    let id = serde_json::from_str::<Value>(&list).unwrap()["items"][0]["id"].as_str().unwrap().to_owned();
    let one = run(&["dispatches", &id]);
    assert!(one.contains("settle") && one.contains("heron"), "{one}");
    assert!(run(&["completions", "bash"]).contains("dispatcher"));
}

#[tokio::test]
async fn records_are_added_replaced_retired_and_named_by_the_beginning_of_an_id() {
    let demo = Demo::start(BINARY).await;
    let run = |arguments: &[&str]| good(&demo.client(arguments));
    let fail = |arguments: &[&str], says: &str| {
        let output = demo.client(arguments);
        assert!(!output.status.success(), "{arguments:?}");
        assert!(text(&output.stderr).contains(says), "{arguments:?}: {}", text(&output.stderr));
    };
    let legs = ["--leg", "heron/tarrick,deadline=1500,model=fine", "--leg", "espeak-ng"];
    let shown = run(&[&["route", "set", "evening"], &legs[..]].concat()).0;
    assert!(shown.contains("tarrick") && shown.contains("1500 ms") && shown.contains("any voice"), "{shown}");
    run(&["speak", "Good morning.", "--voice", "heron/pellin", "-o", "morning.wav"]);
    run(&["speak", "Good evening.", "--voice", "evening", "-o", "evening.wav"]);
    let newest = demo.get("/api/v1/dispatches?limit=1").await["items"][0].clone();
    assert_eq!(
        (newest["requested"].as_str(), newest["voice"].as_str()),
        (Some("evening"), Some("tarrick")),
        "{newest}"
    );
    // A list shows the beginning of an id, and that is enough to name the record.
    let id = newest["id"].as_str().unwrap();
    let listed = run(&["dispatches", "--limit", "1"]).0;
    let short = listed.lines().nth(1).unwrap().split_whitespace().next().unwrap();
    assert!(short.len() < id.len() && id.starts_with(short), "{short} of {id}");
    assert!(run(&["dispatches", short]).0.starts_with(id));
    fail(&["dispatches", "0"], "several ids begin with '0'");
    fail(&["route", "set", "evening", "--leg", "heron/pellin,speed=2"], "'speed=2' is not model=NAME");
    run(&["route", "retire", "evening"]);
    fail(&["speak", "Good evening.", "--voice", "evening", "-o", "late.wav"], "evening");
    fail(&["preset", "replace", "deck", "--type", "mp3"], "dispatcher preset add deck");
    run(&["preset", "add", "deck", "--type", "mp3"]);
    fail(&["preset", "add", "deck", "--type", "wav"], "dispatcher preset replace deck");
    run(&["preset", "replace", "deck", "--type", "wav"]);
    assert!(run(&["preset", "list"]).0.contains("audio/wav, 24000 Hz"));
}

#[tokio::test]
async fn an_engine_that_misbehaves_fails_its_check() {
    let demo = Demo::start(BINARY).await;
    demo.weather(json!({"weather": "wrong-type"})).await;
    let output = demo.client(&["engine", "check", "heron"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stdout).contains("differs"), "{}", text(&output.stdout));
}

#[tokio::test]
async fn errors_say_what_to_do_next() {
    let demo = Demo::start(BINARY).await;
    let fail = |arguments: &[&str], code: i32, says: &str| {
        let output = demo.client(arguments);
        let err = text(&output.stderr);
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {err}");
        assert!(err.contains(says), "{arguments:?}: {err}");
    };
    fail(&["speak", "x", "--voice", "heron/pellinn"], 1, "heron/pellin");
    fail(&["speak"], 1, "no text");
    fail(&["speak", "x", "--nonsense"], 2, "--nonsense");
    fail(&["credential", "add", "flite"], 2, "needs no credential");
    fail(&["credential", "revoke", "nobody"], 1, "nobody");
    fail(&["engine", "show", "hern"], 1, "heron");
    fail(&["--profile", "nobody", "voices"], 1, "client.toml");
    let unreachable = demo.client_command(&["voices"]).env("DISPATCHER_URL", "http://127.0.0.1:9").output().unwrap();
    assert!(text(&unreachable.stderr).contains("dispatcher serve"), "{}", text(&unreachable.stderr));
    let keyless = demo.client_command(&["voices"]).env_remove("DISPATCHER_KEY").output().unwrap();
    assert!(text(&keyless.stderr).contains("DISPATCHER_KEY"), "{}", text(&keyless.stderr));
}

#[tokio::test]
async fn a_profile_takes_the_place_of_the_environment() {
    let demo = Demo::start(BINARY).await;
    let key = demo.folder.path().join("key");
    std::fs::write(&key, &demo.operator).unwrap();
    let file = demo.folder.path().join("client.toml");
    std::fs::write(&file, format!("[profiles.quay]\nurl = \"{}\"\nkey_file = \"{}\"\n", demo.url, key.display()))
        .unwrap();
    let output = demo
        .client_command(&["--profile", "quay", "app", "list"])
        .env("DISPATCHER_CONFIG", &file)
        .env("DISPATCHER_URL", "http://127.0.0.1:9")
        .output()
        .unwrap();
    assert!(good(&output).0.contains("helpline"));
}

#[test]
fn the_whole_example_runs_once_and_leaves_its_files() {
    let folder = tempfile::tempdir().unwrap();
    let output = Command::new(BINARY).args(["demo", "--once", "-o"]).arg(folder.path()).output().unwrap();
    let (out, _) = good(&output);
    for part in
        ["heron/haru", "espeak-ng/en-gb", "flite/slt", "18 words by turnstone", "throttled", "berth-two.mp3", "total"]
    {
        assert!(out.contains(part), "{part} is not in:\n{out}");
    }
    for name in [
        "delay-gullsay.mp3",
        "okure-gullsay.mp3",
        "drill-espeak-ng.opus",
        "drill-flite.wav",
        "drill-recording.mp3",
        "berth-two.mp3",
    ] {
        let audio = std::fs::read(folder.path().join(name)).unwrap();
        assert!(measure(&audio, None).unwrap().1.milliseconds() > 1_000, "{name}");
    }
    assert!(std::fs::read_to_string(folder.path().join("drill.vtt")).unwrap().contains("life jacket."));
    let spoken = std::fs::read(folder.path().join("okure-gullsay.mp3")).unwrap();
    assert_eq!(words_of(&spoken, Format::new(Codec::Mp3, 24_000)), "六時十五分発ガルセイ行きは、二十分遅れています。");
}

#[test]
fn the_example_fails_where_a_step_fails() {
    let folder = tempfile::tempdir().unwrap();
    // A host without the local engines: the next leg is not there.
    let output = Command::new(BINARY)
        .args(["demo", "--once", "-o"])
        .arg(folder.path())
        .env("PATH", folder.path())
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1));
    let err = text(&output.stderr);
    assert!(err.contains("espeak-ng") && err.contains("not installed"), "{err}");
}

#[test]
fn a_fault_in_a_sheet_or_setting_is_told_with_its_place() {
    let folder = tempfile::tempdir().unwrap();
    let sheets = folder.path().join("sheets");
    std::fs::create_dir(&sheets).unwrap();
    std::fs::write(sheets.join("gull.toml"), "sheet = 1\nname = \"gull\"\nsite = \"moon\"\n").unwrap();
    let serve = |more: &[&str]| {
        let mut command = Command::new(BINARY);
        command
            .args(["serve", "--port", "0", "--data"])
            .arg(folder.path().join("data"))
            .args(more)
            .current_dir(folder.path());
        let output = command.output().unwrap();
        assert_eq!(output.status.code(), Some(1));
        text(&output.stderr)
    };
    let err = serve(&["--sheets", sheets.to_str().unwrap()]);
    assert!(err.contains("gull.toml:3:") && err.contains("site"), "{err}");
    std::fs::write(folder.path().join("dispatcher.toml"), "prot = 80\n").unwrap();
    assert!(serve(&[]).contains("prot"));
}
