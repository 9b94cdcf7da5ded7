//! `dispatcher transcript`: transcripts that are kept.

use reqwest::Method;
use reqwest::header::ACCEPT;
use serde_json::{Value, json};

use super::speak::read_text;
use crate::args::{TranscriptCommand, TranscriptFormat};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

fn place(id: &str) -> String {
    format!("/api/v1/transcripts/{}", segment(id))
}

pub(crate) async fn run(client: &Client, command: TranscriptCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        TranscriptCommand::List { app } => {
            let list = client.get("/api/v1/transcripts", &[("app", app.as_deref())]).await?;
            form.print(&list, || render(&list))
        }
        TranscriptCommand::Show { id, number, format } => {
            let format = if form.is_json() { TranscriptFormat::Json } else { format };
            let mut request = client.request(Method::GET, &place(&id)).header(ACCEPT, format.media_type());
            if let Some(version) = number {
                request = request.query(&[("version", version)]);
            }
            let text = client.send(request).await?.text().await.map_err(CliError::Broken)?;
            match format {
                TranscriptFormat::Json => output::print_json(&serde_json::from_str(&text).unwrap_or(Value::Null)),
                _ => output::print(&text),
            }
        }
        TranscriptCommand::Versions { id } => {
            let kept = client.get(&place(&id), &[]).await?;
            form.print(&kept["versions"], || render_versions(&kept["versions"]))
        }
        TranscriptCommand::Correct { id, file, from } => {
            let text = read_text(None, file.as_deref())?;
            let version = match from {
                Some(version) => json!(version),
                None => client.get(&place(&id), &[]).await?["version"].clone(),
            };
            let kept = client.put(&place(&id), &json!({"text": text, "version": version})).await?;
            if form.is_json() {
                return output::print_json(&kept);
            }
            eprintln!("Transcript {} is now version {}", output::short_id(&kept, "id"), kept["version"]);
            Ok(())
        }
        TranscriptCommand::Remove { id } => {
            client.delete(&place(&id)).await?;
            eprintln!("Removed transcript {id}");
            Ok(())
        }
    }
}

fn render(list: &Value) -> String {
    let rows: Vec<Vec<String>> = output::items(list)
        .into_iter()
        .map(|one| {
            let text = |member| output::text(&one, member);
            vec![
                output::short_id(&one, "id"),
                output::time(&one["created"]),
                text("app"),
                text("title"),
                text("engine"),
                text("language"),
                output::seconds(&one["duration"]),
                output::time(&one["expires"]),
            ]
        })
        .collect();
    if rows.is_empty() {
        return "No transcripts are kept. To keep an app's: dispatcher app change APP --transcript-days 30".into();
    }
    output::table(&["id", "made", "app", "title", "engine", "language", "duration", "expires"], rows, &[6])
}

fn render_versions(versions: &Value) -> String {
    let rows = versions
        .as_array()
        .into_iter()
        .flatten()
        .map(|one| vec![one["version"].to_string(), output::time(&one["at"]), output::text(one, "by")]);
    output::table(&["version", "made", "by"], rows.collect(), &[0])
}
