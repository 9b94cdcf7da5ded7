//! Secrets, keys, sessions, and what outlives a crash.

use crate::BINARY;
use std::process::Stdio;
use std::time::Duration;

use base64::Engine as _;
use dispatcher_e2e::{Demo, files_below, header};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::StatusCode;
use serde_json::{Value, json};

/// Characters that change in every encoding.
const CANARY: &str = "Kx9/canary+\"tide\"=4711~Zq";

/// The canary in every form in which it could lie about.
fn forms() -> Vec<String> {
    let standard = base64::engine::general_purpose::STANDARD_NO_PAD;
    let url = base64::engine::general_purpose::URL_SAFE_NO_PAD;
    let mut forms = vec![
        CANARY.to_owned(),
        serde_json::to_string(CANARY).unwrap().trim_matches('"').to_owned(),
        utf8_percent_encode(CANARY, NON_ALPHANUMERIC).to_string(),
        CANARY.bytes().map(|byte| format!("{byte:02x}")).collect(),
        CANARY.bytes().map(|byte| format!("{byte:02X}")).collect(),
    ];
    for shift in 0..3usize {
        let padded = [vec![b'.'; shift], CANARY.as_bytes().to_vec()].concat();
        for text in [standard.encode(&padded), url.encode(&padded)] {
            forms.push(text[(shift * 8).div_ceil(6)..padded.len() * 8 / 6].to_owned());
        }
    }
    forms
}

fn assert_free(place: &str, bytes: &[u8]) {
    for form in forms() {
        let found = bytes.windows(form.len()).any(|window| window == form.as_bytes());
        assert!(!found, "{place} holds the secret as {form}");
    }
}

#[tokio::test]
async fn a_planted_secret_is_found_nowhere() {
    let demo = Demo::start(BINARY).await;
    // The first credential is good; then the canary takes its place and is
    // refused, repeated by the engine, and used with a broken connection.
    let mut child = demo
        .client_command(&["credential", "add", "heron"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(child.stdin.as_mut().unwrap(), CANARY.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success(), "{output:?}");
    assert_free("the client's output", &[output.stdout, output.stderr].concat());
    let mut seen = Vec::new();
    for weather in ["echo", "expired", "reset", "throttled"] {
        demo.weather(json!({"weather": weather})).await;
        for (voice, accept) in [("heron/pellin", "*/*"), ("quayside", "application/json")] {
            let response = demo.speak(json!({"text": "Ahoy", "voice": voice}), accept).await;
            seen.extend(format!("{:?}", response.headers()).into_bytes());
            seen.extend(response.bytes().await.unwrap());
        }
    }
    demo.weather(Value::Null).await;
    demo.reset("heron");
    let refused = demo.speak(json!({"text": "Ahoy", "voice": "heron/pellin"}), "*/*").await;
    assert_eq!(refused.status(), StatusCode::BAD_GATEWAY, "the canary is no good token");
    for path in [
        "/api/v1/credentials",
        "/api/v1/dispatches?limit=100",
        "/api/v1/engines",
        "/api/v1/audit",
        "/api/v1/overview",
        "/metrics",
    ] {
        let request = demo.http.get(format!("{}{path}", demo.url)).bearer_auth(&demo.operator);
        seen.extend(request.send().await.unwrap().bytes().await.unwrap());
    }
    for item in demo.get("/api/v1/dispatches?limit=100").await["items"].as_array().unwrap() {
        seen.extend(
            demo.get(&format!("/api/v1/dispatches/{}", item["id"].as_str().unwrap())).await.to_string().into_bytes(),
        );
    }
    assert!(String::from_utf8_lossy(&seen).contains("[redacted]"), "the engine repeated it, and that was seen");
    assert_free("an answer", &seen);
    let bad = demo.http.post(format!("{}/api/v1/credentials", demo.url)).bearer_auth(&demo.operator);
    let bad = bad.json(&json!({"engine": "heron", "parts": {"tokn": CANARY}})).send().await.unwrap();
    assert_eq!(bad.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert_free("the error of a wrong part", &bad.bytes().await.unwrap());
    assert_free("the log", demo.log().as_bytes());
    let files = files_below(&demo.data());
    assert!(files.iter().any(|file| file.ends_with("records.db-wal")), "side files are searched too: {files:?}");
    for file in files {
        assert_free(&file.display().to_string(), &std::fs::read(&file).unwrap());
    }
    let state = demo.get("/api/v1/engines/heron").await;
    assert_eq!(state["state"], "refused", "{state}");
    assert!(state["reason"].as_str().unwrap().contains("dispatcher credential add heron"), "{state}");
    assert!(demo.client(&["credential", "revoke", "heron"]).status.success());
    let gone = demo.get("/api/v1/engines/heron").await;
    assert_eq!(gone["state"], "absent");
}

#[tokio::test]
async fn keys_open_what_they_may_and_nothing_else() {
    let demo = Demo::start(BINARY).await;
    let get = async |path: &str, key: &str| {
        demo.http.get(format!("{}{path}", demo.url)).bearer_auth(key).send().await.unwrap()
    };
    for path in ["/api/v1/apps", "/api/v1/credentials", "/api/v1/audit", "/api/v1/overview"] {
        assert_eq!(get(path, &demo.app).await.status(), 403, "{path}");
        assert_eq!(get(path, &demo.operator).await.status(), 200, "{path}");
        let nobody = demo.http.get(format!("{}{path}", demo.url)).send().await.unwrap();
        assert_eq!(
            (nobody.status().as_u16(), header(&nobody, "www-authenticate").as_str()),
            (401, "Bearer realm=\"dispatcher\"")
        );
    }
    let mut mistyped = demo.app.clone();
    mistyped.pop();
    let problem: Value = get("/api/v1/voices", &mistyped).await.json().await.unwrap();
    assert!(problem["detail"].as_str().unwrap().contains("check digit"), "{problem}");
    // An app sees its own requests alone.
    demo.speak(json!({"text": "Ahoy"}), "*/*").await.bytes().await.unwrap();
    let other = String::from_utf8(demo.client(&["app", "key", "add", "helpline"]).stdout).unwrap().trim().to_owned();
    let list: Value = get("/api/v1/dispatches", &other).await.json().await.unwrap();
    assert_eq!(list["items"], json!([]));
    let id = demo.get("/api/v1/dispatches").await["items"][0]["id"].as_str().unwrap().to_owned();
    assert_eq!(get(&format!("/api/v1/dispatches/{id}"), &other).await.status(), 404);
    // A revoked key is refused at once.
    let keys = demo.get("/api/v1/apps/helpline/keys").await;
    let key = keys["items"][0]["id"].as_str().unwrap().to_owned();
    assert!(!keys.to_string().contains(&other), "keys are never shown again");
    assert!(demo.client(&["app", "key", "revoke", "helpline", &key]).status.success());
    assert_eq!(get("/api/v1/voices", &other).await.status(), 401);
}

#[tokio::test]
async fn a_session_changes_things_from_the_consoles_own_pages_alone() {
    let demo = Demo::start(BINARY).await;
    let session =
        async |body: Value| demo.http.post(format!("{}/api/v1/session", demo.url)).json(&body).send().await.unwrap();
    let signed = session(json!({"key": demo.operator})).await;
    assert_eq!(signed.status(), 200);
    let cookie = header(&signed, "set-cookie");
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict") && cookie.contains("Path=/"), "{cookie}");
    let token = cookie.split(';').next().unwrap().to_owned();
    let add = async |origin: Option<&str>| {
        let mut request = demo.http.post(format!("{}/api/v1/apps", demo.url)).header("Cookie", &token);
        if let Some(origin) = origin {
            request = request.header("Origin", origin);
        }
        request.json(&json!({"name": "sneaky"})).send().await.unwrap().status().as_u16()
    };
    assert_eq!(add(Some("http://evil.example")).await, 403);
    assert_eq!(add(None).await, 403);
    // A form of another site that pretends to be another method.
    let form = demo.http.post(format!("{}/api/v1/credentials/heron", demo.url)).header("Cookie", &token);
    let form = form
        .header("Origin", "http://evil.example")
        .header("Content-Type", "application/x-www-form-urlencoded")
        .body("_method=delete");
    assert_eq!(form.send().await.unwrap().status(), 403);
    assert_eq!(add(Some(&demo.url)).await, 201);
    assert_eq!(session(json!({"key": demo.app})).await.status(), 401, "an app key is no operator");
    let link = demo.http.get(&demo.sign_in).header("Accept", "text/html");
    let no_redirect =
        reqwest::Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none()).build().unwrap();
    assert_eq!(no_redirect.get(&demo.sign_in).send().await.unwrap().status(), 303);
    assert_eq!(link.send().await.unwrap().status(), 401, "the link works once");
    let set = demo.http.put(format!("{}/api/v1/people/ada", demo.url)).bearer_auth(&demo.operator);
    assert_eq!(set.json(&json!({"password": "slack water at noon"})).send().await.unwrap().status(), 204);
    assert_eq!(session(json!({"person": "ada", "password": "slack water at noon"})).await.status(), 200);
    for _ in 0..5 {
        assert_eq!(session(json!({"person": "ada", "password": "wrong wrong wrong"})).await.status(), 401);
    }
    let slowed = session(json!({"person": "ada", "password": "slack water at noon"})).await;
    assert_eq!((slowed.status().as_u16(), header(&slowed, "retry-after").as_str()), (429, "60"));
}

#[tokio::test]
async fn errors_of_the_server_itself_are_problems_too() {
    let demo = Demo::start(BINARY).await;
    for (method, path, status) in [
        ("GET", "/api/v1/nothing", 404),
        ("PATCH", "/api/v1/apps", 404),
        ("GET", "/api/v2/voices", 404),
        ("GET", "/nothing.js", 404),
    ] {
        let request =
            demo.http.request(method.parse().unwrap(), format!("{}{path}", demo.url)).bearer_auth(&demo.operator);
        let response = request.send().await.unwrap();
        assert_eq!(
            (response.status().as_u16(), header(&response, "content-type").as_str()),
            (status, "application/problem+json"),
            "{method} {path}"
        );
    }
    let document: Value =
        demo.http.get(format!("{}/api/openapi.json", demo.url)).send().await.unwrap().json().await.unwrap();
    assert_eq!(
        (document["openapi"].as_str(), document["servers"][0]["url"].as_str()),
        (Some("3.1.0"), Some(demo.url.as_str()))
    );
    let health = demo.get("/health").await;
    assert_eq!((health["status"].as_str(), health["engines"].as_u64()), (Some("ready"), Some(14)));
    let metrics = demo.http.get(format!("{}/metrics", demo.url)).send().await.unwrap();
    assert!(header(&metrics, "content-type").starts_with("application/openmetrics-text"));
    let text = metrics.text().await.unwrap();
    assert!(text.lines().any(|line| line == "dispatcher_in_work 0"), "{text}");
    assert!(text.ends_with("# EOF\n"));
}

#[tokio::test]
async fn a_clean_end_lets_running_requests_finish() {
    let demo = Demo::start(BINARY).await;
    demo.weather(json!({"weather": "drip", "pause": 30})).await;
    let response = demo.speak(json!({"text": "The tide turns at noon.", "voice": "heron/pellin"}), "audio/mpeg").await;
    let id = header(&response, "dispatch-id");
    let body = tokio::spawn(response.bytes());
    let (status, folder) = demo.terminate().await;
    assert!(status.success());
    let audio = body.await.unwrap().expect("the answer came whole");
    assert!(audio.len() > 3_000);
    let again = Demo::start_in(BINARY, folder).await;
    assert_eq!(again.get(&format!("/api/v1/dispatches/{id}")).await["state"], "done");
}

#[tokio::test]
async fn after_a_kill_what_was_open_is_uncertain_and_what_was_settled_stays() {
    let demo = Demo::start(BINARY).await;
    let done = demo.speak(json!({"text": "Ahoy", "voice": "heron/pellin"}), "*/*").await;
    let settled = header(&done, "dispatch-id");
    done.bytes().await.unwrap();
    demo.weather(json!({"weather": "drip", "pause": 2000})).await;
    let request = demo.post("/api/v1/utterances").json(&json!({"text": "Twelve letter", "voice": "heron/pellin"}));
    let open = tokio::spawn(request.send());
    tokio::time::sleep(Duration::from_millis(600)).await;
    let folder = demo.kill();
    let _ = open.await;
    let again = Demo::start_in(BINARY, folder).await;
    let list = again.get("/api/v1/dispatches").await;
    let states: Vec<&str> =
        list["items"].as_array().unwrap().iter().map(|row| row["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["uncertain", "done"]);
    assert_eq!(list["items"][0]["cost"]["amount"], "0.000208", "charged as held: 13 characters");
    assert_eq!(list["items"][1]["id"], settled.as_str());
    assert_eq!(again.get("/api/v1/usage?by=app").await["total"][0]["amount"], "0.000272");
}

#[tokio::test]
async fn sessions_end_with_the_key_or_person_that_began_them() {
    let demo = Demo::start(BINARY).await;
    let set = |verb: &str, password: &str| {
        let mut child = demo.client_command(&["person", verb, "ada"]).stdin(Stdio::piped()).spawn().unwrap();
        std::io::Write::write_all(child.stdin.as_mut().unwrap(), format!("{password}\n").as_bytes()).unwrap();
        assert!(child.wait().unwrap().success());
    };
    let sign_in = async |body: Value| {
        let signed = demo.http.post(format!("{}/api/v1/session", demo.url)).json(&body).send().await.unwrap();
        assert_eq!(signed.status(), 200);
        header(&signed, "set-cookie").split(';').next().unwrap().to_owned()
    };
    let status = async |cookie: &str| {
        let request = demo.http.get(format!("{}/api/v1/apps", demo.url)).header("Cookie", cookie);
        request.send().await.unwrap().status().as_u16()
    };
    set("add", "slack water at noon");
    let ada = sign_in(json!({"person": "ada", "password": "slack water at noon"})).await;
    assert_eq!(status(&ada).await, 200);
    set("replace", "high water at dusk");
    assert_eq!(status(&ada).await, 401, "her password has changed");
    let again = sign_in(json!({"person": "ada", "password": "high water at dusk"})).await;
    let list = demo.client(&["person", "list"]);
    assert!(String::from_utf8_lossy(&list.stdout).contains("ada"), "{list:?}");
    assert!(demo.client(&["person", "remove", "ada"]).status.success());
    assert_eq!(status(&again).await, 401, "she is removed");
    assert_eq!(demo.client(&["person", "remove", "ada"]).status.code(), Some(1), "and cannot be twice");

    let key = String::from_utf8(demo.client(&["app", "key", "add", "console"]).stdout).unwrap().trim().to_owned();
    let by_key = sign_in(json!({"key": key})).await;
    assert_eq!(status(&by_key).await, 200);
    let keys = demo.get("/api/v1/apps/console/keys").await;
    let own = keys["items"].as_array().unwrap().last().expect("the oldest is first");
    let id = own["id"].as_str().unwrap();
    assert!(demo.client(&["app", "key", "revoke", "console", id]).status.success());
    assert_eq!(status(&by_key).await, 401, "its key is revoked");
    let audit = demo.get("/api/v1/audit").await;
    let removed = audit["items"].as_array().unwrap().iter().find(|row| row["action"] == "person.remove").unwrap();
    assert_ne!(removed["who"], "host", "the audit says who did it: {removed}");
}
