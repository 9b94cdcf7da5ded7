//! The demo as people start it: with samples of four weeks of work.

use crate::BINARY;
use std::process::Command;

use dispatcher_e2e::Demo;
use serde_json::Value;

fn items(list: &Value) -> &[Value] {
    list["items"].as_array().map_or(&[], Vec::as_slice)
}

/// The amounts of a list of usage, in billionths.
fn sum(list: &Value) -> i64 {
    let amounts = items(list).iter().map(|item| item["cost"]["amount"].as_str().unwrap().parse::<f64>().unwrap());
    amounts.map(|amount| (amount * 1e9).round() as i64).sum()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_demo_has_a_history_that_is_marked_and_results_that_are_real() {
    let demo = Demo::start_with_samples(BINARY).await;

    // Four weeks of usage, by any grouping the same sum.
    let days = "from=2000-01-01&to=2999-12-31";
    let by_day = demo.get(&format!("/api/v1/usage?by=day&{days}")).await;
    assert_eq!(by_day["sample"], true);
    assert!(items(&by_day).len() >= 29, "{} days", items(&by_day).len());
    let by_app = demo.get(&format!("/api/v1/usage?by=app,engine&{days}")).await;
    assert_eq!(sum(&by_day), sum(&by_app));
    assert!(sum(&by_day) > 10_000_000_000, "more than 10 EUR: {}", sum(&by_day));
    for (app, engine) in [("quay-announcer", "espeak-ng"), ("helpline", "flite"), ("drill-captions", "pocketsphinx")] {
        let group = serde_json::json!([app, engine]);
        assert!(items(&by_app).iter().any(|item| item["group"] == group), "{app} fell back on {engine}");
    }

    // What was made up is marked, and nothing else.
    let failed = demo.get("/api/v1/dispatches?state=failed&limit=500").await;
    assert!(!items(&failed).is_empty());
    let one = demo.get(&format!("/api/v1/dispatches/{}", items(&failed)[0]["id"].as_str().unwrap())).await;
    assert_eq!(one["sample"], true);
    assert!(one["attempts"][0]["cause"].is_string(), "{one}");
    let real = demo.get("/api/v1/dispatches?app=helpline&limit=1").await;
    assert_eq!(items(&real)[0].get("sample"), None, "the prompts were really made: {real}");
    let text = String::from_utf8(demo.client(&["usage"]).stdout).unwrap();
    assert!(text.contains("samples"), "{text}");

    // The price of heron rose, and its sheet says when.
    let sheet = demo.get("/api/v1/engines/heron/sheet").await;
    let versions = sheet["versions"].as_array().unwrap();
    assert_eq!((sheet["version"].as_i64(), versions.len()), (Some(2), 2), "{versions:?}");
    assert!(sheet["document"].as_str().unwrap().contains("0.000016"));

    // Results of real work.
    let jobs = demo.get("/api/v1/jobs").await;
    let state = |job: &Value| format!("{} {} {}", job["work"], job["state"], job["files"].as_array().unwrap().len());
    let states: Vec<String> = items(&jobs).iter().map(state).collect();
    assert_eq!(states.len(), 2, "{states:?}");
    assert!(states.iter().all(|state| state.contains("\"done\"") && !state.ends_with(" 0")), "{states:?}");
    let set = demo.get("/api/v1/prompt-sets/helpline").await;
    let approved: Vec<(&str, bool)> = set["lines"]
        .as_array()
        .unwrap()
        .iter()
        .map(|line| (line["id"].as_str().unwrap(), line["file"]["approved_by"].is_string()))
        .collect();
    assert!(approved.contains(&("welcome", true)) && approved.contains(&("goodbye", false)), "{set}");
    let favourites = demo.get("/api/v1/voices?favourite=true").await;
    assert_eq!(items(&favourites)[0]["id"], "heron/isolde", "{favourites}");
    assert_eq!(items(&demo.get("/api/v1/lexicons").await).len(), 1);
    assert_eq!(items(&demo.get("/api/v1/clips").await).len(), 1);

    // Twelve ratings, a credit that ends in nine days, and a bill with three differences.
    let compared = demo.get("/api/v1/comparisons").await;
    let path = format!("/api/v1/comparisons/{}", items(&compared)[0]["id"].as_str().unwrap());
    let compared = demo.get(&path).await;
    assert_eq!((&compared["ratings"], &compared["preferences"][0]["preferred"]), (&12.into(), &1.into()), "{compared}");
    let credits = demo.get("/api/v1/credits").await;
    let left = items(&credits)[0]["days_left"].as_f64().unwrap();
    assert!((9.0..=10.0).contains(&left), "{credits}");
    let bill = demo.data().join("heron-statement.csv");
    let done = demo.client(&["statement", "reconcile", "heron", bill.to_str().unwrap()]);
    assert!(!done.status.success());
    let told = String::from_utf8(done.stdout).unwrap();
    for cause in ["1 price", "1 billed twice", "1 unknown"] {
        assert!(told.contains(cause), "{told}");
    }

    // Started again, it has what it had; `serve` does not take it for real.
    let count = |list: &Value| items(list).iter().map(|item| item["requests"].as_i64().unwrap()).sum::<i64>();
    let (status, folder) = demo.terminate().await;
    assert!(status.success());
    let serve = Command::new(BINARY)
        .args(["serve", "--port", "0", "--data"])
        .arg(folder.path().join("data"))
        .current_dir(folder.path())
        .output()
        .unwrap();
    let told = String::from_utf8(serve.stderr).unwrap();
    assert!(!serve.status.success() && told.contains("sample data") && told.contains("--data"), "{told}");
    let again = Demo::start_in(BINARY, folder).await;
    let after = again.get(&format!("/api/v1/usage?by=day&{days}")).await;
    assert_eq!(count(&after), count(&by_day));
}
