//! `dispatcher compare --say`: the same text by several voices side by side.

use std::path::Path;

use reqwest::Method;
use serde_json::{Value, json};

use crate::args::CompareArgs;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(super) async fn run(client: &Client, args: CompareArgs, form: OutputForm) -> Result<(), CliError> {
    let compared = match (&args.comparison, &args.say) {
        (Some(id), _) => client.get(&format!("/api/v1/comparisons/{}", segment(id)), &[]).await?,
        (None, say) => {
            let body = json!({"text": say, "voices": args.voice, "language": args.language});
            client.post("/api/v1/comparisons", &body).await?
        }
    };
    if let Some(folder) = &args.output {
        write_audio(client, &compared, folder).await?;
    }
    if let Some(file) = &args.report {
        let path = format!("/api/v1/comparisons/{}/report", output::text(&compared, "id"));
        fetch(client, &path, file).await?;
        eprintln!("Wrote {}", file.display());
    }
    form.print(&compared, || render(&compared))
}

async fn fetch(client: &Client, path: &str, file: &Path) -> Result<(), CliError> {
    let answer = client.send(client.request(Method::GET, path)).await?;
    let bytes = answer.bytes().await.map_err(CliError::Broken)?;
    std::fs::write(file, bytes).map_err(|source| CliError::File { path: file.to_owned(), source })
}

async fn write_audio(client: &Client, compared: &Value, folder: &Path) -> Result<(), CliError> {
    std::fs::create_dir_all(folder).map_err(|source| CliError::File { path: folder.to_owned(), source })?;
    for voice in compared["voices"].as_array().into_iter().flatten() {
        let Some(path) = voice["audio"].as_str() else { continue };
        let name = output::text(voice, "voice").replace('/', "-");
        let file = folder.join(format!("{}-{name}.wav", voice["number"]));
        fetch(client, path, &file).await?;
        eprintln!("Wrote {}", file.display());
    }
    Ok(())
}

fn render(compared: &Value) -> String {
    let voices = compared["voices"].as_array().cloned().unwrap_or_default();
    let rows = voices.iter().map(|voice| {
        let unit = |member: &str, unit: &str| match voice[member].as_f64() {
            Some(number) => format!("{number} {unit}"),
            None => String::new(),
        };
        vec![
            output::text(voice, "number"),
            output::text(voice, "voice"),
            output::money_cell(&voice["cost"]),
            output::milliseconds(&voice["first"]),
            output::milliseconds(&voice["total"]),
            unit("loudness", "LUFS"),
            output::seconds(&voice["duration"]),
            output::text(voice, "fault"),
        ]
    });
    let head = ["no.", "voice", "cost", "first audio", "total", "loudness", "duration", ""];
    let mut shown = vec![
        format!("Comparison {}: {}", output::short_id(compared, "id"), output::text(compared, "text")),
        output::table(&head, rows.collect(), &[0, 2, 3, 4, 5, 6]),
    ];
    let preferences = compared["preferences"].as_array().cloned().unwrap_or_default();
    match preferences.is_empty() {
        true => shown.push("Nobody has rated it yet; rate it on the page Compare of the console.".into()),
        false => shown.push(render_preferences(compared, &voices, &preferences)),
    }
    shown.join("\n")
}

fn render_preferences(compared: &Value, voices: &[Value], preferences: &[Value]) -> String {
    let name = |number: &Value| {
        voices
            .iter()
            .find(|voice| voice["number"] == *number)
            .map(|voice| output::text(voice, "voice"))
            .unwrap_or_default()
    };
    let rows = preferences.iter().map(|preference| {
        let interval = preference["interval"].as_f64().map_or_else(String::new, |interval| format!(" ± {interval}"));
        let result = match &preference["preferred"] {
            Value::Null => "no certain preference".to_owned(),
            number => format!("{} is preferred", name(number)),
        };
        let ratio = preference["price_ratio"].as_f64().map_or_else(|| "-".to_owned(), |ratio| format!("{ratio} ×"));
        vec![
            format!("{} against {}", name(&preference["other"]), name(&preference["one"])),
            format!("{:+}{interval}", preference["mean"].as_f64().unwrap_or_default()),
            output::text(preference, "count"),
            ratio,
            result,
        ]
    });
    let table = output::table(&["pair", "mean", "ratings", "price", "result"], rows.collect(), &[1, 2, 3]);
    format!("\n{} ratings, from -3 (much worse) to 3 (much better)\n{table}", compared["ratings"])
}
