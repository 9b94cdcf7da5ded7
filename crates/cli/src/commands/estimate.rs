//! `dispatcher estimate`.

use std::path::Path;

use reqwest::Method;
use serde_json::Value;

use super::speak::{read_text, request_body};
use super::transcribe::media_type;
use super::upload;
use crate::args::EstimateArgs;
use crate::client::{Client, json as read_json};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: EstimateArgs, form: OutputForm) -> Result<(), CliError> {
    let answer = match &args.audio {
        Some(path) => {
            let query = [("route", args.route.as_deref()), ("engine", args.engine.as_deref())];
            of_audio(client, path, &query).await?
        }
        None => {
            let text = read_text(args.text, args.file.as_deref())?;
            client.post("/api/v1/estimates", &request_body(text, &args.voice, None)).await?
        }
    };
    form.print(&answer, || render(&answer))
}

/// What a recording would cost.
pub(super) async fn of_audio(client: &Client, path: &Path, query: &[(&str, Option<&str>)]) -> Result<Value, CliError> {
    let kind = media_type(path, None);
    if !upload::is_large(path) {
        return read_json(client.post_file("/api/v1/estimates", query, path, &kind, "application/json").await?).await;
    }
    let id = upload::in_parts(client, path, &kind).await?;
    let estimate = of_upload(client, &id, query).await;
    // Nothing else is made of it.
    let _ = client.delete(&format!("/api/v1/uploads/{id}")).await;
    estimate
}

/// What an upload of audio would cost.
pub(super) async fn of_upload(client: &Client, id: &str, query: &[(&str, Option<&str>)]) -> Result<Value, CliError> {
    let given: Vec<(&str, &str)> = query.iter().filter_map(|(name, value)| Some((*name, (*value)?))).collect();
    let request = client.request(Method::POST, "/api/v1/estimates").query(&given).query(&[("upload", id)]);
    read_json(client.send(request).await?).await
}

pub(super) fn render(answer: &Value) -> String {
    let rows = answer["plan"].as_array().into_iter().flatten().enumerate().map(|(index, line)| {
        vec![
            (index + 1).to_string(),
            output::text(line, "engine"),
            output::text(line, "voice"),
            output::text(line, "model"),
            output::text(line, "engine_format"),
            output::money_cell(&line["cost"]),
        ]
    });
    let table = output::table(&["", "engine", "voice", "model", "asked as", "cost"], rows.collect(), &[5]);
    let size = match answer["duration"].as_f64() {
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
