//! Canaries through the service: a real engine that begins to speak otherwise
//! is noticed, told, and accepted.

use std::path::Path;
use std::time::Duration;

use crate::BINARY;
use dispatcher_e2e::{Service, take_requests};
use reqwest::Method;
use serde_json::{Value, json};

/// espeak-ng, with its manner in a file: somebody's update of the engine.
fn engine(manner: &Path) -> String {
    let command = format!("espeak-ng --stdout $(cat {})", manner.display());
    format!(
        "sheet = 1\nname = \"quoin\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"sh\"\n\
         [synthesis]\narguments = [\"-c\", {}]\n\
         [synthesis.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [22050] }}\n\
         [[synthesis.voices]]\nid = \"ada\"\nname = \"Ada\"\nlanguages = [\"en-GB\"]\n",
        json!(command)
    )
}

const TEXT: &str = "The next ferry to Gullsay leaves at a quarter past six from the north quay.";

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_that_begins_to_speak_otherwise_is_told_and_accepted() {
    let folder = tempfile::tempdir().unwrap();
    let manner = folder.path().join("manner");
    std::fs::write(&manner, "-v en-gb -p 50 -s 165").unwrap();
    let (host, mut heard) = take_requests(&[200, 200]).await;
    let hosts = format!("[\"{host}\"]");
    let settings = [("DISPATCHER_WEBHOOK_HOSTS", hosts.as_str())];
    let service = Service::start_with(BINARY, &[("quoin", engine(&manner))], &settings).await;
    let rule = json!({"on": "voice-changed", "to": [format!("http://{host}/alerts")], "pause": 0});
    assert_eq!(service.send(Method::PUT, "/api/v1/alerts/voices", rule).await.0, 200);
    let body = json!({"voice": "quoin/ada", "text": TEXT, "app": "console"});
    let (status, set) = service.send(Method::PUT, "/api/v1/canaries/quay", body).await;
    assert_eq!((status, set["state"].as_str(), set["every"].as_u64()), (200, Some("waiting"), Some(1_440)), "{set}");
    let run = async || service.send(Method::POST, "/api/v1/canaries/quay/runs", json!({})).await.1;
    let first = run().await;
    assert_eq!((first["state"].as_str(), first["latest"]["is_reference"].as_bool()), (Some("unchanged"), Some(true)));
    let pitch = first["latest"]["pitch"].as_f64().unwrap();
    assert!((70.0..160.0).contains(&pitch), "the pitch of a man's voice: {pitch}");

    std::fs::write(&manner, "-v en-gb -p 99 -s 110 -a 40").unwrap();
    let changed = run().await;
    let of: Vec<&str> =
        changed["latest"]["departures"].as_array().unwrap().iter().map(|it| it["of"].as_str().unwrap()).collect();
    assert_eq!((changed["state"].as_str(), of), (Some("changed"), vec!["duration", "loudness", "pitch"]), "{changed}");
    let message = async |heard: &mut tokio::sync::mpsc::Receiver<_>| {
        let (_, body): (String, Vec<u8>) =
            tokio::time::timeout(Duration::from_secs(30), heard.recv()).await.expect("in time").expect("a message");
        serde_json::from_slice::<Value>(&body).unwrap()
    };
    let told = message(&mut heard).await;
    assert_eq!(told["subject"], "quoin/ada, canary quay");
    let detail = told["detail"].as_str().unwrap();
    let longer = changed["latest"]["departures"][0]["told"].as_str().unwrap();
    assert!(detail.starts_with("the voice quoin/ada has changed (canary quay): ") && detail.contains(longer), "{told}");

    let (status, accepted) = service.send(Method::POST, "/api/v1/canaries/quay/accept", json!({})).await;
    assert_eq!((status, accepted["state"].as_str()), (200, Some("unchanged")), "{accepted}");
    assert_eq!(message(&mut heard).await["state"], "over");
    let runs = service.get("/api/v1/canaries/quay/runs").await;
    let marks: Vec<bool> =
        runs["items"].as_array().unwrap().iter().map(|run| run["is_reference"].as_bool().unwrap()).collect();
    assert_eq!(marks, [true, false], "the newest is the reference now");
}

#[tokio::test(flavor = "multi_thread")]
async fn ordinary_speech_of_local_voices_is_no_change() {
    let demo = dispatcher_e2e::Demo::start(BINARY).await;
    let run = |arguments: &[&str]| {
        let output = demo.client(arguments);
        (output.status.code(), String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    assert!(run(&["canary", "list"]).1.starts_with("No canaries yet."));
    // Made anew each time, and heard by a recogniser that mishears some of it.
    for (name, voice, ear) in [
        ("esp", "espeak-ng/en-gb", Some("pocketsphinx")),
        ("flt", "flite/slt", Some("pocketsphinx")),
        ("hrn", "heron/tarrick", Some("turnstone")),
        ("dot", "dotterel/cairn", None),
    ] {
        let mut set = vec!["canary", "set", name, voice, TEXT, "--app", "console"];
        set.extend(ear.iter().flat_map(|ear| ["--ear", ear]));
        assert_eq!(run(&set).0, Some(0), "{:?}", run(&set));
        for _ in 0..3 {
            let (code, out, error) = run(&["canary", "run", name]);
            assert!(code == Some(0) && out.contains("unchanged"), "{name}: {out}{error}");
        }
        let (_, shown, _) = run(&["canary", "show", name]);
        assert!(shown.lines().filter(|line| line.contains(" s ") && line.contains("LUFS")).count() >= 3, "{shown}");
    }
    let (_, list, _) = run(&["canary", "list"]);
    assert_eq!(list.lines().filter(|line| line.contains("unchanged")).count(), 4, "{list}");
    assert_eq!(run(&["canary", "retire", "esp"]).0, Some(0));
    let missing = run(&["canary", "run", "esp"]);
    assert!(missing.0 == Some(1) && missing.2.contains("there is no canary 'esp'"), "{missing:?}");
}
