//! A table of prompts, kept in step with its files by the client.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use dispatcher_e2e::Demo;
use serde_json::Value;

const BINARY: &str = env!("CARGO_BIN_EXE_dispatcher-under-test");

const TABLE: &str = "[defaults]\nvoice = \"heron/marin\"\nformats = [\"flac\"]\n\
    [[prompt]]\nid = \"welcome\"\ntext = \"Welcome aboard.\"\n\
    [[prompt]]\nid = \"gap\"\ntext = \"Mind the gap.\"\nformats = [\"phone\", \"web\"]\n";

fn states(demo: &Demo, table: &str) -> Vec<(String, String, String)> {
    std::fs::write(demo.folder.path().join("p.toml"), table).unwrap();
    let output = demo.client(&["prompts", "status", "p.toml", "-o", "made", "--json"]);
    assert!(output.status.success(), "{output:?}");
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let text = |row: &Value, name: &str| row[name].as_str().unwrap().to_owned();
    let rows = told["prompts"].as_array().unwrap().iter();
    rows.map(|row| (text(row, "id"), text(row, "format"), text(row, "state"))).collect()
}

fn each(states: &[(String, String, String)]) -> Vec<&str> {
    states.iter().map(|(.., state)| state.as_str()).collect()
}

#[tokio::test]
async fn only_rows_that_would_sound_otherwise_are_made_again() {
    let demo = Demo::start(BINARY).await;
    assert_eq!(each(&states(&demo, TABLE)), ["new", "new", "new"]);
    assert_eq!(demo.delivered().await["calls"], 0, "looking costs nothing");
    let make = || demo.client(&["prompts", "make", "p.toml", "-o", "made"]);
    assert!(make().status.success());
    assert_eq!(demo.delivered().await["calls"], 3);
    let mut names: Vec<String> = std::fs::read_dir(demo.folder.path().join("made"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    assert_eq!(names, ["gap.phone.ulaw", "gap.web.mp3", "prompts.lock.json", "welcome.flac"]);
    let changed = TABLE.replace("Welcome aboard.", "Welcome on board.");
    assert_eq!(each(&states(&demo, &changed)), ["changed", "made", "made"]);
    assert!(make().status.success());
    assert_eq!(demo.delivered().await["calls"], 4);
    std::fs::remove_file(demo.folder.path().join("made/gap.web.mp3")).unwrap();
    assert_eq!(each(&states(&demo, &changed)), ["made", "made", "missing"]);
    let output = make();
    assert!(String::from_utf8_lossy(&output.stderr).contains("1 made, 2 were"), "{output:?}");
}

#[tokio::test]
async fn what_was_not_found_good_by_ear_is_not_packed() {
    let demo = Demo::start(BINARY).await;
    std::fs::write(demo.folder.path().join("p.toml"), TABLE).unwrap();
    let early = demo.client(&["prompts", "approve", "p.toml", "welcome", "-o", "made"]);
    assert!(!early.status.success() && String::from_utf8_lossy(&early.stderr).contains("make these first: welcome"));
    assert!(demo.client(&["prompts", "make", "p.toml", "-o", "made"]).status.success());
    assert!(demo.client(&["prompts", "approve", "p.toml", "welcome", "-o", "made"]).status.success());
    let pack = || demo.client(&["prompts", "archive", "p.toml", "all.zip", "-o", "made", "--approved"]);
    let refused = pack();
    assert!(String::from_utf8_lossy(&refused.stderr).contains("not approved: gap"), "{refused:?}");
    assert!(!demo.folder.path().join("all.zip").exists());
    assert!(demo.client(&["prompts", "approve", "p.toml", "--all", "-o", "made"]).status.success());
    assert!(pack().status.success());
    let archive = std::fs::File::open(demo.folder.path().join("all.zip")).unwrap();
    let archive = zip::ZipArchive::new(archive).unwrap();
    let names: Vec<_> = archive.file_names().map(|name| name.unwrap().into_owned()).collect();
    assert_eq!(names, ["welcome.flac", "gap.phone.ulaw", "gap.web.mp3"]);
    let wrong = demo.client(&["prompts", "make", "p.toml", "-o", "made", "--only", "nobody"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("nobody"), "{wrong:?}");
}
