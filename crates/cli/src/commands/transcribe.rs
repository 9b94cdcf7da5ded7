//! `dispatcher transcribe`.

use std::path::Path;

use crate::args::{TranscribeArgs, TranscriptFormat};
use crate::client::Client;
use crate::error::CliError;
use crate::output;

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

pub(crate) async fn run(client: &Client, args: TranscribeArgs, json: bool) -> Result<(), CliError> {
    if let Some(path) = &args.output {
        crate::files::check_target(path, args.force)?;
    }
    let format = if json { TranscriptFormat::Json } else { args.format };
    let accept = match format {
        TranscriptFormat::Text => "text/plain",
        TranscriptFormat::Json => "application/json",
        TranscriptFormat::Vtt => "text/vtt",
        TranscriptFormat::Srt => "application/x-subrip",
    };
    let alternatives = args.alternatives.map(|count| count.to_string());
    let query = [
        ("hints", args.hints.as_deref()),
        ("context", args.context.as_deref()),
        ("speakers", args.speakers.then_some("true")),
        ("alternatives", alternatives.as_deref()),
        ("unsupported", args.strict.then_some("refuse")),
        ("route", args.route.as_deref()),
        ("engine", args.engine.as_deref()),
        ("model", args.model.as_deref()),
        ("language", args.language.as_deref()),
    ];
    let kind = media_type(&args.audio, args.kind.as_deref());
    let response = client.post_file("/api/v1/transcripts", &query, &args.audio, &kind, accept).await?;
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
    match &args.output {
        Some(path) => std::fs::write(path, &text).map_err(|source| CliError::File { path: path.clone(), source })?,
        None => output::print(&text)?,
    }
    eprintln!("{engine}  {cost}");
    Ok(())
}
