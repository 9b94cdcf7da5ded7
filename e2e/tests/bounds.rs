//! Requests that are bound to a site: nothing of them is sent elsewhere,
//! whatever their script asks for and whatever fails.

use crate::BINARY;
use dispatcher_e2e::{Demo, header};
use serde_json::{Value, json};

#[tokio::test]
async fn nothing_leaves_the_machine_where_that_is_asked() {
    let demo = Demo::start(BINARY).await;
    let local = json!({"languages": "en", "site": "local"});
    // Pellin is a voice of a cloud, and fits the wish best.
    let script = "<speak version='1.1' xml:lang='en-GB'>Ahoy. <voice name='Pellin'>Cast off.</voice></speak>";
    let everywhere = demo.speak(json!({"ssml": script, "voice": {"languages": "en"}}), "audio/wav").await;
    assert_eq!(everywhere.status(), 200);
    everywhere.bytes().await.unwrap();
    let calls = demo.delivered().await["calls"].as_u64().unwrap();
    assert!(calls > 0, "without bounds the cloud speaks");

    let here = demo.speak(json!({"ssml": script, "voice": local}), "audio/wav").await;
    assert_eq!(here.status(), 200);
    let id = header(&here, "dispatch-id");
    assert!(here.bytes().await.unwrap().len() > 10_000);
    let attempts = demo.settled(&id).await["attempts"].clone();
    let engines: Vec<&str> = attempts.as_array().unwrap().iter().filter_map(|it| it["engine"].as_str()).collect();
    assert!(!engines.is_empty() && engines.iter().all(|engine| ["espeak-ng", "flite"].contains(engine)), "{engines:?}");

    let query = demo.post("/api/v1/utterances?languages=en&site=local").header("Content-Type", "text/plain");
    let answer = query.body("The tide turns at noon.").send().await.unwrap();
    assert_eq!(answer.status(), 200);
    answer.bytes().await.unwrap();
    let japanese =
        demo.speak(json!({"text": "Ahoy", "voice": {"languages": "ja", "style": "calm", "site": "local"}}), "*/*");
    let problem: Value = japanese.await.json().await.unwrap();
    assert_eq!(problem["status"], 404);
    assert!(!problem.to_string().contains("heron"), "nothing elsewhere is offered: {problem}");
    let wrong = demo.post("/api/v1/utterances?site=moon").header("Content-Type", "text/plain").body("Ahoy");
    let problem: Value = wrong.send().await.unwrap().json().await.unwrap();
    assert_eq!(
        (problem["status"].as_u64(), problem["detail"].as_str()),
        (Some(422), Some("site is cloud or local, not 'moon'"))
    );
    assert_eq!(demo.delivered().await["calls"].as_u64(), Some(calls), "no cloud was called for any of them");
}

#[tokio::test]
async fn a_bound_route_fails_rather_than_leave() {
    let demo = Demo::start(BINARY).await;
    let set = demo.client(&[
        "route",
        "set",
        "private",
        "--leg",
        "heron/pellin,site=local",
        "--leg",
        "espeak-ng,site=local,languages=en",
    ]);
    assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
    let told = String::from_utf8(set.stdout).unwrap();
    let rows: Vec<Vec<&str>> = told.lines().skip(1).map(|line| line.split_whitespace().collect()).collect();
    assert_eq!(rows[0], ["leg", "engine", "voice", "model", "deadline", "conditions"], "{told}");
    assert_eq!(rows[1], ["1", "heron", "pellin", "local"], "{told}");
    assert_eq!(rows[2].last(), Some(&"local"), "{told}");

    let file = demo.folder.path().join("ahoy.wav");
    let spoken =
        demo.client(&["speak", "Ahoy", "--voice", "private", "--language", "en", "-o", file.to_str().unwrap()]);
    let line = String::from_utf8(spoken.stderr).unwrap();
    assert!(spoken.status.success() && line.contains("espeak-ng/"), "{line}");
    // No leg of it is left that may be taken: nobody else is asked.
    demo.put_route("private", json!([{"engine": "heron", "voice": "pellin", "conditions": {"site": "local"}}])).await;
    let problem: Value = demo.speak(json!({"text": "Ahoy", "voice": "private"}), "*/*").await.json().await.unwrap();
    assert_eq!(problem["status"], 422);
    let detail = "no engine of 'private' may be used: the site, the region or the grants of the key exclude it";
    assert_eq!(problem["detail"], detail);
    assert_eq!(demo.delivered().await["calls"], 0);
    let spoken =
        demo.client(&["speak", "Ahoy", "--site", "local", "--language", "en", "--force", "-o", file.to_str().unwrap()]);
    assert!(spoken.status.success(), "{}", String::from_utf8_lossy(&spoken.stderr));
    assert_eq!(demo.delivered().await["calls"], 0);
}

#[tokio::test]
async fn an_app_that_must_stay_is_never_spoken_or_heard_elsewhere() {
    let demo = Demo::start(BINARY).await;
    let added = demo.client(&["app", "add", "sick-bay", "--default-voice", "quayside", "--site", "local"]);
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
    let list = String::from_utf8(demo.client(&["app", "list"]).stdout).unwrap();
    let row = list.lines().find(|line| line.contains("sick-bay")).unwrap();
    assert_eq!(row.split_whitespace().last(), Some("local"), "{list}");
    let key = String::from_utf8(demo.client(&["app", "key", "add", "sick-bay"]).stdout).unwrap().trim().to_owned();
    let send = async |path: &str, kind: &str, body: Vec<u8>| {
        let request = demo.http.post(format!("{}{path}", demo.url)).bearer_auth(&key).header("Content-Type", kind);
        request.body(body).send().await.unwrap()
    };
    // The route of the demo begins with a cloud, which is passed over.
    let spoken = send("/api/v1/utterances?type=audio/wav", "text/plain", b"The tide turns at noon.".to_vec()).await;
    assert_eq!(spoken.status(), 200);
    assert!(header(&spoken, "dispatch-voice").starts_with("espeak-ng/"), "{:?}", spoken.headers());
    let audio = spoken.bytes().await.unwrap().to_vec();
    let out = async |response: reqwest::Response| {
        let problem: Value = response.json().await.unwrap();
        assert_eq!(problem["status"], 422, "{problem}");
        let detail = problem["detail"].as_str().unwrap().to_owned();
        assert!(detail.contains("the site, the region"), "{detail}");
    };
    out(send("/api/v1/utterances?voice=heron/pellin", "text/plain", b"Ahoy".to_vec()).await).await;
    out(send("/api/v1/transcripts?engine=turnstone", "audio/wav", audio.clone()).await).await;
    // A job is planned when it is added, and again for each of its parts.
    out(send("/api/v1/jobs?voice=heron/pellin", "text/plain", b"Ahoy".to_vec()).await).await;
    let heard = send("/api/v1/transcripts", "audio/wav", audio).await;
    let told: Value = heard.json().await.unwrap();
    assert_eq!(told["engine"], "pocketsphinx", "{told}");
    assert_eq!(demo.delivered().await["calls"], 0, "no cloud was called for any of them");
    let wrong = demo.http.put(format!("{}/api/v1/apps/sick-bay", demo.url)).bearer_auth(&demo.operator);
    assert_eq!(wrong.json(&json!({"site": "moon"})).send().await.unwrap().status(), 422);
}
