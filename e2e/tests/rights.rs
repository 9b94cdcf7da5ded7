//! Rights of people and keys: an app owner, an auditor, and keys with grants,
//! through the service.

use crate::BINARY;
use dispatcher_e2e::Demo;
use reqwest::Method;
use serde_json::{Value, json};
use std::time::SystemTime;

const PASSWORD: &str = "a long walk on the quay";

/// Adds a person, and gives the cookie of a session.
async fn sign_in(demo: &Demo, name: &str, role: &str, apps: &[&str]) -> String {
    let apps = if apps.is_empty() { Value::Null } else { json!(apps) };
    let person = json!({"password": PASSWORD, "role": role, "apps": apps});
    let url = format!("{}/api/v1/people/{name}", demo.url);
    let added = demo.http.put(url).bearer_auth(&demo.operator).json(&person).send().await.unwrap();
    assert_eq!(added.status(), 204, "{}", added.text().await.unwrap());
    let body = json!({"person": name, "password": PASSWORD});
    let begun = demo.http.post(format!("{}/api/v1/session", demo.url)).json(&body).send().await.unwrap();
    assert_eq!(begun.status(), 200);
    let cookie = begun.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let told: Value = begun.json().await.unwrap();
    assert_eq!((&told["person"], &told["role"]), (&json!(name), &json!(role)));
    cookie
}

/// What a session gets: the status and the JSON.
async fn call(demo: &Demo, cookie: &str, method: Method, path: &str, body: Option<Value>) -> (u16, Value) {
    let request = demo.http.request(method, format!("{}{path}", demo.url));
    let request = request.header("Cookie", cookie).header("Origin", &demo.url);
    let request = match body {
        Some(body) => request.json(&body),
        None => request,
    };
    let response = request.send().await.unwrap();
    let status = response.status().as_u16();
    (status, serde_json::from_slice(&response.bytes().await.unwrap()).unwrap_or(Value::Null))
}

fn apps_of(list: &Value) -> Vec<&str> {
    let mut apps: Vec<&str> =
        list["items"].as_array().unwrap().iter().map(|row| row["app"].as_str().unwrap()).collect();
    apps.sort_unstable();
    apps.dedup();
    apps
}

#[tokio::test]
async fn an_app_owner_sees_and_changes_own_apps_alone() {
    let demo = Demo::start(BINARY).await;
    // A dispatch of another app.
    let other = json!({"text": "Ahoy.", "voice": "espeak-ng/en-gb"});
    let spoken = demo.http.post(format!("{}/api/v1/utterances", demo.url)).bearer_auth(&demo.operator).json(&other);
    let foreign = spoken.send().await.unwrap().headers()["dispatch-id"].to_str().unwrap().to_owned();
    let olga = sign_in(&demo, "olga", "app-owner", &["quay-announcer", "helpline"]).await;
    let get = async |path: &str| call(&demo, &olga, Method::GET, path, None).await;
    let (status, _) = call(&demo, &olga, Method::POST, "/api/v1/utterances", Some(other.clone())).await;
    assert_eq!(status, 200, "she works for the first of her apps");
    let (_, dispatches) = get("/api/v1/dispatches").await;
    assert_eq!(apps_of(&dispatches), ["quay-announcer"]);
    assert_eq!(get("/api/v1/dispatches?app=console").await.1["items"], json!([]), "of another app there is nothing");
    assert_eq!(get(&format!("/api/v1/dispatches/{foreign}")).await.0, 404);
    let (_, apps) = get("/api/v1/apps").await;
    let names: Vec<_> = apps["items"].as_array().unwrap().iter().map(|app| app["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["helpline", "quay-announcer"]);
    assert_eq!((get("/api/v1/apps/helpline/keys").await.0, get("/api/v1/apps/console/keys").await.0), (200, 404));
    let add = async |app: &str| {
        let path = format!("/api/v1/apps/{app}/keys");
        call(&demo, &olga, Method::POST, &path, Some(json!({"label": "hers"}))).await.0
    };
    assert_eq!((add("helpline").await, add("console").await, add("drill-captions").await), (201, 404, 404));
    for (method, path, body) in [
        (Method::GET, "/api/v1/audit", None),
        (Method::GET, "/api/v1/people", None),
        (Method::GET, "/api/v1/credentials", None),
        (Method::PUT, "/api/v1/apps/helpline", Some(json!({"site": "local"}))),
        (Method::PUT, "/api/v1/people/olga", Some(json!({"role": "operator"}))),
        (Method::PUT, "/api/v1/people/ada", Some(json!({"password": PASSWORD}))),
        (Method::POST, "/api/v1/apps/helpline/allowances", Some(json!({"requests": 9, "per": "day"}))),
    ] {
        assert_eq!(call(&demo, &olga, method.clone(), path, body).await.0, 403, "{method} {path}");
    }
    let own = Some(json!({"password": "another long walk"}));
    assert_eq!(call(&demo, &olga, Method::PUT, "/api/v1/people/olga", own).await.0, 204, "her own password");
    // Her rights end with her role, in the middle of a session.
    let url = format!("{}/api/v1/people/olga", demo.url);
    demo.http.delete(url).bearer_auth(&demo.operator).send().await.unwrap();
    assert_eq!(get("/api/v1/dispatches").await.0, 401);
}

#[tokio::test]
async fn an_auditor_reads_everything_and_changes_or_spends_nothing() {
    let demo = Demo::start(BINARY).await;
    let axel = sign_in(&demo, "axel", "auditor", &[]).await;
    for path in
        ["dispatches", "usage", "audit", "people", "credentials", "apps", "apps/console/keys", "ledger/check", "health"]
    {
        assert_eq!(call(&demo, &axel, Method::GET, &format!("/api/v1/{path}"), None).await.0, 200, "{path}");
    }
    let before = (demo.get("/api/v1/dispatches").await, demo.delivered().await);
    for (method, path, body) in [
        (Method::POST, "/api/v1/utterances", Some(json!({"text": "Ahoy.", "voice": "heron/pellin"}))),
        (Method::GET, "/api/v1/utterances?text=Ahoy&voice=heron/pellin", None),
        (Method::GET, "/api/v1/voices/heron/pellin/sample", None),
        (Method::POST, "/api/v1/comparisons", Some(json!({"text": "Ahoy.", "voices": ["heron/pellin", "flite/slt"]}))),
        (Method::POST, "/api/v1/tokens", Some(json!({"calls": ["speak"]}))),
        (Method::PUT, "/api/v1/tariffs/heron/synthesis", Some(json!({"price": "0", "per": "character"}))),
        (Method::DELETE, "/api/v1/routes/quayside", None),
        (Method::PUT, "/api/v1/people/ada", Some(json!({"password": PASSWORD}))),
    ] {
        let (status, problem) = call(&demo, &axel, method.clone(), path, body).await;
        assert_eq!(status, 403, "{method} {path}: {problem}");
    }
    assert_eq!((demo.get("/api/v1/dispatches").await, demo.delivered().await), before);
    assert_eq!(call(&demo, &axel, Method::DELETE, "/api/v1/session", None).await.0, 204);
    assert_eq!(call(&demo, &axel, Method::GET, "/api/v1/usage", None).await.0, 401);
}

#[tokio::test]
async fn a_role_is_checked_when_it_is_given() {
    let demo = Demo::start(BINARY).await;
    let put = async |body: Value| {
        let url = format!("{}/api/v1/people/olga", demo.url);
        let response = demo.http.put(url).bearer_auth(&demo.operator).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.text().await.unwrap())
    };
    for (body, detail) in [
        (json!({"password": PASSWORD, "role": "app-owner"}), "an app owner has at least one app"),
        (json!({"password": PASSWORD, "role": "app-owner", "apps": ["console"]}), "the app console has no owner"),
        (json!({"password": PASSWORD, "role": "app-owner", "apps": ["nobodys"]}), "no app 'nobodys'"),
        (json!({"password": PASSWORD, "role": "captain"}), "a role is one of operator, app-owner, auditor"),
        (json!({"password": PASSWORD, "apps": ["helpline"]}), "apps are given with the role app-owner"),
        (json!({"password": "short"}), "at least 12 characters"),
        (json!({"role": "auditor"}), "no person 'olga'"),
        (json!({}), "give a password, a role or both"),
    ] {
        let (status, text) = put(body.clone()).await;
        assert!((400..500).contains(&status) && text.contains(detail), "{body}: {status} {text}");
    }
    assert_eq!(demo.get("/api/v1/people").await["items"], json!([]));
}

#[tokio::test]
async fn a_key_with_grants_does_what_they_say_and_makes_no_token_around_them() {
    let demo = Demo::start(BINARY).await;
    let add = async |grants: &[&str]| {
        let made = demo.client(&[&["app", "key", "add", "quay-announcer"], grants].concat());
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        String::from_utf8(made.stdout).unwrap().trim().to_owned()
    };
    let send = async |key: &str, method: Method, path: &str, body: Option<Value>| {
        let request = demo.http.request(method, format!("{}{path}", demo.url)).bearer_auth(key);
        let request = if let Some(body) = body { request.json(&body) } else { request };
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.text().await.unwrap_or_default())
    };
    let say = |voice: &str| Some(json!({"text": "Ahoy.", "voice": voice}));
    let speaks = add(&["--calls", "speak", "--engines", "espeak-ng"]).await;
    assert_eq!(send(&speaks, Method::POST, "/api/v1/utterances", say("espeak-ng/en-gb")).await.0, 200);
    let before = demo.delivered().await;
    let (status, text) = send(&speaks, Method::POST, "/api/v1/utterances", say("heron/pellin")).await;
    assert!(status == 422 && text.contains("the grants of the key exclude it"), "{status} {text}");
    for (method, path, body) in [
        (Method::GET, "/api/v1/dispatches", None),
        (Method::GET, "/api/v1/jobs", None),
        (Method::POST, "/api/v1/tokens", Some(json!({"calls": ["speak"]}))),
        (Method::GET, "/api/v1/usage", None),
    ] {
        let (status, text) = send(&speaks, method, path, body).await;
        assert!(status == 403 && text.contains("it is granted: speak"), "{path}: {status} {text}");
    }
    let whole = add(&["--routes", "quayside"]).await;
    let (status, text) = send(&whole, Method::POST, "/api/v1/tokens", Some(json!({"calls": ["speak"]}))).await;
    assert!(status == 403 && text.contains("a key with grants makes no tokens"), "{status} {text}");
    let (status, text) = send(&whole, Method::POST, "/api/v1/utterances", say("heron/pellin")).await;
    assert!(status == 403 && text.contains("the key is granted the routes quayside"), "{status} {text}");
    let elsewhere = add(&["--networks", "203.0.113.0/24"]).await;
    let (status, text) = send(&elsewhere, Method::POST, "/api/v1/utterances", say("heron/pellin")).await;
    assert!(status == 403 && text.contains("not accepted from 127.0.0.1"), "{status} {text}");
    assert_eq!(demo.delivered().await, before, "no engine was called for what was refused");
    // Nor does a session do more than the operator key that begins it.
    let made = demo.client(&["app", "key", "add", "console", "--calls", "records"]);
    let reads = String::from_utf8(made.stdout).unwrap();
    let url = format!("{}/api/v1/session", demo.url);
    let begun = demo.http.post(url).json(&json!({"key": reads.trim()})).send().await.unwrap();
    assert_eq!(begun.status(), 401);
    let here = add(&["--networks", "127.0.0.0/8"]).await;
    assert_eq!(send(&here, Method::POST, "/api/v1/utterances", say("espeak-ng/en-gb")).await.0, 200);
}

#[tokio::test]
async fn the_audit_log_is_exported_whole_and_line_by_line() {
    let demo = Demo::start(BINARY).await;
    sign_in(&demo, "axel", "auditor", &[]).await;
    let file = demo.folder.path().join("audit.jsonl");
    let done = demo.client(&["audit", "--export", file.to_str().unwrap()]);
    assert!(done.status.success());
    let text = std::fs::read_to_string(file).unwrap();
    let entries: Vec<Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let told = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(entries.len() > 10 && told.contains(&format!("Exported {} entries", entries.len())), "{told}");
    let put: Vec<&Value> = entries.iter().filter(|entry| entry["action"] == "person.put").collect();
    assert_eq!((put.len(), &put[0]["subject"]), (1, &json!("axel, auditor")));
    // Page by page it is the same, and a day on which nothing happened is empty.
    let (mut paged, mut cursor) = (Vec::new(), String::new());
    loop {
        let page = demo.get(&format!("/api/v1/audit?limit=7{cursor}")).await;
        paged.extend(page["items"].as_array().unwrap().iter().cloned());
        match page["next"].as_str() {
            Some(next) => cursor = format!("&cursor={next}"),
            None => break,
        }
    }
    assert_eq!(paged, entries);
    assert_eq!(demo.get("/api/v1/audit?from=2001-01-01&to=2001-12-31").await["items"], json!([]));
    let lines = demo.http.get(format!("{}/api/v1/audit?action=person.put", demo.url)).bearer_auth(&demo.operator);
    let lines = lines.header("Accept", "application/jsonl").send().await.unwrap();
    assert_eq!(lines.headers()["content-type"], "application/jsonl");
    assert_eq!(serde_json::from_str::<Value>(lines.text().await.unwrap().trim()).unwrap(), *put[0]);
    let odd = demo.http.get(format!("{}/api/v1/audit?from=yesterday", demo.url)).bearer_auth(&demo.operator);
    assert_eq!(odd.send().await.unwrap().status(), 422);
}

#[tokio::test]
async fn erasure_takes_words_and_audio_and_leaves_amounts() {
    let demo = Demo::start(BINARY).await;
    demo.client(&["app", "change", "quay-announcer", "--recall", "private", "--transcript-days", "7"]);
    let spoken = demo.speak(json!({"text": "Stand clear.", "voice": "heron/pellin"}), "audio/wav").await;
    let audio = spoken.bytes().await.unwrap().to_vec();
    demo.hear(audio.clone(), "audio/wav", "?engine=turnstone").await;
    let body = json!({"text": "Stand clear.", "voices": ["heron/pellin", "espeak-ng/en-gb"]});
    let url = format!("{}/api/v1/comparisons", demo.url);
    assert_eq!(demo.http.post(url).bearer_auth(&demo.app).json(&body).send().await.unwrap().status(), 201);
    let usage = async || demo.get("/api/v1/usage?by=app,engine").await;
    let (before, files) = (usage().await, || dispatcher_e2e::files_below(&demo.data().join("clips")).len());
    let held = files();
    let erase = |options: &[&str]| {
        let done = demo.client(&[&["--json", "app", "erase", "quay-announcer"], options].concat());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        serde_json::from_slice::<Value>(&done.stdout).unwrap()
    };
    let counted = erase(&["--dry-run"]);
    assert_eq!(
        (&counted["transcripts"], &counted["comparisons"], &counted["kept_answers"]),
        (&json!(1), &json!(1), &json!(1))
    );
    assert_eq!((files(), counted["dry_run"].as_bool()), (held, Some(true)), "nothing was erased yet");
    let erased = erase(&[]);
    assert_eq!((&erased["transcripts"], &erased["dry_run"]), (&json!(1), &json!(false)));
    assert_eq!(demo.get("/api/v1/transcripts?app=quay-announcer").await["items"], json!([]));
    assert_eq!(demo.get("/api/v1/comparisons").await["items"], json!([]));
    assert_eq!(held - files(), 3, "the kept answer and two voices of the comparison");
    assert_eq!(usage().await["total"], before["total"], "amounts stay");
    let checked = demo.client(&["ledger", "check"]);
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stdout));
    assert_eq!(demo.client(&["app", "erase", "nobodys"]).status.code(), Some(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_made_for_an_end_user_is_erased_and_the_rest_stays() {
    let demo = Demo::start(BINARY).await;
    demo.client(&["app", "change", "quay-announcer", "--recall", "shared", "--transcript-days", "7"]);
    let speak = async |text: &str, user: Option<&str>| {
        let request = demo.post("/api/v1/utterances").header("Accept", "audio/wav");
        let request = request.json(&json!({"text": text, "voice": "heron/pellin"}));
        let request = user.into_iter().fold(request, |request, user| request.header("End-User", user));
        request.send().await.unwrap()
    };
    let of_seven = speak("Your cabin is four.", Some("passenger-7")).await;
    let audio = of_seven.bytes().await.unwrap().to_vec();
    speak("Stand clear.", None).await.bytes().await.unwrap();
    let hear = async |user: &str| {
        let request = demo.post("/api/v1/transcripts?engine=turnstone").header("Content-Type", "audio/wav");
        let heard = request.header("End-User", user).body(audio.clone()).send().await.unwrap();
        assert_eq!(heard.json::<Value>().await.unwrap()["kept"], true);
    };
    hear("passenger-7").await;
    hear("passenger-8").await;
    let linked = demo.post("/api/v1/utterances").header("End-User", "passenger-7");
    let linked = linked.json(&json!({"text": "Your cabin is four.", "voice": "heron/pellin", "deliver": "link"}));
    let linked: Value = linked.send().await.unwrap().json().await.unwrap();
    let link = linked["audio"]["link"].as_str().unwrap();
    let fetch = async || demo.http.get(link).send().await.unwrap().status();
    assert_eq!(fetch().await, 200);
    let once = demo.post("/api/v1/utterances").header("End-User", "passenger-7").header("Idempotency-Key", "cabin");
    let once = once.json(&json!({"text": "Your cabin is four.", "voice": "heron/pellin"}));
    once.send().await.unwrap().bytes().await.unwrap();
    let upload = demo.post("/api/v1/uploads").header("End-User", "passenger-7").body("a recording").send();
    assert_eq!(upload.await.unwrap().status(), 201);
    // The name of the token is that of its requests, and no other can be given.
    let args = ["--json", "app", "token", "add", "quay-announcer", "--calls", "speak", "--end-user", "passenger-7"];
    let token: Value = serde_json::from_slice(&demo.client(&args).stdout).unwrap();
    let with_token = async |user: Option<&str>| {
        let request = demo.http.post(format!("{}/api/v1/utterances", demo.url));
        let request = request.bearer_auth(token["token"].as_str().unwrap()).header("Accept", "audio/wav");
        let request = request.json(&json!({"text": "Cabin four is ready.", "voice": "heron/pellin"}));
        let request = user.into_iter().fold(request, |request, user| request.header("End-User", user));
        request.send().await.unwrap()
    };
    assert_eq!(with_token(Some("passenger-8")).await.status(), 403);
    with_token(None).await.bytes().await.unwrap();
    let dispatches = async || {
        let list = demo.get("/api/v1/dispatches?app=quay-announcer").await["items"].clone();
        let items = list.as_array().unwrap().iter().filter(|item| item["end_user"] == "passenger-7");
        items.count()
    };
    assert_eq!(dispatches().await, 5, "three utterances, a transcript, and one with the token");
    let bad = speak("Stand clear.", Some(&"x".repeat(101))).await;
    assert_eq!(
        (bad.status(), bad.text().await.unwrap().contains("1 to 100 characters")),
        (422.try_into().unwrap(), true)
    );

    let erase = |options: &[&str]| {
        let done = demo.client(&[&["app", "erase", "quay-announcer", "--end-user", "passenger-7"], options].concat());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap().trim().to_owned()
    };
    let counts = "of passenger-7 in quay-announcer: 1 transcripts, 0 exchanges, 0 comparisons, 3 kept answers, 1 linked answers, 1 uploads, 0 jobs; \
                  the name goes from 5 dispatches and 1 tokens";
    assert_eq!(erase(&["--dry-run"]), format!("Would erase {counts}"));
    assert_eq!(dispatches().await, 5, "nothing was erased yet");
    assert_eq!(erase(&[]), format!("Erased {counts}"));
    assert_eq!((dispatches().await, fetch().await.as_u16()), (0, 404));
    let kept = demo.get("/api/v1/transcripts?app=quay-announcer").await;
    assert_eq!(kept["items"].as_array().unwrap().len(), 1, "that of the other passenger: {kept}");
    assert_eq!(with_token(None).await.status(), 401, "the token is revoked");
    let again = speak("Your cabin is four.", Some("passenger-7")).await;
    let status = again.headers()["cache-status"].to_str().unwrap().to_owned();
    assert!(!status.contains("hit"), "it was erased: {status}");
    let other = speak("Stand clear.", None).await;
    assert!(other.headers()["cache-status"].to_str().unwrap().contains("hit"), "the others' answers stay");
    let log = demo.client(&["--json", "audit"]);
    let log = String::from_utf8(log.stdout).unwrap();
    assert!(log.contains("app.erase-end-user") && !log.contains("passenger-7"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_of_retention_are_set_tried_and_ended() {
    let demo = Demo::start(BINARY).await;
    let run = |args: &[&str]| {
        let done = demo.client(&[&["retention"], args].concat());
        let told = if done.status.success() { done.stdout } else { done.stderr };
        (done.status.code(), String::from_utf8(told).unwrap())
    };
    assert!(run(&["list"]).1.lines().filter(|line| line.contains("no rule")).count() == 7);
    let (code, told) = run(&["set", "dispatches", "7"]);
    assert!(code == Some(1) && told.contains("dispatches are kept for 40 to 36500 days"), "{told}");
    let (code, told) = run(&["set", "voices", "90"]);
    assert!(code == Some(1) && told.contains("kept-answers"), "it names the kinds: {told}");
    assert_eq!(run(&["set", "audit", "90"]).0, Some(0));
    let (_, told) = run(&["remove", "--dry-run"]);
    let words: Vec<&str> = told.lines().last().unwrap().split_whitespace().collect();
    assert_eq!(words, ["audit", "90", "days", "0"]);
    assert_eq!(run(&["set", "uploads", "2"]).0, Some(0));
    for days in [1, 3] {
        let begun = demo.post("/api/v1/uploads").body("a recording").send().await.unwrap();
        let id = begun.json::<Value>().await.unwrap()["id"].as_str().unwrap().to_owned();
        let body = demo.data().join("uploads").join(format!("{id}.body"));
        let age = std::time::Duration::from_secs(days * 86_400);
        std::fs::File::options().write(true).open(body).unwrap().set_modified(SystemTime::now() - age).unwrap();
    }
    let uploads = |args: &[&str]| {
        let (_, told) = run(args);
        told.lines().find(|line| line.contains("uploads")).unwrap().split_whitespace().last().unwrap().to_owned()
    };
    let removed = [&["remove", "--dry-run"][..], &["remove"], &["remove"]].map(uploads);
    assert_eq!(removed, ["1", "1", "0"], "the older one alone");
    assert_eq!(run(&["end", "audit"]).0, Some(0));
    assert_eq!(run(&["end", "audit"]).0, Some(1), "it has none any more");
}
