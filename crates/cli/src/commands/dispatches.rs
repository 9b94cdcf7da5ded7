//! `dispatcher dispatches`.

use serde_json::Value;

use crate::args::DispatchesArgs;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: DispatchesArgs, form: OutputForm) -> Result<(), CliError> {
    if let Some(id) = &args.id {
        let dispatch = client.get(&format!("/api/v1/dispatches/{}", segment(id)), &[]).await?;
        return if form.is_json() { output::print_json(&dispatch) } else { output::print(&render_one(&dispatch)) };
    }
    let limit = args.limit.to_string();
    let query = [
        ("app", args.app.as_deref()),
        ("engine", args.engine.as_deref()),
        ("state", args.state.as_deref()),
        ("work", args.work.as_deref()),
        ("job", args.job.as_deref()),
        ("limit", Some(limit.as_str())),
    ];
    let list = client.get("/api/v1/dispatches", &query).await?;
    form.print(&list, || render(&list))
}

/// Said below records that were made up for the demo.
pub(super) const SAMPLES: &str =
    "Records from before the start of the demo are samples: they were made up, and no engine was called.";

/// The list as a table.
pub(crate) fn render(list: &Value) -> String {
    let rows = output::items(list);
    if rows.is_empty() {
        return "No requests match. Make the first: dispatcher speak \"Good morning\" -o good.mp3".into();
    }
    let sampled = rows.iter().any(|row| row["sample"] == true);
    let rows = rows.iter().map(|row| {
        let voice = output::text(row, "voice");
        let engine = output::text(row, "engine");
        vec![
            output::short_id(row, "id"),
            output::time(&row["started"]),
            output::text(row, "app"),
            output::text(row, "requested"),
            if voice.is_empty() { engine } else { format!("{engine}/{voice}") },
            output::text(row, "state"),
            output::milliseconds(&row["first_audio"]),
            output::seconds(&row["duration"]),
            output::money_cell(&row["cost"]),
        ]
    });
    let head =
        ["dispatch", "started (UTC)", "app", "requested", "answered by", "state", "first audio", "duration", "cost"];
    let table = output::table(&head, rows.collect(), &[6, 7, 8]);
    if sampled { format!("{table}\n{SAMPLES}") } else { table }
}

/// One dispatch with its attempts and ledger lines.
pub(crate) fn render_one(dispatch: &Value) -> String {
    let mut text = format!(
        "{} {} of {} for {}, {}\n  started {}  first audio {}  total {}  {} of audio as {}  {}\n",
        output::text(dispatch, "id"),
        output::text(dispatch, "work"),
        output::text(dispatch, "app"),
        output::text(dispatch, "requested"),
        output::text(dispatch, "state"),
        output::time(&dispatch["started"]),
        output::milliseconds(&dispatch["first_audio"]),
        output::milliseconds(&dispatch["total"]),
        output::seconds(&dispatch["duration"]),
        output::text(dispatch, "media_type"),
        output::money(&dispatch["cost"]),
    );
    if let Some(problem) = dispatch["problem"].as_str() {
        text += &format!("  {problem}\n");
    }
    if dispatch["saved"].is_object() {
        text +=
            &format!("  Answered with kept audio; an engine would have cost {}\n", output::money(&dispatch["saved"]));
    }
    if dispatch["sample"] == true {
        text += "  A sample: made up for the demo; no engine was called\n";
    }
    let rows = dispatch["attempts"].as_array().into_iter().flatten().map(|attempt| {
        vec![
            output::text(attempt, "number"),
            output::text(attempt, "engine"),
            output::text(attempt, "voice"),
            output::text(attempt, "model"),
            output::text(attempt, "state"),
            output::text(attempt, "cause"),
            output::milliseconds(&attempt["offset"]),
            output::milliseconds(&attempt["first_audio"]),
            output::milliseconds(&attempt["total"]),
            output::text(attempt, "detail"),
        ]
    });
    let head = ["attempt", "engine", "voice", "model", "state", "cause", "after", "first", "total", "why"];
    text += &format!("\n{}\n", output::table(&head, rows.collect(), &[6, 7, 8]));
    let lines = dispatch["ledger"].as_array().into_iter().flatten().map(|line| {
        vec![
            output::text(line, "kind"),
            output::text(line, "attempt"),
            output::text(line, "engine"),
            output::text(line, "characters"),
            output::seconds(&line["duration"]),
            output::money_cell(&line["cost"]),
        ]
    });
    text + &format!(
        "\n{}",
        output::table(&["ledger", "attempt", "engine", "characters", "duration", "cost"], lines.collect(), &[3, 4, 5])
    )
}
