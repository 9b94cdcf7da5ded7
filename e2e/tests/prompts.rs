//! A table of prompts, kept in step with its files by the client.

use crate::BINARY;
use dispatcher_e2e::Demo;
use serde_json::Value;

const TABLE: &str = "[defaults]\nvoice = \"heron/pellin\"\nformats = [\"flac\"]\n\
    [[prompt]]\nid = \"welcome\"\ntext = \"Welcome aboard.\"\n\
    [[prompt]]\nid = \"gap\"\ntext = \"The ramp is closing.\"\nformats = [\"phone\", \"web\"]\n";

fn states(demo: &Demo, table: &str) -> Vec<(String, String, String)> {
    std::fs::write(demo.folder.path().join("p.toml"), table).unwrap();
    let output = demo.client(&["prompts", "status", "p.toml", "--folder", "made", "--json"]);
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
    assert!(String::from_utf8_lossy(&output.stderr).contains("Made 1 file; 2 up to date"), "{output:?}");
}

#[tokio::test]
async fn what_was_not_found_good_by_ear_is_not_packed() {
    let demo = Demo::start(BINARY).await;
    std::fs::write(demo.folder.path().join("p.toml"), TABLE).unwrap();
    let early = demo.client(&["prompts", "approve", "p.toml", "welcome", "--folder", "made"]);
    assert!(!early.status.success() && String::from_utf8_lossy(&early.stderr).contains("make them first: welcome"));
    assert!(demo.client(&["prompts", "make", "p.toml", "-o", "made"]).status.success());
    assert!(demo.client(&["prompts", "approve", "p.toml", "welcome", "--folder", "made"]).status.success());
    let pack = || demo.client(&["prompts", "archive", "p.toml", "--folder", "made", "-o", "all.zip", "--approved"]);
    let refused = pack();
    assert!(String::from_utf8_lossy(&refused.stderr).contains("not approved: gap"), "{refused:?}");
    assert!(!demo.folder.path().join("all.zip").exists());
    assert!(demo.client(&["prompts", "approve", "p.toml", "--all", "--folder", "made"]).status.success());
    assert!(pack().status.success());
    let archive = std::fs::File::open(demo.folder.path().join("all.zip")).unwrap();
    let archive = zip::ZipArchive::new(archive).unwrap();
    let names: Vec<_> = archive.file_names().map(|name| name.unwrap().into_owned()).collect();
    assert_eq!(names, ["welcome.flac", "gap.phone.ulaw", "gap.web.mp3"]);
    let wrong = demo.client(&["prompts", "make", "p.toml", "-o", "made", "--only", "nobody"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("nobody"), "{wrong:?}");
}

/// The set of the helpline, as the service has it.
struct Set<'d> {
    demo: &'d Demo,
}

impl Set<'_> {
    async fn call(&self, method: reqwest::Method, path: &str, kind: &str, body: String) -> reqwest::Response {
        let url = format!("{}/api/v1/prompt-sets{path}", self.demo.url);
        let request = self.demo.http.request(method, url).bearer_auth(&self.demo.app);
        request.header("Content-Type", kind).body(body).send().await.unwrap()
    }

    async fn put(&self, table: &str) -> reqwest::Response {
        self.call(reqwest::Method::PUT, "/quay", "application/toml", table.into()).await
    }

    async fn make(&self, body: &str) -> reqwest::Response {
        self.call(reqwest::Method::POST, "/quay/make", "application/json", body.into()).await
    }

    async fn approve(&self, id: &str, approved: bool) -> reqwest::Response {
        let body = format!("{{\"approved\": {approved}}}");
        self.call(reqwest::Method::PUT, &format!("/quay/prompts/{id}/approval"), "application/json", body).await
    }

    async fn get(&self, path: &str) -> reqwest::Response {
        self.call(reqwest::Method::GET, path, "application/json", String::new()).await
    }
}

async fn told(response: reqwest::Response) -> (Vec<String>, Value) {
    assert!(response.status().is_success(), "{}", response.text().await.unwrap());
    let set: Value = response.json().await.unwrap();
    let states = set["lines"].as_array().unwrap().iter().map(|line| line["state"].as_str().unwrap().to_owned());
    (states.collect(), set)
}

#[tokio::test]
async fn the_service_keeps_a_set_and_makes_again_only_what_changed() {
    let demo = Demo::start(BINARY).await;
    let set = Set { demo: &demo };
    let (states, answer) = told(set.put(TABLE).await).await;
    assert_eq!(states, ["new", "new", "new"]);
    // Fifteen characters once and twenty twice, at 16 millionths each.
    assert_eq!(answer["cost"], serde_json::json!([{"amount": "0.000880", "currency": "EUR"}]));
    assert_eq!(demo.delivered().await["calls"], 0, "looking costs nothing");
    let refused = set.approve("gap", true).await;
    assert_eq!(refused.status(), 409, "nobody has heard it");
    let (states, _) = told(set.make("{\"ids\": [\"gap\"]}").await).await;
    assert_eq!(states, ["new", "made", "made"]);
    let (states, answer) = told(set.make("{}").await).await;
    assert_eq!((states, demo.delivered().await["calls"].clone()), (vec!["made".into(); 3], 3.into()));
    assert_eq!(answer["to_make"], 0);
    let files: Vec<&str> =
        answer["lines"].as_array().unwrap().iter().map(|line| line["file"]["name"].as_str().unwrap()).collect();
    assert_eq!(files, ["welcome.flac", "gap.phone.ulaw", "gap.web.mp3"]);
    let audio = set.get("/quay/files/welcome.flac").await;
    assert_eq!(dispatcher_e2e::header(&audio, "content-type"), "audio/flac");
    let flac = dispatcher_audio::Format::parse("audio/flac").unwrap();
    assert_eq!(dispatcher_e2e::words_of(&audio.bytes().await.unwrap(), flac), "Welcome aboard.");

    let phone = set.get("/quay/files/gap.phone.ulaw?type=audio/wav").await.bytes().await.unwrap();
    assert_eq!(dispatcher_e2e::words_of(&phone, dispatcher_audio::Format::default()), "The ramp is closing.");
    let (states, answer) = told(set.approve("gap", true).await).await;
    assert_eq!((states.len(), &answer["approved"]), (3, &Value::from(2)));
    let archive = set.get("/quay/archive?approved=true").await;
    assert_eq!(archive.status(), 409);
    assert!(archive.text().await.unwrap().contains("not approved: welcome"));
    let (states, answer) = told(set.put(&TABLE.replace("The ramp is closing.", "Mind the step.")).await).await;
    assert_eq!(states, ["made", "changed", "changed"]);
    assert_eq!(answer["approved"], 0, "what changed is to be heard again");
    told(set.make("{}").await).await;
    assert_eq!(demo.delivered().await["calls"], 5);
    told(set.approve("gap", true).await).await;
    told(set.approve("welcome", true).await).await;
    let archive = set.get("/quay/archive?approved=true").await.bytes().await.unwrap();
    let archive = zip::ZipArchive::new(std::io::Cursor::new(archive)).unwrap();
    let mut names: Vec<_> = archive.file_names().map(|name| name.unwrap().into_owned()).collect();
    names.sort();
    assert_eq!(names, ["gap.phone.ulaw", "gap.web.mp3", "welcome.flac"]);
}

#[tokio::test]
async fn a_set_is_its_apps_alone_and_faults_are_told() {
    let demo = Demo::start(BINARY).await;
    let set = Set { demo: &demo };
    assert_eq!(set.get("/helpline").await.status(), 404, "another app's");
    told(set.put(TABLE).await).await;
    let listed: Value = set.get("").await.json().await.unwrap();
    let names: Vec<&Value> = listed["items"].as_array().unwrap().iter().map(|one| &one["name"]).collect();
    assert_eq!(names, ["quay"]);
    for (table, says) in [
        ("[[prompt]]\nid = \"../up\"\ntext = \"x\"\n", "is not an id"),
        ("[[prompt]]\nid = \"a\"\n", "neither text nor ssml"),
        ("", "no prompts"),
    ] {
        let refused = set.put(table).await;
        assert_eq!(refused.status(), 422, "{table}");
        assert!(refused.text().await.unwrap().contains(says), "{table}");
    }
    let faulty =
        "[[prompt]]\nid = \"a\"\ntext = \"x\"\nvoice = \"heron/nobody\"\n[[prompt]]\nid = \"b\"\ntext = \"y\"\n";
    let (states, answer) = told(set.put(faulty).await).await;
    assert_eq!(states, ["faulty", "new"]);
    assert!(answer["lines"][0]["problem"].as_str().unwrap().contains("nobody"), "{answer}");
    let (states, _) = told(set.make("{}").await).await;
    assert_eq!(states, ["faulty", "made"], "the others are made");
    assert_eq!(set.make("{\"ids\": [\"none\"]}").await.status(), 404);
    assert!(!set.make("{\"ids\": [\"a\"]}").await.status().is_success());
    let gone = set.call(reqwest::Method::DELETE, "/quay", "application/json", String::new()).await;
    assert_eq!(gone.status(), 204);
    assert_eq!(set.get("/quay/files/b.wav").await.status(), 404);
}
