//! Allowances: that no number of requests exceeds one, what counts, and that
//! what was used outlives the service.

use crate::BINARY;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};

const VOICE: &str = "heron/pellin";

/// Adds an allowance of the announcer; returns its id.
async fn allow(demo: &Demo, terms: Value) -> String {
    let url = format!("{}/api/v1/apps/quay-announcer/allowances", demo.url);
    let response = demo.http.post(url).bearer_auth(&demo.operator).json(&terms).send().await.unwrap();
    let (status, answer) = (response.status(), response.json::<Value>().await.unwrap());
    assert_eq!(status, 201, "{answer}");
    answer["id"].as_str().unwrap().into()
}

/// The status, the problem, and the seconds after which to come again.
async fn say_with(demo: &Demo, key: &str, text: &str, voice: &str) -> (u16, Value, Option<u64>) {
    let body = json!({"text": text, "voice": voice});
    let request = demo.http.post(format!("{}/api/v1/utterances", demo.url)).bearer_auth(key).json(&body);
    let response = request.send().await.unwrap();
    let (status, wait) = (response.status().as_u16(), response.headers().get("retry-after").cloned());
    let wait = wait.map(|wait| wait.to_str().unwrap().parse().unwrap());
    let body = response.bytes().await.unwrap();
    (status, serde_json::from_slice(&body).unwrap_or(Value::Null), wait)
}

async fn say(demo: &Demo, text: &str) -> (u16, Value, Option<u64>) {
    say_with(demo, &demo.app, text, VOICE).await
}

async fn allowances(demo: &Demo) -> Vec<Value> {
    demo.get("/api/v1/allowances?app=quay-announcer").await["items"].as_array().unwrap().clone()
}

#[tokio::test]
async fn two_hundred_requests_at_once_do_not_exceed_an_allowance_of_fifty() {
    let demo = Demo::start(BINARY).await;
    allow(&demo, json!({"requests": 50, "per": "day"})).await;
    let requests = (0..200).map(|number| {
        let demo = &demo;
        async move {
            // Refusals by overload say nothing about the allowance: such a request comes again.
            loop {
                let (status, problem, _) = say(demo, &format!("Boat number {number}.")).await;
                if problem["type"].as_str().is_none_or(|kind| kind.ends_with("/allowance-used")) {
                    return status;
                }
                tokio::time::sleep(std::time::Duration::from_millis(200)).await;
            }
        }
    });
    let statuses = futures::future::join_all(requests).await;
    let count = |wanted: u16| statuses.iter().filter(|status| **status == wanted).count();
    assert_eq!((count(200), count(429)), (50, 150), "{statuses:?}");
    let (known, usage) = (allowances(&demo).await, demo.get("/api/v1/usage?by=app").await);
    assert_eq!((&known[0]["used"]["requests"], &known[0]["percent"]), (&json!(50), &json!(100.0)), "{known:?}");
    let own = usage["items"].as_array().unwrap().iter().find(|row| row["group"][0] == "quay-announcer").unwrap();
    assert_eq!(own["requests"], 50, "engines were called for the 50 alone: {usage}");
}

#[tokio::test]
async fn money_is_refused_before_an_engine_is_called_and_stays_used_after_a_restart() {
    let demo = Demo::start(BINARY).await;
    // Before the allowance: 20 characters of heron cost 0.000320 EUR.
    assert_eq!(say(&demo, &"a".repeat(20)).await.0, 200);
    let cost = json!({"amount": "0.001", "currency": "EUR"});
    let id = allow(&demo, json!({"cost": cost, "per": "month"})).await;
    assert_eq!(say(&demo, &"b".repeat(40)).await.0, 200);
    let before = demo.delivered().await;
    let (status, problem, wait) = say(&demo, &"c".repeat(3)).await;
    assert_eq!((status, problem["title"].as_str()), (429, Some("An allowance does not cover the request")));
    let detail = problem["detail"].as_str().unwrap();
    let expected = "allowance of the app quay-announcer: the limit is 0.001 EUR per month, 0.00004 EUR are left, and the \
                    request needs 0.000048 EUR; it renews at ";
    assert!(detail.starts_with(expected) && detail.ends_with("-01T00:00:00Z"), "{detail}");
    assert!(wait.is_some_and(|wait| wait <= 31 * 86_400), "{wait:?}");
    assert_eq!(demo.delivered().await, before, "the engine was not called");
    assert_eq!(say(&demo, &"c".repeat(2)).await.0, 200, "2 characters cost 0.000032 EUR");
    let (_, folder) = demo.terminate().await;
    let demo = Demo::start_in(BINARY, folder).await;
    assert_eq!(allowances(&demo).await[0]["used"]["cost"]["amount"], "0.000992");
    assert_eq!(say(&demo, "d").await.0, 429);
    // An engine of this machine costs nothing.
    assert_eq!(say_with(&demo, &demo.app, "Ahoy.", "espeak-ng/en-gb").await.0, 200);
    let listed = String::from_utf8(demo.client(&["app", "allowance", "list", "quay-announcer"]).stdout).unwrap();
    assert!(listed.contains("0.001 EUR per month") && listed.contains("99 %"), "{listed}");
    assert!(demo.client(&["app", "allowance", "remove", "quay-announcer", &id[..6]]).status.success());
    assert_eq!(say(&demo, "d").await.0, 200);
    let audit = demo.get("/api/v1/audit").await.to_string();
    assert!(audit.contains("allowance.add") && audit.contains("allowance.remove"), "{audit}");
}

#[tokio::test]
async fn what_fails_is_given_back_and_the_next_leg_must_be_covered_too() {
    let demo = Demo::start(BINARY).await;
    demo.put_route("pier", json!([{"engine": "heron", "voice": "pellin"}, {"engine": "curlew"}])).await;
    allow(&demo, json!({"characters": 30, "per": "week"})).await;
    demo.weather(json!({"weather": "down"})).await;
    assert_eq!(say(&demo, &"y".repeat(30)).await.0, 503);
    assert_eq!(allowances(&demo).await[0]["used"]["characters"], 0);
    let spoken = say_with(&demo, &demo.app, &"y".repeat(20), "pier").await;
    assert_eq!(spoken.0, 200, "the second leg speaks: {}", spoken.1);
    assert_eq!(allowances(&demo).await[0]["used"]["characters"], 20, "once, and not for each leg");
    assert_eq!(say_with(&demo, &demo.app, &"y".repeat(11), "pier").await.0, 429);
}

#[tokio::test]
async fn a_key_has_an_allowance_of_its_own_beside_that_of_its_app() {
    let demo = Demo::start(BINARY).await;
    let run = |arguments: &[&str]| {
        let output = demo.client(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    };
    let key = run(&["app", "key", "add", "quay-announcer", "--label", "gates"]);
    let keys = demo.get("/api/v1/apps/quay-announcer/keys").await;
    let gates = keys["items"].as_array().unwrap().iter().find(|key| key["label"] == "gates").unwrap();
    let id = gates["id"].as_str().unwrap();
    let added =
        run(&["app", "allowance", "add", "quay-announcer", "--requests", "2", "--per", "total", "--key", &id[..8]]);
    assert!(added.ends_with("2 requests in total"), "{added}");
    run(&["app", "allowance", "add", "quay-announcer", "--cost", "5 EUR", "--per", "day"]);
    let mine = async |text: &str| say_with(&demo, &key, text, VOICE).await;
    assert_eq!((mine("One.").await.0, mine("Two.").await.0), (200, 200));
    let (status, problem, wait) = mine("Three.").await;
    assert_eq!((status, wait), (429, None), "an allowance in total does not renew");
    let detail = problem["detail"].as_str().unwrap();
    assert!(detail.contains(id) && detail.contains("2 requests in total, 0 requests are left"), "{detail}");
    assert_eq!(say(&demo, "Another key.").await.0, 200);
    // A token that was made with the key counts for it.
    let request = demo.http.post(format!("{}/api/v1/tokens", demo.url)).bearer_auth(&key);
    let made: Value = request.json(&json!({"calls": ["speak"]})).send().await.unwrap().json().await.unwrap();
    assert_eq!(say_with(&demo, made["token"].as_str().unwrap(), "Four.", VOICE).await.0, 429);
    let refused = demo.client(&["app", "allowance", "add", "quay-announcer", "--per", "day"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("--cost"), "one amount is required");
    let nobody =
        demo.client(&["app", "allowance", "add", "quay-announcer", "--requests", "1", "--per", "day", "--key", "zz"]);
    assert!(String::from_utf8_lossy(&nobody.stderr).contains("there is no key 'zz'"), "{nobody:?}");
}

#[tokio::test]
async fn usage_is_grouped_by_the_key_that_made_the_requests() {
    let demo = Demo::start(BINARY).await;
    let made = demo.client(&["app", "key", "add", "quay-announcer", "--label", "gates", "--json"]);
    let made: Value = serde_json::from_slice(&made.stdout).unwrap();
    let (id, key) = (made["id"].as_str().unwrap(), made["key"].as_str().unwrap());
    for text in ["One.", "Two."] {
        assert_eq!(say_with(&demo, key, text, VOICE).await.0, 200);
    }
    assert_eq!(say(&demo, "Another key.").await.0, 200);
    let usage = demo.get("/api/v1/usage?by=key,voice").await;
    let rows = usage["items"].as_array().unwrap();
    let own: Vec<&Value> = rows.iter().filter(|row| row["group"][0] == id).collect();
    assert_eq!((own.len(), &own[0]["group"][1], &own[0]["requests"]), (1, &json!(VOICE), &json!(2)), "{usage}");
    assert_eq!(rows.len(), 2, "{usage}");
    let refused = demo.client(&["usage", "--by", "moon"]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(told.contains("by is one or two of app, key, engine, voice, model"), "{told}");
}

#[tokio::test]
async fn a_key_that_expires_is_refused_from_then_on() {
    let demo = Demo::start(BINARY).await;
    let add = |seconds: &str| {
        demo.client(&["app", "key", "add", "console", "--label", "visit", "--expires-in", seconds, "--json"])
    };
    let refused = add("9");
    assert!(String::from_utf8_lossy(&refused.stderr).contains("expires_in is 10 to 316224000 seconds"), "{refused:?}");
    let made: Value = serde_json::from_slice(&add("10").stdout).unwrap();
    let key = made["key"].as_str().unwrap();
    let voices = async || {
        let response = demo.http.get(format!("{}/api/v1/voices", demo.url)).bearer_auth(key).send().await.unwrap();
        (response.status().as_u16(), response.text().await.unwrap())
    };
    let sign_in = demo.http.post(format!("{}/api/v1/session", demo.url)).json(&json!({"key": key}));
    let session =
        sign_in.send().await.unwrap().headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let overview = async || {
        let request = demo.http.get(format!("{}/api/v1/overview", demo.url)).header("Cookie", &session);
        request.send().await.unwrap().status().as_u16()
    };
    assert_eq!((voices().await.0, overview().await), (200, 200));
    let listed = demo.get("/api/v1/apps/console/keys").await;
    let visit =
        |list: &Value| list["items"].as_array().unwrap().iter().find(|key| key["label"] == "visit").unwrap().clone();
    assert_eq!(visit(&listed)["state"], "active");
    tokio::time::sleep(std::time::Duration::from_secs(11)).await;
    let (status, told) = voices().await;
    assert!(status == 401 && told.contains("it has expired"), "{told}");
    assert_eq!(overview().await, 401, "a session does not outlive its key");
    assert_eq!(visit(&demo.get("/api/v1/apps/console/keys").await)["state"], "expired");
}
