//! What the end of a day in UTC changes, with a clock that is turned.

use crate::BINARY;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};
use std::process::Command;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

const DAY: i64 = 86_400;

fn now() -> i64 {
    i64::try_from(SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()).unwrap()
}

/// `YYYY-MM-DD` in UTC.
fn day_of(seconds: i64) -> String {
    let told = Command::new("date").args(["-u", "+%F", "-d", &format!("@{seconds}")]).output().unwrap();
    String::from_utf8(told.stdout).unwrap().trim().to_owned()
}

async fn until(demo: &Demo, job: &str, state: &str) -> Value {
    let begun = Instant::now();
    loop {
        let told = demo.get(&format!("/api/v1/jobs/{job}")).await;
        if told["state"] == state {
            return told;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "not {state}: {told}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Day, characters and amount of the settlements of a job, by day.
async fn settlements(demo: &Demo, job: &str) -> Vec<(String, u64, String)> {
    let list = demo.get(&format!("/api/v1/dispatches?job={job}")).await;
    let mut settled = Vec::new();
    for dispatch in list["items"].as_array().unwrap() {
        let details = demo.get(&format!("/api/v1/dispatches/{}", dispatch["id"].as_str().unwrap())).await;
        for entry in details["ledger"].as_array().unwrap().iter().filter(|entry| entry["kind"] == "settle") {
            let text = |value: &Value| value.as_str().unwrap().to_owned();
            let (day, amount) = (text(&entry["at"])[..10].to_owned(), text(&entry["cost"]["amount"]));
            settled.push((day, entry["characters"].as_u64().unwrap(), amount));
        }
    }
    settled.sort();
    settled
}

#[tokio::test]
async fn a_price_that_changes_at_midnight_in_the_middle_of_a_job_applies_to_the_calls_after_it() {
    // Ten minutes before the next day, whenever this runs.
    let before_midnight = DAY - now().rem_euclid(DAY) - 600;
    let demo = Demo::start_with_clock(BINARY, before_midnight).await;
    let days = [now(), now() + DAY].map(day_of);
    let tariff = json!({"currency": "EUR", "per": "character", "price": "0.001", "changes": [{"from": days[1], "price": "0.003"}]});
    let set = demo.http.put(format!("{}/api/v1/tariffs/heron/synthesis", demo.url)).bearer_auth(&demo.operator);
    let set = set.json(&tariff).send().await.unwrap();
    assert_eq!(set.status(), 200, "{}", set.text().await.unwrap());

    // The first call is answered; the other one waits until the engine is back, on the next day.
    demo.weather(json!({"weather": "down", "skip": 1})).await;
    let document = "# Gate 1\n\nGate one opens.\n\n# Gate 2\n\nGate two opens at noon.\n";
    let submitted = demo.post("/api/v1/jobs?split=heading&voice=heron/pellin").header("Content-Type", "text/markdown");
    let submitted = submitted.body(document).send().await.unwrap();
    let status = submitted.status();
    let job: Value = submitted.json().await.unwrap();
    assert_eq!(status, 202, "{job}");
    let id = job["id"].as_str().unwrap().to_owned();
    until(&demo, &id, "waiting").await;
    demo.turn_clock(before_midnight + 1_200);
    demo.weather(Value::Null).await;
    until(&demo, &id, "done").await;

    let settled = settlements(&demo, &id).await;
    let told: Vec<&str> = settled.iter().map(|(day, _, _)| day.as_str()).collect();
    assert_eq!(told, days, "one call on each day");
    for ((_, characters, amount), price) in settled.iter().zip([1_000, 3_000]) {
        let micros = characters * price;
        assert_eq!(*amount, format!("0.{micros:06}"), "{characters} characters");
    }
    let usage = demo.get(&format!("/api/v1/usage?by=day&from={}&to={}", days[0], days[1])).await;
    let by_day = usage["items"].as_array().unwrap().iter();
    let by_day: Vec<_> = by_day.map(|row| json!([row["group"][0], row["cost"]["amount"]])).collect();
    let charged: Vec<_> = settled.iter().map(|(day, _, amount)| json!([day, amount])).collect();
    assert_eq!(by_day, charged);
    assert!(demo.client(&["ledger", "check"]).status.success());
}
