//! `dispatcher canary`.

use serde_json::{Value, json};

use crate::args::{CanaryArgs, CanaryCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: CanaryCommand, form: OutputForm) -> Result<(), CliError> {
    let path = |name: &str| format!("/api/v1/canaries/{}", segment(name));
    match command {
        CanaryCommand::List => {
            let list = client.get("/api/v1/canaries", &[]).await?;
            form.print(&list, || render(&output::items(&list)))
        }
        CanaryCommand::Set(args) => {
            let canary = client.put(&path(&args.name), &body(&args)).await?;
            form.print(&canary, || {
                format!("Canary {0} runs within half a minute, or now: dispatcher canary run {0}", args.name)
            })
        }
        CanaryCommand::Show { name, limit } => show(client, &path(&name), limit, form).await,
        CanaryCommand::Run { name } => {
            let canary = client.post(&format!("{}/runs", path(&name)), &json!({})).await?;
            form.print(&canary, || report(&canary))?;
            match output::text(&canary, "state").as_str() {
                "unchanged" => Ok(()),
                state => Err(CliError::Failed(format!("canary {name}: {state}"))),
            }
        }
        CanaryCommand::Accept { name } => {
            let canary = client.post(&format!("{}/accept", path(&name)), &json!({})).await?;
            form.print(&canary, || report(&canary))
        }
        CanaryCommand::Retire { name } => {
            client.delete(&path(&name)).await?;
            eprintln!("Retired canary {name}");
            Ok(())
        }
    }
}

fn body(args: &CanaryArgs) -> Value {
    let CanaryArgs { name: _, voice, text, app, ear, language, every } = args;
    json!({"voice": voice, "text": text, "app": app, "ear": ear, "language": language, "every": every})
}

async fn show(client: &Client, path: &str, limit: u32, form: OutputForm) -> Result<(), CliError> {
    let canary = client.get(path, &[]).await?;
    let runs = client.get(&format!("{path}/runs"), &[("limit", Some(&limit.to_string()))]).await?;
    if form.is_json() {
        return output::print_json(&json!({"canary": canary, "runs": runs["items"]}));
    }
    output::print(&format!("{}\n\n{}", report(&canary), render_runs(&output::items(&runs))))
}

/// What the last run found, in a few lines.
fn report(canary: &Value) -> String {
    let text = |member| output::text(canary, member);
    let head = format!("{}, {}: {}", text("name"), text("voice"), output::state(&text("state")));
    let mut lines = vec![head, format!("  \"{}\", every {} min", text("text"), text("every"))];
    lines.extend(found(&canary["latest"]).into_iter().map(|line| format!("  {line}")));
    lines.join("\n")
}

/// The fault of a run, or in what it differs from the reference.
fn found(run: &Value) -> Vec<String> {
    match run["fault"].as_str() {
        Some(fault) => vec![fault.to_owned()],
        None => output::items(&json!({"items": run["departures"]})).iter().map(|it| output::text(it, "told")).collect(),
    }
}

fn measured(value: &Value, unit: &str) -> String {
    value.as_f64().map_or_else(String::new, |value| format!("{value:.1} {unit}"))
}

fn render(canaries: &[Value]) -> String {
    if canaries.is_empty() {
        return "No canaries yet. Set one: dispatcher canary set NAME ENGINE/VOICE TEXT --app APP".into();
    }
    let rows = canaries.iter().map(|canary| {
        let latest = &canary["latest"];
        vec![
            output::text(canary, "name"),
            output::text(canary, "voice"),
            output::text(canary, "state"),
            output::time(&latest["at"]),
            found(latest).join("; "),
        ]
    });
    output::table(&["canary", "voice", "state", "last run", ""], rows.collect(), &[])
}

fn render_runs(runs: &[Value]) -> String {
    if runs.is_empty() {
        return "No runs yet.".into();
    }
    let rows = runs.iter().map(|run| {
        let note = if run["is_reference"] == true { "reference".to_owned() } else { found(run).join("; ") };
        let misheard =
            run["word_error_rate"].as_f64().map_or_else(String::new, |rate| format!("{:.0} %", rate * 100.0));
        vec![
            output::time(&run["at"]),
            output::seconds(&run["duration"]),
            measured(&run["loudness"], "LUFS"),
            measured(&run["pitch"], "Hz"),
            misheard,
            note,
        ]
    });
    output::table(&["run", "duration", "loudness", "pitch", "misheard", ""], rows.collect(), &[1, 2, 3, 4])
}
