//! What keeps engines in order: limits, credentials that change, lists of
//! voices, and the matrix of claims.

use crate::BINARY;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, words_of};
use serde_json::{Value, json};

const HERON: &str = include_str!("../../demo/sheets/heron.toml");

async fn put(demo: &Demo, url: &str, body: Value) {
    let response = demo.http.put(url).json(&body).send().await.unwrap();
    assert!(response.status().is_success(), "{url}: {}", response.text().await.unwrap());
}

async fn operate(demo: &Demo, path: &str, body: Value) -> (u16, Value) {
    let request = demo.http.post(format!("{}{path}", demo.url)).bearer_auth(&demo.operator).json(&body);
    let response = request.send().await.unwrap();
    (response.status().as_u16(), response.json().await.unwrap_or_default())
}

async fn put_sheet(demo: &Demo, sheet: String) {
    let request = demo.http.put(format!("{}/api/v1/engines/heron/sheet", demo.url)).bearer_auth(&demo.operator);
    let response = request.header("content-type", "application/toml").body(sheet).send().await.unwrap();
    assert!(response.status().is_success(), "{}", response.text().await.unwrap());
}

/// Fifty callers speak without a pause until they are told to stop; gives how
/// many were served, and what went wrong.
async fn fifty(demo: &Arc<Demo>, stop: Arc<AtomicBool>) -> (usize, Vec<String>) {
    let served = Arc::new(AtomicUsize::new(0));
    let callers: Vec<_> = (0..50)
        .map(|_| {
            let (demo, stop, served) = (demo.clone(), stop.clone(), served.clone());
            tokio::spawn(async move {
                let mut wrong = Vec::new();
                while !stop.load(Ordering::Relaxed) {
                    let response = demo.speak(json!({"text": "Go", "voice": "heron/pellin"}), "audio/mpeg").await;
                    if response.status() == 429 && response.headers().contains_key("retry-after") {
                        // More than the engine takes: refused at once, and asked again.
                        tokio::time::sleep(Duration::from_millis(50)).await;
                    } else if !response.status().is_success() {
                        wrong.push(response.text().await.unwrap());
                    } else if response.bytes().await.is_ok() {
                        served.fetch_add(1, Ordering::Relaxed);
                    } else {
                        wrong.push("broke off".to_owned());
                    }
                }
                wrong
            })
        })
        .collect();
    let mut wrong = Vec::new();
    for caller in callers {
        wrong.extend(caller.await.unwrap());
    }
    (served.load(Ordering::Relaxed), wrong)
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_s_limit_is_used_up_and_never_run_into() {
    let demo = Arc::new(Demo::start(BINARY).await);
    // The engine refuses what is beyond it; the sheet says so.
    put(&demo, &format!("{}/limits", demo.heron), json!({"per_minute": 1_200, "at_once": 8})).await;
    put_sheet(&demo, format!("{HERON}\n[pace]\nper_minute = 1200\nat_once = 8\n")).await;
    let stop = Arc::new(AtomicBool::new(false));
    let running = tokio::spawn({
        let (demo, stop) = (demo.clone(), stop.clone());
        async move { fifty(&demo, stop).await }
    });
    // How much of the limit is used is measured on a clock of its own, in the
    // limiter's tests. Here it must hold whatever else the machine does.
    tokio::time::sleep(Duration::from_secs(1)).await;
    let (before, begun) = (demo.delivered().await, Instant::now());
    tokio::time::sleep(Duration::from_secs(6)).await;
    let (after, seconds) = (demo.delivered().await, begun.elapsed().as_secs_f64());
    let rate = (after["calls"].as_f64().unwrap() - before["calls"].as_f64().unwrap()) / seconds;
    stop.store(true, Ordering::Relaxed);
    let (served, wrong) = running.await.unwrap();
    assert!(wrong.is_empty(), "who is let in is served: {wrong:?}");
    assert!((1.0..=20.5).contains(&rate), "20 calls a second may be made, and {rate:.1} were");
    let refused = demo.delivered().await["refused"].as_f64().unwrap();
    assert!(refused <= 0.02 * served as f64, "the engine's own limit was run into {refused} times");
}

#[tokio::test(flavor = "multi_thread")]
async fn whom_an_engine_has_no_room_for_is_served_a_moment_later() {
    let demo = Arc::new(Demo::start(BINARY).await);
    // The sheet promises more than the engine takes.
    put(&demo, &format!("{}/limits", demo.heron), json!({"at_once": 1})).await;
    put_sheet(&demo, format!("{HERON}\n[pace]\nat_once = 2\n")).await;
    let callers: Vec<_> = (0..4)
        .map(|_| {
            let demo = demo.clone();
            tokio::spawn(async move {
                let response = demo.speak(json!({"text": "Go", "voice": "heron/pellin"}), "audio/mpeg").await;
                (
                    response.status().as_u16(),
                    words_of(&response.bytes().await.unwrap(), Format::new(Codec::Mp3, 24_000)),
                )
            })
        })
        .collect();
    for caller in callers {
        assert_eq!(caller.await.unwrap(), (200, "Go".to_owned()));
    }
    assert!(demo.delivered().await["refused"].as_f64().unwrap() > 0.0, "the engine was never full: nothing is shown");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_credential_is_rotated_under_load_and_no_request_fails() {
    let demo = Arc::new(Demo::start(BINARY).await);
    let secret = "second-canary-0815-abcdef";
    put(&demo, &format!("{}/tokens", demo.heron), json!(["first-canary-4711-xyz", secret])).await;
    let (status, _) =
        operate(&demo, "/api/v1/credentials", json!({"engine": "heron", "parts": {"token": "first-canary-4711-xyz"}}))
            .await;
    assert_eq!(status, 201);
    let stop = Arc::new(AtomicBool::new(false));
    let running = tokio::spawn({
        let (demo, stop) = (demo.clone(), stop.clone());
        async move { fifty(&demo, stop).await }
    });
    tokio::time::sleep(Duration::from_millis(700)).await;
    let (status, kept) =
        operate(&demo, "/api/v1/credentials", json!({"engine": "heron", "parts": {"token": secret}})).await;
    // The engine has no check of its own: the next call proves the credential.
    assert_eq!((status, kept["state"].as_str()), (201, Some("unproven")), "{kept}");
    let mut states = Vec::new();
    for _ in 0..100 {
        let credentials = demo.get("/api/v1/credentials").await;
        let of_heron = credentials["items"].as_array().unwrap().iter().filter(|it| it["engine"] == "heron");
        states = of_heron.map(|it| (it["version"].as_i64().unwrap(), it["state"].to_string())).collect();
        if states.iter().all(|(_, state)| state != "\"unproven\"") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let seen: Vec<(i64, &str)> = states.iter().map(|(version, state)| (*version, state.trim_matches('"'))).collect();
    assert_eq!(seen, [(3, "active"), (2, "superseded"), (1, "superseded")], "the others have served out");
    // In the middle of it the root key changes too.
    let (status, changed) = operate(&demo, "/api/v1/root-key", json!({})).await;
    assert_eq!(status, 200, "{changed}");
    assert!(changed["credentials"].as_u64().unwrap() >= 11, "{changed}");
    tokio::time::sleep(Duration::from_millis(700)).await;
    put(&demo, &format!("{}/tokens", demo.heron), json!([secret])).await;
    tokio::time::sleep(Duration::from_millis(700)).await;
    stop.store(true, Ordering::Relaxed);
    let (served, wrong) = running.await.unwrap();
    assert!(wrong.is_empty(), "{wrong:?}");
    assert!(served > 50, "{served}");
    let audit = demo.get("/api/v1/audit").await.to_string();
    for action in ["credential.add", "credential.activate", "credential.use", "root-key.change"] {
        assert!(audit.contains(action), "{action} is not in {audit}");
    }
    // The secrets are nowhere, whole or encoded.
    let demo = Arc::try_unwrap(demo).ok().unwrap();
    let folder = demo.kill();
    let coded = {
        use base64::Engine as _;
        base64::engine::general_purpose::STANDARD.encode(secret)
    };
    for file in dispatcher_e2e::files_below(folder.path()) {
        let bytes = std::fs::read(&file).unwrap();
        for needle in [secret, "first-canary-4711-xyz", &coded[..24]] {
            assert!(!bytes.windows(needle.len()).any(|w| w == needle.as_bytes()), "{needle} is in {}", file.display());
        }
    }
    // After a restart everything opens under the new root key.
    let demo = Demo::start_in(BINARY, folder).await;
    let states = demo.get("/api/v1/engines").await;
    let absent: Vec<&Value> = states["items"].as_array().unwrap().iter().filter(|it| it["state"] != "ready").collect();
    assert!(absent.is_empty(), "{absent:?}");
}

#[tokio::test]
async fn a_fresh_key_is_pending_until_the_engine_takes_it_and_the_old_one_serves() {
    let demo = Demo::start(BINARY).await;
    let says = async || {
        let response = demo
            .speak(json!({"text": "The ramp is closing", "voice": "bittern/tussock", "deadline": 60}), "audio/mpeg")
            .await;
        let audio = response.bytes().await.unwrap();
        words_of(&audio, Format::new(Codec::Mp3, 24_000))
    };
    let parts = |password: &str| json!({"engine": "bittern", "parts": {"user": "saltmarsh", "password": password, "shore": "north"}});
    demo.weather_of("bittern", json!({"weather": "not-active-yet", "phase": "catalogue", "calls": 2})).await;
    let (status, kept) = operate(&demo, "/api/v1/credentials", parts("soon-there")).await;
    assert_eq!(
        (status, kept["state"].as_str(), kept["cause"].as_str()),
        (201, Some("pending"), Some("not-active-yet"))
    );
    assert_eq!(says().await, "The ramp is closing", "the version that was in force serves on");
    // It is tried again and again: by now the engine looks at it, and refuses it.
    let state = async || {
        let list = demo.get("/api/v1/credentials").await;
        let row = list["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|it| it["name"] == "bittern" && it["version"] == kept["version"]);
        row.unwrap()["state"].as_str().unwrap().to_owned()
    };
    let begun = Instant::now();
    while state().await == "pending" {
        assert!(begun.elapsed() < Duration::from_secs(20), "it stays pending");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert_eq!(state().await, "refused");
    assert_eq!(says().await, "The ramp is closing");
    let checked = demo.client(&["credential", "check", "avocet"]);
    let told = String::from_utf8_lossy(&checked.stdout).into_owned();
    assert!(checked.status.success() && told.contains("not needed: manage"), "{told}");
}

#[tokio::test]
async fn a_credential_is_imported_from_where_it_is_kept() {
    let demo = Demo::start(BINARY).await;
    let write = |name: &str, text: &str| std::fs::write(demo.folder.path().join(name), text).unwrap();
    write("key.json", r#"{"holder": {"name": "saltmarsh"}}"#);
    let lacking = demo.client(&["credential", "import", "avocet", "--file", "key.json"]);
    let said = String::from_utf8_lossy(&lacking.stderr).into_owned();
    assert!(!lacking.status.success() && said.contains("no 'key' at $.holder.secret_key"), "{said}");
    put(&demo, &format!("{}/tokens", demo.heron), json!(["from-dotenv", "from-env"])).await;
    write(".env", "# keys\nexport HERON_TOKEN='from-dotenv'\n");
    let imported = demo.client(&["credential", "import", "heron", "--dotenv", ".env"]);
    assert!(imported.status.success(), "{}", String::from_utf8_lossy(&imported.stderr));
    let mut command = demo.client_command(&["credential", "import", "heron", "--env", "--map", "token=FERRY_TOKEN"]);
    let imported = command.env("FERRY_TOKEN", "from-env").output().unwrap();
    assert!(imported.status.success(), "{}", String::from_utf8_lossy(&imported.stderr));
    assert_eq!(demo.speak(json!({"text": "Go", "voice": "heron/pellin"}), "audio/mpeg").await.status(), 200);
    let missing = demo.client(&["credential", "import", "heron", "--env"]);
    let said = String::from_utf8_lossy(&missing.stderr).into_owned();
    assert!(said.contains("HERON_TOKEN") && said.contains("--map token=NAME"), "{said}");
}

#[tokio::test]
async fn the_list_of_voices_is_read_anew_and_the_last_good_one_stays() {
    let demo = Demo::start(BINARY).await;
    assert!(demo.client(&["engine", "refresh", "bittern"]).status.success());
    demo.weather_of("bittern", json!({"weather": "new-catalogue", "phase": "catalogue"})).await;
    let refreshed = demo.client(&["engine", "refresh", "bittern"]);
    let told = String::from_utf8_lossy(&refreshed.stdout).into_owned();
    assert_eq!(told.trim(), "4 voices\n  + sedge\n  ~ rushes (uses)\n  - ashibe", "{told}");
    let said = demo.speak(json!({"text": "Bonjour", "voice": "bittern/sedge"}), "audio/mpeg").await;
    assert_eq!(words_of(&said.bytes().await.unwrap(), Format::new(Codec::Mp3, 24_000)), "Bonjour");
    let gone = demo.speak(json!({"text": "x", "voice": "bittern/ashibe"}), "audio/mpeg").await;
    assert_eq!(gone.status(), 404);
    for weather in ["down", "wrong-type", "reset"] {
        demo.weather_of("bittern", json!({"weather": weather, "phase": "catalogue"})).await;
        assert!(!demo.client(&["engine", "refresh", "bittern"]).status.success(), "{weather}");
        let voices = demo.get("/api/v1/voices?engine=bittern").await;
        assert_eq!(voices["total"], 4, "{weather}");
        assert!(voices["items"].as_array().unwrap().iter().all(|voice| voice["stale"] == true), "{voices}");
    }
    demo.weather_of("bittern", Value::Null).await;
    assert!(demo.client(&["engine", "refresh", "bittern"]).status.success());
    assert_eq!(demo.get("/api/v1/voices?engine=bittern&search=ashibe").await["items"][0]["stale"], false);
    let many = demo.client(&["engine", "refresh", "espeak-ng"]);
    let told = String::from_utf8_lossy(&many.stdout).into_owned();
    let count: usize = told.split_whitespace().next().unwrap().parse().unwrap();
    assert!(count > 100, "{told}");
}

#[tokio::test]
async fn voices_are_found_marked_and_heard_a_second_time_for_nothing() {
    let demo = Demo::start(BINARY).await;
    let found = demo.get("/api/v1/voices?languages=pt&site=cloud&sort=best&facets=true").await;
    let ids: Vec<&str> = found["items"].as_array().unwrap().iter().map(|it| it["id"].as_str().unwrap()).collect();
    assert!(ids.contains(&"heron/davi") && ids.contains(&"heron/beatriz") && !ids.contains(&"heron/pellin"), "{ids:?}");
    let brazil =
        found["items"].as_array().unwrap().iter().filter(|it| it["languages"].to_string().contains("pt-BR")).count();
    assert_eq!(found["facets"]["languages"]["pt-BR"], brazil, "{}", found["facets"]);
    let first = demo.get("/api/v1/voices?languages=pt-BR%20pt&site=cloud").await;
    let (exact, rest) = first["items"].as_array().unwrap().split_at(brazil);
    let brazilian = |voice: &Value| voice["languages"].to_string().contains("pt-BR");
    assert!(exact.iter().all(brazilian) && !rest.iter().any(brazilian), "an exact region comes first: {first}");
    assert!(demo.client(&["voices", "--favourite", "heron/davi"]).status.success());
    let marked = demo.get("/api/v1/voices?favourite=true").await;
    assert_eq!((marked["total"].as_u64(), marked["items"][0]["id"].as_str()), (Some(1), Some("heron/davi")));
    let hear = async || {
        let request = demo.http.get(format!("{}/api/v1/voices/heron/davi/sample", demo.url)).bearer_auth(&demo.app);
        let response = request.send().await.unwrap();
        let kept = dispatcher_e2e::header(&response, "cache-status").contains("hit");
        (kept, words_of(&response.bytes().await.unwrap(), Format::new(Codec::Mp3, 24_000)))
    };
    let before = demo.delivered().await["calls"].clone();
    let sentence = "O barco parte do cais às seis e um quarto.".to_owned();
    assert_eq!(hear().await, (false, sentence.clone()));
    assert_eq!(hear().await, (true, sentence));
    assert_eq!(demo.delivered().await["calls"].as_u64().unwrap(), before.as_u64().unwrap() + 1);
}

#[tokio::test]
async fn a_check_tells_exactly_what_differs() {
    let demo = Demo::start(BINARY).await;
    let differing = |answer: &Value| -> Vec<String> {
        let claims = answer["claims"].as_array().unwrap();
        let wrong = claims.iter().filter(|claim| claim["verdict"] == "differs");
        wrong
            .map(|claim| format!("{} {}", claim["kind"].as_str().unwrap(), claim["subject"].as_str().unwrap()))
            .collect()
    };
    for engine in ["heron", "bittern", "dotterel", "redshank", "whimbrel", "avocet"] {
        let (_, good) = operate(&demo, &format!("/api/v1/engines/{engine}/check"), json!({})).await;
        assert_eq!((differing(&good), good["good"].as_bool()), (Vec::new(), Some(true)), "{engine}: {good}");
        assert!(good["claims"].as_array().unwrap().len() >= 5, "{engine}: {good}");
    }
    put(&demo, &format!("{}/broken", demo.heron), json!(["mp3", "fine", "pace", "manner", "door"])).await;
    let (_, bad) = operate(&demo, "/api/v1/engines/heron/check", json!({})).await;
    let wanted =
        ["access invalid credential", "format mp3 24000 Hz", "model fine", "control rate", "control direction"];
    assert_eq!(differing(&bad), wanted, "{bad}");
    let model = bad["claims"].as_array().unwrap().iter().find(|claim| claim["subject"] == "fine").unwrap();
    assert!(model["request"].as_str().unwrap().starts_with("POST /talk/pellin"), "{model}");
    assert!(model["answer"].as_str().unwrap().contains("fine is no grade"), "{model}");
    put(&demo, &format!("{}/broken", demo.heron), json!(["limit"])).await;
    let checked = demo.client(&["engine", "check", "heron", "--json"]);
    assert!(!checked.status.success(), "a check that finds something fails");
    assert_eq!(differing(&serde_json::from_slice(&checked.stdout).unwrap()), ["limit characters"]);
}

#[tokio::test]
async fn an_engine_is_put_in_by_its_sheet_alone() {
    let demo = Demo::start(BINARY).await;
    let file = demo.folder.path().join("egret.toml");
    let write = |text: String| std::fs::write(&file, text).unwrap();
    let sheet =
        HERON.replace("name     = \"heron\"", "name     = \"egret\"").replace("http://127.0.0.1:7801", &demo.heron);
    write(sheet.replace("answer = \"audio\"", "answr = \"audio\""));
    let faulty = demo.client(&["engine", "add", "egret.toml"]);
    let said = String::from_utf8_lossy(&faulty.stderr).into_owned();
    assert!(!faulty.status.success() && said.contains("answr"), "{said}");
    write("sheet = 1\nname = \"egret\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"id\"\n[synthesis.formats]\nwav = { type = \"audio/wav\", sample_rates = [16000] }\n[[synthesis.voices]]\nid = \"a\"\nname = \"A\"\nlanguages = [\"en\"]\n".into());
    let process = demo.client(&["engine", "add", "egret.toml"]);
    assert!(String::from_utf8_lossy(&process.stderr).contains("folder of the host"), "programs are the host's alone");
    write(sheet);
    assert!(demo.client(&["engine", "add", "egret.toml"]).status.success());
    put(&demo, &format!("{}/tokens", demo.heron), json!(["egret-token"])).await;
    std::fs::write(demo.folder.path().join("token"), "egret-token").unwrap();
    assert!(demo.client(&["credential", "add", "egret", "--file", "token"]).status.success());
    let said = demo.speak(json!({"text": "The ramp is closing", "voice": "egret/pellin"}), "audio/mpeg").await;
    assert_eq!(words_of(&said.bytes().await.unwrap(), Format::new(Codec::Mp3, 24_000)), "The ramp is closing");
    let folder = demo.kill();
    let demo = Demo::start_in(BINARY, folder).await;
    assert_eq!(demo.get("/api/v1/engines/egret").await["state"], "ready", "it is there after a restart");
    assert!(demo.client(&["engine", "retire", "egret"]).status.success());
    let used = demo.client(&["engine", "retire", "heron"]);
    assert!(String::from_utf8_lossy(&used.stderr).contains("route"), "an engine of a route is not retired");
    assert_eq!(demo.speak(json!({"text": "x", "voice": "egret/pellin"}), "audio/mpeg").await.status(), 404);
}

#[tokio::test]
async fn a_secret_of_every_kind_is_found_nowhere() {
    let demo = Demo::start(BINARY).await;
    let canary = |engine: &str| format!("canary-{engine}-Zx9/+Qw7");
    let kinds: [(&str, &str, Value); 10] = [
        ("bearer", "heron", json!({"token": canary("heron")})),
        ("basic", "bittern", json!({"user": "saltmarsh", "password": canary("bittern"), "shore": "north"})),
        ("headers", "curlew", json!({"colony": "saltmarsh", "call": canary("curlew")})),
        ("client credentials", "godwit", json!({"client_id": "saltmarsh", "client_secret": canary("godwit")})),
        ("assertion", "avocet", json!({"account": "saltmarsh", "key": canary("avocet")})),
        ("signature", "dotterel", json!({"name": "saltmarsh", "key": canary("dotterel")})),
        ("query", "phalarope", json!({"key": canary("phalarope")})),
        ("a job", "sanderling", json!({"key": canary("sanderling")})),
        ("parts", "redshank", json!({"pass": canary("redshank")})),
        ("a socket", "whimbrel", json!({"token": canary("whimbrel")})),
    ];
    let mut seen = String::new();
    for (kind, engine, parts) in &kinds {
        // Without an earlier version the new one is what is called.
        let gone = demo.http.delete(format!("{}/api/v1/credentials/{engine}", demo.url)).bearer_auth(&demo.operator);
        assert!(gone.send().await.unwrap().status().is_success());
        let (status, kept) = operate(&demo, "/api/v1/credentials", json!({"engine": engine, "parts": parts})).await;
        assert_eq!(status, 201, "{kind}: {kept}");
        seen.push_str(&kept.to_string());
        demo.weather_of(engine, json!({"weather": "echo"})).await;
        let voices = demo.get(&format!("/api/v1/voices?engine={engine}")).await;
        match voices["items"][0]["id"].as_str() {
            Some(voice) => {
                let response = demo.speak(json!({"text": "Go", "voice": voice}), "audio/mpeg").await;
                assert!(!response.status().is_success(), "{kind}");
                seen.push_str(&response.text().await.unwrap());
            }
            None => {
                let (_, problem) =
                    demo.try_to_hear(vec![0; 64_000], "audio/pcm;rate=16000", &format!("?engine={engine}")).await;
                seen.push_str(&problem.to_string());
            }
        }
        let (_, trial) = operate(&demo, &format!("/api/v1/credentials/{engine}/check"), json!({})).await;
        seen.push_str(&trial.to_string());
        let (_, matrix) = operate(&demo, &format!("/api/v1/engines/{engine}/check?quick=true"), json!({})).await;
        seen.push_str(&matrix.to_string());
    }
    for path in ["credentials", "audit", "dispatches?limit=100", "engines", "overview"] {
        seen.push_str(&demo.get(&format!("/api/v1/{path}")).await.to_string());
    }
    for dispatch in demo.get("/api/v1/dispatches?limit=100").await["items"].as_array().unwrap() {
        seen.push_str(&demo.get(&format!("/api/v1/dispatches/{}", dispatch["id"].as_str().unwrap())).await.to_string());
    }
    seen.push_str(&demo.log());
    assert!(seen.contains("[redacted]"), "some engine repeated what it was shown");
    let folder = demo.kill();
    let files: Vec<(String, Vec<u8>)> = dispatcher_e2e::files_below(folder.path())
        .into_iter()
        .map(|path| (path.display().to_string(), std::fs::read(path).unwrap()))
        .chain([("what was answered".to_owned(), seen.into_bytes())])
        .collect();
    for (kind, engine, _) in &kinds {
        use base64::Engine as _;
        let plain = canary(engine);
        let coded = base64::engine::general_purpose::STANDARD.encode(&plain);
        let percent = plain.replace('/', "%2F").replace('+', "%2B");
        let hex: String = plain.bytes().map(|byte| format!("{byte:02x}")).collect();
        for needle in [&plain, &coded[..20].to_owned(), &percent, &hex] {
            for (place, bytes) in &files {
                assert!(!bytes.windows(needle.len()).any(|w| w == needle.as_bytes()), "{kind}: {needle} is in {place}");
            }
        }
    }
}
