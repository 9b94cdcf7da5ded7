//! Money through the service and its client: tariffs, sums of usage, rates,
//! credits, statements and comparisons of voices.

use crate::BINARY;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};

/// Runs the client, and gives what it prints.
fn run(demo: &Demo, arguments: &[&str]) -> String {
    let done = demo.client(arguments);
    assert!(done.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).unwrap()
}

/// Speaks with an app key; gives the settled dispatch.
async fn spoken(demo: &Demo, text: &str, voice: &str) -> Value {
    let response = demo.speak(json!({"text": text, "voice": voice}), "audio/wav").await;
    assert_eq!(response.status(), 200);
    let id = response.headers()["dispatch-id"].to_str().unwrap().to_owned();
    response.bytes().await.unwrap();
    demo.settled(&id).await
}

#[tokio::test]
async fn an_operators_tariff_is_charged_from_the_next_call_on_and_the_past_stays() {
    let demo = Demo::start(BINARY).await;
    let text = "The ramp is closing.";
    let before = spoken(&demo, text, "heron/pellin").await;
    assert_eq!(before["cost"]["amount"], "0.000320");
    let set = ["tariff", "set", "heron", "synthesis", "--price", "0.00001", "--per", "character", "--minimum", "50"];
    let shown = run(&demo, &[&set[..], &["--change", "2099-01-01=0.5"]].concat());
    assert!(shown.contains("at least 50 characters; 0.5 from 2099-01-01") && shown.contains("operator"), "{shown}");
    let after = spoken(&demo, text, "heron/pellin").await;
    assert_eq!(after["cost"]["amount"], "0.000500", "50 characters at the least");
    let estimate: Value =
        serde_json::from_str(&run(&demo, &["--json", "estimate", text, "--voice", "heron/pellin"])).unwrap();
    assert_eq!(estimate["cost"]["amount"], "0.000500");
    let kept = demo.get(&format!("/api/v1/dispatches/{}", before["id"].as_str().unwrap())).await;
    assert_eq!(kept["cost"]["amount"], "0.000320", "the past is not rewritten");
    let (_, folder) = demo.terminate().await;
    let demo = Demo::start_in(BINARY, folder).await;
    assert_eq!(spoken(&demo, text, "heron/pellin").await["cost"]["amount"], "0.000500", "it outlives the service");
    demo.client(&["tariff", "retire", "heron", "synthesis"]);
    assert_eq!(spoken(&demo, text, "heron/pellin").await["cost"]["amount"], "0.000320");
    let refused = demo.client(&["tariff", "set", "heron", "synthesis", "--price=-1", "--per", "character"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("'-1' is not a decimal amount"), "{refused:?}");
    assert_eq!(spoken(&demo, text, "heron/pellin").await["cost"]["amount"], "0.000320");
}

#[tokio::test]
async fn usage_has_failures_fallbacks_latency_and_what_recall_saved() {
    let demo = Demo::start(BINARY).await;
    demo.client(&["app", "change", "quay-announcer", "--recall", "private"]);
    demo.weather(json!({"weather": "down"})).await;
    let fallen = spoken(&demo, "Stand clear of the ramp.", "quayside").await;
    let engine = fallen["engine"].as_str().unwrap().to_owned();
    assert_ne!(engine, "heron");
    demo.weather(Value::Null).await;
    let text = "All aboard for Gullsay.";
    spoken(&demo, text, "heron/isolde").await;
    spoken(&demo, text, "heron/isolde").await;
    let usage = demo.get("/api/v1/usage?by=engine").await;
    let of = |engine: &str| usage["items"].as_array().unwrap().iter().find(|row| row["group"][0] == engine).cloned();
    let heron = of("heron").unwrap();
    assert_eq!((&heron["requests"], &heron["recalled"]), (&json!(1), &json!(1)), "{usage}");
    assert!(heron["failures"].as_i64().unwrap() >= 1 && heron["saved"] == heron["cost"], "{heron}");
    assert!(heron["latency_median"].as_f64().unwrap() > 0.0 && heron["latency_p95"].is_number(), "{heron}");
    assert_eq!(of(&engine).unwrap()["fallbacks"], 1, "{usage}");
    let table = run(&demo, &["usage", "--by", "engine"]);
    assert!(table.contains("Saved by recall: heron: 1 requests"), "{table}");
    assert!(run(&demo, &["ledger", "check"]).contains("holds    the sums of usage are those of the ledger"));
}

#[tokio::test]
async fn sums_in_two_currencies_are_shown_in_the_operators_by_the_rates() {
    let demo = Demo::start(BINARY).await;
    run(&demo, &["tariff", "set", "godwit", "synthesis", "--price", "0.001", "--per", "request", "--currency", "USD"]);
    spoken(&demo, "The ramp is closing.", "heron/pellin").await;
    spoken(&demo, "The ramp is closing.", "godwit/maren").await;
    assert_eq!(demo.get("/api/v1/usage").await["converted"], Value::Null, "there is no rate yet");
    run(&demo, &["rate", "set", "USD", "0.5", "--from", "2026-01-01"]);
    let usage = demo.get("/api/v1/usage").await;
    assert_eq!(usage["converted"], json!({"amount": "0.000820", "currency": "EUR"}), "{usage}");
    let table = run(&demo, &["usage"]);
    assert!(table.contains("In all: 0.00082 EUR"), "{table}");
    let own = demo.client(&["rate", "set", "EUR", "1"]);
    assert!(String::from_utf8_lossy(&own.stderr).contains("EUR is the operator's own currency"));
}

#[tokio::test]
async fn a_credit_says_what_is_left_and_when_it_ends() {
    let demo = Demo::start(BINARY).await;
    let set = ["credit", "set", "heron", "trial", "--characters", "100", "--until", "2999-12-31"];
    assert!(run(&demo, &set).contains("100 characters"));
    spoken(&demo, "The ramp is closing.", "heron/pellin").await;
    let credits = demo.get("/api/v1/credits").await;
    let credit = &credits["items"][0];
    assert_eq!((&credit["left"]["characters"], &credit["percent"]), (&json!(80), &json!(20.0)), "{credits}");
    run(&demo, &["credit", "retire", "heron", "trial"]);
    assert_eq!(demo.get("/api/v1/credits").await["items"], json!([]));
}

#[tokio::test]
async fn a_statement_is_reconciled_line_by_line_with_what_was_charged() {
    let demo = Demo::start(BINARY).await;
    let mut lines = vec!["Zeit;Betrag".to_owned()];
    for number in 0..6 {
        let dispatch = spoken(&demo, &format!("Boat {} leaves.", "x".repeat(number)), "heron/pellin").await;
        let amount = dispatch["cost"]["amount"].as_str().unwrap().replace('.', ",");
        lines.push(format!("{};{amount}", dispatch["started"].as_str().unwrap()));
    }
    let file = tempfile::NamedTempFile::new().unwrap();
    let reconcile = |lines: &[String]| {
        std::fs::write(file.path(), lines.join("\n")).unwrap();
        let done = demo.client(&["--json", "statement", "reconcile", "heron", file.path().to_str().unwrap()]);
        let told = String::from_utf8_lossy(&done.stderr).into_owned();
        (done.status.success(), serde_json::from_slice::<Value>(&done.stdout).unwrap_or(Value::Null), told)
    };
    let (_, _, told) = reconcile(&lines);
    assert!(told.contains("the statements of heron have no mapping"), "{told}");
    run(
        &demo,
        &[
            "statement",
            "map",
            "heron",
            "--time",
            "Zeit",
            "--amount",
            "Betrag",
            "--currency",
            "EUR",
            "--delimiter",
            ";",
            "--decimal-comma",
        ],
    );
    let (clean, found, told) = reconcile(&lines);
    assert!(clean && found["clean"] == true, "{found} {told}");
    assert_eq!((&found["matched"]["count"], &found["lines"]), (&json!(6), &json!(6)));
    let mut wrong = lines.clone();
    wrong[3] = wrong[3].replace(";0,", ";1,");
    wrong.push(wrong[1].clone());
    wrong.remove(6);
    let (clean, found, told) = reconcile(&wrong);
    assert!(!clean && told.contains("the statement and the ledger differ"), "{told}");
    let cause = |kind: &str| found[kind]["items"][0]["cause"].as_str().unwrap_or_default().to_owned();
    assert_eq!(
        [cause("differing"), cause("not_charged"), cause("not_billed")],
        ["price", "billed twice", "unknown"],
        "{found}"
    );
    assert_eq!(found["differing"]["billed"][0]["amount"], "1.000240");
    let (_, _, told) = reconcile(&["Zeit;Preis".to_owned()]);
    assert!(told.contains("no column 'Betrag'; it has: Zeit, Preis"), "{told}");
}

#[tokio::test]
async fn voices_are_compared_and_rated_and_the_report_needs_nothing_else() {
    let demo = Demo::start(BINARY).await;
    let folder = tempfile::tempdir().unwrap();
    let (audio, report) = (folder.path().join("audio"), folder.path().join("report.html"));
    let say = [
        "--json",
        "compare",
        "--say",
        "Stand clear of the ramp.",
        "--voice",
        "heron/pellin",
        "--voice",
        "espeak-ng/en-gb",
    ];
    let as_app = |arguments: &[&str]| {
        let done = demo.client_command(arguments).env("DISPATCHER_KEY", &demo.app).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    };
    let made = as_app(&[&say[..], &["-o", audio.to_str().unwrap()]].concat());
    let made: Value = serde_json::from_str(&made).unwrap();
    let id = made["id"].as_str().unwrap();
    let [heron, espeak] = &made["voices"].as_array().unwrap()[..] else { panic!("{made}") };
    assert_eq!((&heron["cost"]["amount"], &espeak["cost"]["amount"]), (&json!("0.000384"), &json!("0.000000")));
    assert!(heron["first"].as_f64().unwrap() <= heron["total"].as_f64().unwrap() && heron["loudness"].is_number());
    let wav = std::fs::read(audio.join("1-heron-pellin.wav")).unwrap();
    let format = dispatcher_audio::Format::new(dispatcher_audio::Codec::Wav, 24_000);
    assert_eq!(dispatcher_e2e::words_of(&wav, format), "Stand clear of the ramp.");
    let url = format!("{}/api/v1/comparisons/{id}/ratings", demo.url);
    let rate = async |first: i64, second: i64, score: i64| {
        let body = json!({"first": first, "second": second, "score": score});
        let response = demo.http.post(&url).bearer_auth(&demo.app).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    for (first, second, score) in [(1, 2, -2), (2, 1, 2), (1, 2, -1), (2, 1, 3)] {
        assert_eq!(rate(first, second, score).await.0, 201);
    }
    for (first, second, score) in [(1, 1, 0), (1, 3, 0), (1, 2, 4)] {
        assert_eq!(rate(first, second, score).await.0, 422);
    }
    let shown = as_app(&["compare", "--comparison", id, "--report", report.to_str().unwrap()]);
    assert!(shown.contains("espeak-ng/en-gb against heron/pellin") && shown.contains("-2 ± 1.3"), "{shown}");
    assert!(shown.contains("heron/pellin is preferred"), "{shown}");
    let page = std::fs::read_to_string(report).unwrap();
    assert!(page.contains("data:audio/wav;base64,UklGR") && !page.contains("http"), "it is whole");
    // It is its app's alone.
    let of_other = demo.client(&["app", "key", "add", "helpline"]);
    let key = String::from_utf8(of_other.stdout).unwrap();
    let path = format!("{}/api/v1/comparisons/{id}/audio/1", demo.url);
    assert_eq!(demo.http.get(&path).bearer_auth(key.trim()).send().await.unwrap().status(), 404);
    assert_eq!(demo.http.get(&path).bearer_auth(&demo.app).send().await.unwrap().status(), 200);
    demo.http.delete(format!("{}/api/v1/comparisons/{id}", demo.url)).bearer_auth(&demo.app).send().await.unwrap();
    assert_eq!(demo.http.get(&path).bearer_auth(&demo.app).send().await.unwrap().status(), 404);
}
