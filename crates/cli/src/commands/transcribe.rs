//! `dispatcher transcribe`.

use std::path::Path;

use reqwest::Method;

use super::upload;
use crate::args::{TranscribeArgs, TranscriptFormat};
use crate::client::{self, Client};
use crate::error::CliError;
use crate::files::Existing;
use crate::output::{self, OutputForm};

/// The media type of a file by its extension; the service looks for itself.
pub(super) fn media_type(path: &Path, given: Option<&str>) -> String {
    if let Some(given) = given {
        return given.to_owned();
    }
    let extension = path.extension().and_then(|extension| extension.to_str()).unwrap_or_default();
    match dispatcher_audio::Codec::from_extension(extension) {
        Some(codec) if codec.describes_itself() => dispatcher_audio::Format::new(codec, 24_000).media_type(),
        Some(dispatcher_audio::Codec::Mulaw) => "audio/basic".into(),
        Some(dispatcher_audio::Codec::Alaw) => "audio/PCMA".into(),
        _ => "application/octet-stream".into(),
    }
}

impl TranscriptFormat {
    pub(super) fn media_type(self) -> &'static str {
        match self {
            TranscriptFormat::Text => "text/plain",
            TranscriptFormat::Json => "application/json",
            TranscriptFormat::Vtt => "text/vtt",
            TranscriptFormat::Srt => "application/x-subrip",
            TranscriptFormat::Csv => "text/csv",
            TranscriptFormat::Ctm => "text/x-ctm",
            TranscriptFormat::Rttm => "text/x-rttm",
        }
    }

    /// What the files of a job end in.
    fn extension(self) -> &'static str {
        match self {
            TranscriptFormat::Text => "txt",
            TranscriptFormat::Json => "json",
            TranscriptFormat::Vtt => "vtt",
            TranscriptFormat::Srt => "srt",
            TranscriptFormat::Csv => "csv",
            TranscriptFormat::Ctm => "ctm",
            TranscriptFormat::Rttm => "rttm",
        }
    }
}

pub(crate) async fn run(client: &Client, args: TranscribeArgs, form: OutputForm) -> Result<(), CliError> {
    if let Some(path) = &args.output {
        crate::files::check_target(path, Existing::with(args.force))?;
    }
    let format = if form.is_json() { TranscriptFormat::Json } else { args.format };
    let alternatives = args.alternatives.map(|count| count.to_string());
    let mut query = vec![
        ("hints", args.hearer.hints.as_deref()),
        ("languages", args.languages.as_deref()),
        ("context", args.context.as_deref()),
        ("speakers", args.speakers.then_some("true")),
        ("channels", args.channels.then_some("true")),
        ("alternatives", alternatives.as_deref()),
        ("unsupported", args.strict.then_some("refuse")),
    ];
    query.extend(args.hearer.parameters());
    if let Some(url) = address(&args.audio) {
        query.push(("url", Some(url)));
        let given: Vec<(&str, &str)> = query.iter().filter_map(|(name, value)| Some((*name, (*value)?))).collect();
        let request = client.request(Method::POST, "/api/v1/transcripts").query(&given);
        let response = client.send(request.header(reqwest::header::ACCEPT, format.media_type())).await?;
        return answer(&args, response, format).await;
    }
    let kind = media_type(&args.audio, args.hearer.kind.as_deref());
    if upload::is_large(&args.audio) {
        return as_job(client, &args, &query, &kind, format).await;
    }
    let response = match client.post_file("/api/v1/transcripts", &query, &args.audio, &kind, format.media_type()).await
    {
        // No engine takes it at once; a job has it recognised in parts.
        Err(CliError::Problem(problem)) if problem.is("audio-too-long") && args.audio.as_os_str() != "-" => {
            return as_job(client, &args, &query, &kind, format).await;
        }
        response => response?,
    };
    answer(&args, response, format).await
}

/// An address in place of a file.
fn address(audio: &Path) -> Option<&str> {
    audio.to_str().filter(|text| text.starts_with("https://") || text.starts_with("http://"))
}

/// Tells what is in an answer.
async fn answer(args: &TranscribeArgs, response: reqwest::Response, format: TranscriptFormat) -> Result<(), CliError> {
    let header =
        |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
    let (engine, cost) = (header("dispatch-engine"), header("dispatch-cost"));
    for warning in response.headers().get_all("dispatch-warning").iter().filter_map(|warning| warning.to_str().ok()) {
        eprintln!("{} {warning}", output::paint("warning:", output::Colour::Warn));
    }
    let mut text = response.text().await.map_err(CliError::Broken)?;
    if format == TranscriptFormat::Json {
        let value: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
        text = serde_json::to_string_pretty(&value).unwrap_or(text);
    }
    give(args, &text)?;
    eprintln!("{engine}  {}", output::money_text(&cost));
    Ok(())
}

fn give(args: &TranscribeArgs, text: &str) -> Result<(), CliError> {
    match &args.output {
        Some(path) => std::fs::write(path, text).map_err(|source| CliError::File { path: path.clone(), source }),
        None => output::print(text),
    }
}

/// A recording that is too long for one call: its cost is shown, a job has it
/// recognised, and its transcript is given as that of any other.
async fn as_job(
    client: &Client,
    args: &TranscribeArgs,
    query: &[(&str, Option<&str>)],
    kind: &str,
    format: TranscriptFormat,
) -> Result<(), CliError> {
    let id = upload::in_parts(client, &args.audio, kind).await?;
    let estimate = super::estimate::of_upload(client, &id, query).await?;
    let length = output::seconds(&estimate["duration"]);
    eprintln!(
        "{length} of audio is too long for one call; it is transcribed as a job, estimated cost {}",
        output::money(&estimate["cost"])
    );
    let given: Vec<(&str, &str)> = query.iter().filter_map(|(name, value)| Some((*name, (*value)?))).collect();
    let title = args.audio.file_stem().and_then(|stem| stem.to_str()).unwrap_or("recording");
    let request = client
        .request(Method::POST, "/api/v1/transcripts")
        .query(&given)
        .query(&[("upload", id.as_str()), ("title", title)])
        .header("Prefer", "respond-async");
    let job = client::json(client.send(request).await?).await?;
    let id = output::text(&job, "id");
    let end = output::short(&id);
    eprintln!("Job {end} continues if this command ends. Follow it: dispatcher job wait {end}");
    let job = super::job::follow(client, &id).await?;
    for warning in job["warnings"].as_array().into_iter().flatten().filter_map(serde_json::Value::as_str) {
        eprintln!("{} {warning}", output::paint("warning:", output::Colour::Warn));
    }
    if job["state"] != "done" {
        let reason = output::text(&job, "reason");
        let state = output::text(&job, "state");
        return Err(CliError::Failed(format!("the job is {state}: {reason}. Resume it: dispatcher job resume {end}")));
    }
    let extension = format.extension();
    let files = job["files"].as_array().cloned().unwrap_or_default();
    let wanted = files.iter().find(|file| output::text(file, "name").ends_with(&format!(".{extension}")));
    let missing = || CliError::Failed(format!("the job has no .{extension} file"));
    let url = output::text(wanted.ok_or_else(missing)?, "url");
    let response = client.send(client.request(Method::GET, &url)).await?;
    give(args, &response.text().await.map_err(CliError::Broken)?)?;
    eprintln!("{}", super::job::amounts(&job["costs"]));
    Ok(())
}
