//! What a newcomer finds in a new demo: the history, and what was made by the
//! product's own calls: two jobs, a prompt set that is half approved, a
//! favourite voice, allowances.

use std::path::Path;
use std::time::{Duration, Instant};

use dispatcher_core::{Allowance, AllowanceAmount, AllowancePeriod, Currency, Money, StatementMapping};
use dispatcher_gateway::{Credit, Gateway, day_of, now_micros, rfc3339};
use dispatcher_store::{NewVersion, Store, VersionOrigin, VersionedKind};
use reqwest::Method;
use reqwest::header::{ACCEPT, CONTENT_TYPE};
use serde_json::{Value, json};

use super::history;
use super::scenario::{HANDBOOK, SHEETS};
use crate::client::{self, Client};
use crate::error::CliError;
use crate::output;

/// How long the jobs may take on a slow machine.
const PATIENCE: Duration = Duration::from_secs(300);
/// Chapters of the handbook that are spoken: two minutes each.
const CHAPTERS: usize = 3;
/// Prompts of the set that are approved; the others are left for the reader.
const APPROVED: [&str; 2] = ["welcome", "choose"];

/// Writes heron's sheet as it was before its price rose, and since; before the
/// service first reads it.
pub(super) async fn write_sheet_versions(data: &Path, sheets: &Path) -> Result<(), CliError> {
    let (file, current) =
        SHEETS.into_iter().find(|(file, _)| *file == "heron.toml").ok_or_else(|| failed("heron has no sheet"))?;
    let now = now_micros();
    let old = current.replace("\"0.000016\"", &format!("\"{}\"", history::OLD_PRICE));
    let origin = VersionOrigin::File(sheets.join(file).to_string_lossy().into_owned());
    let store = Store::open(&data.join("records.db")).map_err(failed)?;
    for (document, at) in [(old, history::beginning(now)), (current.to_owned(), history::price_rise(now))] {
        let (kind, name) = (VersionedKind::Sheet, "heron".to_owned());
        let new = NewVersion { kind, name, app: None, always: false, document, origin: origin.clone() };
        store.put_version(new, at).await.map_err(failed)?;
    }
    store.close();
    Ok(())
}

fn failed(why: impl std::fmt::Display) -> CliError {
    CliError::Failed(format!("the samples of the demo cannot be made: {why}"))
}

/// Fills a new demo. `app` calls for quay-announcer.
pub(super) async fn fill(gateway: &Gateway, operator: &Client, app: &Client) -> Result<(), CliError> {
    gateway.add_samples(history::history(now_micros())?).await.map_err(failed)?;
    let (handbook, recording) = tokio::try_join!(speak_handbook(app), transcribe_recording(app))?;
    operator.send(operator.request(Method::PUT, "/api/v1/voices/heron/isolde/favourite")).await?;
    make_prompts(operator).await?;
    tokio::try_join!(finish(app, &handbook), finish(app, &recording))?;
    compare_voices(operator).await?;
    add_allowances(gateway).await
}

/// A comparison of two voices, one of which costs more, with twelve ratings.
async fn compare_voices(operator: &Client) -> Result<(), CliError> {
    let text = "The ferry to Gullsay leaves from quay two at a quarter past six.";
    let voices = ["heron/pellin", "godwit/maren"];
    let made = operator.post("/api/v1/comparisons", &json!({"text": text, "voices": voices})).await?;
    let path = format!("/api/v1/comparisons/{}/ratings", output::text(&made, "id"));
    // Each pair is heard in both orders.
    for (number, score) in [-1, 2, -1, 1, -2, 1, 0, 2, -1, 3, -2, 1].into_iter().enumerate() {
        let (first, second) = if number % 2 == 0 { (1, 2) } else { (2, 1) };
        operator.post(&path, &json!({"first": first, "second": second, "score": score})).await?;
    }
    Ok(())
}

/// The statement of heron, in the demo's folder.
const STATEMENT: &str = "heron-statement.csv";
/// Days of a statement, and of a trial credit.
const STATEMENT_DAYS: i64 = 3;
const TRIAL_DAYS: i64 = 9;
const DAY: i64 = 86_400_000_000;

/// A trial credit of heron that ends in nine days, and a statement of heron
/// with three differences: one call at twice its price, one that is billed
/// twice, and one that is missing.
pub(super) async fn add_bills(gateway: &Gateway, data: &Path) -> Result<(), CliError> {
    let now = now_micros();
    let credit = Credit {
        engine: "heron".into(),
        name: "trial".into(),
        work: None,
        amount: AllowanceAmount::Cost(Money { nanos: 30_000_000_000, currency: Currency::EUR }),
        period: AllowancePeriod::Total,
        from: None,
        until: Some(day_of(now + TRIAL_DAYS * DAY)),
    };
    gateway.put_credit(&credit, "demo").await.map_err(failed)?;
    let mapping = StatementMapping::of("Used at", "Charge", Currency::EUR);
    gateway.put_statement_mapping("heron", &mapping, "demo").await.map_err(failed)?;
    let days = (day_of(now - STATEMENT_DAYS * DAY), day_of(now - DAY));
    let mut charges = gateway.engine_charges("heron", days).await.map_err(failed)?;
    charges.retain(|charge| !charge.failed);
    let middle = charges.len() / 2;
    let mut csv = String::from("Used at,Call,Charge\n");
    for (number, charge) in charges.iter().enumerate().filter(|(number, _)| *number != middle + 4) {
        let factor = if number == middle { 2 } else { 1 };
        let amount = Money { nanos: charge.amount.nanos * factor, ..charge.amount };
        let line = format!("{},{},{}\n", rfc3339(charge.at * 1_000_000), number + 1, amount.amount());
        csv.push_str(&line);
        if number == middle + 2 {
            csv.push_str(&line);
        }
    }
    let file = data.join(STATEMENT);
    std::fs::write(&file, csv).map_err(|source| CliError::File { path: file, source })
}

/// Allowances of the three apps; that of the helpline is nearly used.
async fn add_allowances(gateway: &Gateway) -> Result<(), CliError> {
    let euros = |nanos| AllowanceAmount::Cost(Money { nanos, currency: Currency::EUR });
    let add = async |app: &str, amount: AllowanceAmount, period: AllowancePeriod| {
        gateway.add_allowance(app, None, Allowance { amount, period }, "demo").await.map_err(failed)
    };
    add("quay-announcer", euros(20_000_000_000), AllowancePeriod::Month).await?;
    add("quay-announcer", AllowanceAmount::Requests(2_000), AllowancePeriod::Day).await?;
    add("drill-captions", AllowanceAmount::Milliseconds(36_000_000), AllowancePeriod::Week).await?;
    let all = add("helpline", euros(i64::MAX), AllowancePeriod::Total).await?;
    gateway.remove_allowance("helpline", &all.row.id, "demo").await.map_err(failed)?;
    // Whole cents.
    let nearly = all.used.count() / 90 * 100 / 10_000_000 * 10_000_000;
    add("helpline", euros(nearly), AllowancePeriod::Total).await?;
    Ok(())
}

/// The first chapters of the handbook, a file for each.
async fn speak_handbook(app: &Client) -> Result<String, CliError> {
    let end = HANDBOOK.match_indices("\n## ").nth(CHAPTERS).map_or(HANDBOOK.len(), |(at, _)| at);
    let query = [
        ("title", "Safety handbook, chapters 1 to 3"),
        ("split", "heading:2"),
        ("voice", "heron/tarrick"),
        ("type", "gate-screen"),
        ("filename", "handbook.md"),
    ];
    let request = app.request(Method::POST, "/api/v1/jobs").query(&query).header(CONTENT_TYPE, "text/markdown");
    let job = client::json(app.send(request.body(&HANDBOOK[..end])).await?).await?;
    Ok(output::text(&job, "id"))
}

/// Has a chapter spoken, and the recording of it written down.
async fn transcribe_recording(app: &Client) -> Result<String, CliError> {
    let chapter = HANDBOOK.split("\n## ").nth(2).and_then(|chapter| chapter.split_once("\n\n")).map(|(_, text)| text);
    let text = chapter.ok_or_else(|| failed("the handbook has no second chapter"))?;
    let body = json!({"text": text, "voice": "heron/wade", "language": "en-GB", "audio": {"type": "mp3"}});
    let request = app.request(Method::POST, "/api/v1/utterances").header(ACCEPT, "*/*").json(&body);
    let recording = app.send(request).await?.bytes().await.map_err(CliError::Broken)?;
    let query = [("title", "Briefing before departure"), ("route", "captions"), ("language", "en-GB")];
    let request = app.request(Method::POST, "/api/v1/transcripts").query(&query);
    let request = request.header("Prefer", "respond-async").header(CONTENT_TYPE, "audio/mpeg").body(recording);
    let job = client::json(app.send(request).await?).await?;
    Ok(output::text(&job, "id"))
}

/// Makes all prompts of the helpline, and approves some.
async fn make_prompts(operator: &Client) -> Result<(), CliError> {
    operator.post("/api/v1/prompt-sets/helpline/make", &json!({})).await?;
    for id in APPROVED {
        let path = format!("/api/v1/prompt-sets/helpline/prompts/{id}/approval");
        operator.put(&path, &json!({"approved": true})).await?;
    }
    Ok(())
}

/// Waits for the end of a job.
async fn finish(app: &Client, id: &str) -> Result<(), CliError> {
    let begun = Instant::now();
    loop {
        let job: Value = app.get(&format!("/api/v1/jobs/{id}"), &[]).await?;
        match job["state"].as_str() {
            Some("done") => return Ok(()),
            Some("queued" | "running" | "waiting") if begun.elapsed() < PATIENCE => {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            _ => return Err(failed(format!("{} is {}", job["title"], job["state"]))),
        }
    }
}
