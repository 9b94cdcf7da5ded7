//! Links: one thing without a key, until its end, and nothing else.

use crate::BINARY;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

const TEXT: &str = "The ramp is closing.";

async fn linked(demo: &Demo, members: Value) -> (u16, Value) {
    let mut body = json!({"text": TEXT, "voice": "heron/pellin", "audio": {"type": "mp3"}, "deliver": "link"});
    body.as_object_mut().unwrap().extend(members.as_object().unwrap().clone());
    let response = demo.speak(body, "audio/mpeg").await;
    (response.status().as_u16(), response.json().await.unwrap())
}

async fn fetch(demo: &Demo, address: &str) -> (u16, Vec<u8>) {
    let response = demo.http.get(address).send().await.unwrap();
    (response.status().as_u16(), response.bytes().await.unwrap().to_vec())
}

#[tokio::test]
async fn an_answer_is_fetched_by_its_link_alone_in_whole_and_in_part() {
    let demo = Demo::start(BINARY).await;
    let (status, answer) = linked(&demo, json!({"expires_in": 600})).await;
    assert_eq!(status, 200, "{answer}");
    let audio = &answer["audio"];
    assert!(audio["base64"].is_null() && audio["data_uri"].is_null(), "{audio}");
    let link = audio["link"].as_str().unwrap();
    assert!(link.starts_with(&format!("{}/api/v1/answers/", demo.url)), "{link}");
    let response = demo.http.get(link).send().await.unwrap();
    assert_eq!((response.status().as_u16(), header(&response, "content-type").as_str()), (200, "audio/mpeg"));
    assert_eq!(header(&response, "dispatch-synthetic"), "?1");
    let bytes = response.bytes().await.unwrap();
    assert_eq!(words_of(&bytes, Format::new(Codec::Mp3, 24_000)), TEXT);
    let part = demo.http.get(link).header("Range", "bytes=10-19").send().await.unwrap();
    assert_eq!((part.status().as_u16(), part.bytes().await.unwrap()), (206, bytes.slice(10..20)));
    // A changed link is no link, and it opens nothing else.
    let (address, query) = link.split_once('?').unwrap();
    for changed in [
        format!("{address}?{}", query.replace("app=quay-announcer", "app=helpline")),
        format!("{address}?{}", query.replace("until=1", "until=2")),
        format!("{}/api/v1/answers/0?{query}", demo.url),
    ] {
        let (status, body) = fetch(&demo, &changed).await;
        assert_eq!(status, 403, "{changed}");
        assert!(String::from_utf8_lossy(&body).contains("the proof does not match this address"));
    }
    assert_eq!(fetch(&demo, &format!("{}/api/v1/dispatches?{query}", demo.url)).await.0, 401);
    assert_eq!(fetch(&demo, address).await.0, 401, "without its proof");
    // A key of its app reads it too, one of another does not.
    let own = demo.http.get(address).bearer_auth(&demo.app).send().await.unwrap();
    assert_eq!(own.status(), 200);
    let other = demo.http.get(address).bearer_auth(&demo.operator).send().await.unwrap();
    assert_eq!(other.status(), 404);
    for (members, says) in [
        (json!({"expires_in": 5}), "60 to 2592000"),
        (json!({"deliver": "mail"}), "deliver is link"),
        (json!({"deliver": null, "expires_in": 600}), "expires_in goes with deliver"),
    ] {
        let (status, problem) = linked(&demo, members).await;
        assert!(status == 422 && problem["detail"].as_str().unwrap().contains(says), "{problem}");
    }
}

#[tokio::test]
async fn an_exchange_is_answered_by_a_link() {
    let demo = Demo::start(BINARY).await;
    let body = json!({"text": "the last one to Eelpool", "voice": {"voice": "heron/pellin"}, "deliver": "link"});
    let request = demo.http.post(format!("{}/api/v1/exchanges", demo.url)).bearer_auth(&demo.app).json(&body);
    let answer: Value = request.send().await.unwrap().json().await.unwrap();
    let (status, bytes) = fetch(&demo, answer["audio"]["link"].as_str().unwrap()).await;
    assert_eq!(status, 200);
    assert_eq!(words_of(&bytes, Format::new(Codec::Wav, 24_000)), answer["reply"]["spoken"].as_str().unwrap());
}

#[tokio::test]
async fn a_file_of_a_job_gets_a_link_that_nobody_finds_in_the_log() {
    let demo = Demo::start(BINARY).await;
    std::fs::write(demo.folder.path().join("notes.txt"), TEXT).unwrap();
    let added = demo.client(&["job", "add", "notes.txt", "--voice", "heron/pellin", "--format", "mp3", "--json"]);
    let job: Value = serde_json::from_slice(&added.stdout).unwrap();
    let id = job["id"].as_str().unwrap();
    assert!(demo.client(&["job", "wait", id]).status.success());
    let job = demo.get(&format!("/api/v1/jobs/{id}")).await;
    let app = job["app"].as_str().unwrap();
    let path = job["files"][0]["url"].as_str().unwrap();
    let made = demo.client(&["link", path, "--app", app, "--expires-in", "60"]);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let link = String::from_utf8(made.stdout).unwrap().trim().to_owned();
    let (status, bytes) = fetch(&demo, &link).await;
    assert_eq!((status, words_of(&bytes, Format::new(Codec::Mp3, 24_000)).as_str()), (200, TEXT));
    let refused = demo.client(&["link", "/api/v1/apps/console"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("can be linked"), "{refused:?}");
    // Of a job that is removed, the link fetches nothing.
    assert!(demo.client(&["job", "remove", id]).status.success());
    assert_eq!(fetch(&demo, &link).await.0, 404);
    let proof = link.rsplit_once("proof=").unwrap().1;
    for file in dispatcher_e2e::files_below(demo.folder.path()) {
        let text = String::from_utf8_lossy(&std::fs::read(&file).unwrap_or_default()).into_owned();
        assert!(!text.contains(proof), "{}", file.display());
    }
}
