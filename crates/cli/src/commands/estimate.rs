//! `dispatcher estimate`.

use serde_json::Value;

use super::speak::{read_text, request_body};
use super::transcribe::media_type;
use crate::args::EstimateArgs;
use crate::client::{Client, json as read_json};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, args: EstimateArgs, json: bool) -> Result<(), CliError> {
    let answer = match &args.audio {
        Some(path) => {
            let query = [("route", args.route.as_deref())];
            let kind = media_type(path, None);
            read_json(client.post_file("/api/v1/estimates", &query, path, &kind, "application/json").await?).await?
        }
        None => {
            let text = read_text(args.text, args.file.as_deref())?;
            client.post("/api/v1/estimates", &request_body(text, &args.voice, None)).await?
        }
    };
    if json { output::print_json(&answer) } else { output::print(&render(&answer)) }
}

fn render(answer: &Value) -> String {
    let rows = answer["plan"].as_array().into_iter().flatten().enumerate().map(|(index, line)| {
        vec![
            (index + 1).to_string(),
            output::text(line, "engine"),
            output::text(line, "voice"),
            output::text(line, "model"),
            output::text(line, "engine_format"),
            output::money(&line["cost"]),
        ]
    });
    let table = output::table(&["", "engine", "voice", "model", "asked as", "cost"], rows.collect(), &[5]);
    let size = match answer["length"].as_f64() {
        Some(length) => format!("{length:.2} s of audio"),
        None => format!("{} characters", answer["characters"]),
    };
    let exact = if answer["exact"] == true { "exactly" } else { "at most" };
    let mut text = format!("{table}\n\n{size}, {exact} {}; nothing was sent.", output::money(&answer["cost"]));
    for warning in answer["warnings"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        text += &format!("\nwarning: {warning}");
    }
    text
}
