//! `dispatcher speak`.

use std::io::{IsTerminal as _, Read as _};
use std::path::{Path, PathBuf};

use futures::StreamExt as _;
use indicatif::{ProgressBar, ProgressStyle};
use reqwest::Method;
use reqwest::header::ACCEPT;
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt as _;

use crate::args::{SpeakArgs, VoiceArgs};
use crate::client::Client;
use crate::error::CliError;
use crate::files::Existing;
use crate::output::OutputForm;
use crate::{files, output};

/// Text of an argument, a file or standard input.
pub(super) fn read_text(text: Option<String>, file: Option<&Path>) -> Result<String, CliError> {
    if let Some(text) = text {
        return Ok(text);
    }
    match file.filter(|file| file.as_os_str() != "-") {
        Some(path) => crate::files::read_text(path),
        None => {
            if file.is_none() && std::io::stdin().is_terminal() {
                return Err(CliError::Usage(
                    "there is no text; give it as an argument, with --file, or on standard input".into(),
                ));
            }
            let mut text = Vec::new();
            std::io::stdin().read_to_end(&mut text)?;
            crate::files::decode("standard input", &text)
        }
    }
}

/// The JSON of a synthesis request.
pub(super) fn request_body(text: String, voice: &VoiceArgs, format: Option<&str>) -> Value {
    let mut body = json!({});
    let ssml = voice.ssml || dispatcher_markup::looks_like_markup(&text);
    body[if ssml { "ssml" } else { "text" }] = if ssml { text.into() } else { text.trim_end_matches('\n').into() };
    if let Some(name) = &voice.voice {
        body["voice"] = name.as_str().into();
        if let Some(style) = &voice.style {
            body["style"] = json!({ "name": style });
        }
    } else {
        let (languages, gender, site) = (&voice.languages, &voice.gender, &voice.site);
        let members = [("languages", languages), ("gender", gender), ("style", &voice.style), ("site", site)];
        let given = members.iter().filter_map(|(name, value)| Some(((*name).to_owned(), json!(value.as_ref()?))));
        let criteria: serde_json::Map<String, Value> = given.collect();
        if !criteria.is_empty() {
            body["voice"] = criteria.into();
        }
    }
    for (name, value) in [("model", &voice.model), ("language", &voice.language), ("region", &voice.region)] {
        if let Some(value) = value {
            body[name] = value.as_str().into();
        }
    }
    if let Some(strength) = voice.strength {
        let name = body["style"]["name"].as_str().or(voice.style.as_deref()).unwrap_or_default().to_owned();
        body["style"] = json!({ "name": name, "strength": strength });
    }
    for (name, value) in [("rate", &voice.rate), ("pitch", &voice.pitch), ("volume", &voice.volume)] {
        if let Some(value) = value {
            body["prosody"][name] = value.as_str().into();
        }
    }
    if let Some(direction) = &voice.direction {
        body["direction"] = direction.as_str().into();
    }
    if let Some(variation) = voice.variation {
        body["variation"] = variation.into();
    }
    if let Some(seed) = voice.seed {
        body["seed"] = seed.into();
    }
    let mut audio = json!({});
    if let Some(format) = voice.format.as_deref().or(format) {
        audio["type"] = format.into();
    }
    if let Some(rate) = voice.sample_rate {
        audio["sample_rate"] = rate.into();
    }
    if audio.as_object().is_some_and(|audio| !audio.is_empty()) {
        body["audio"] = audio;
    }
    if voice.strict {
        body["unsupported"] = "refuse".into();
    }
    body
}

/// The same wishes as query parameters, for bodies that are the text itself.
pub(super) fn query_of(voice: &VoiceArgs) -> Vec<(String, String)> {
    let number = |value: Option<f64>| value.map(|value| value.to_string());
    let given = [
        ("voice", voice.voice.clone()),
        ("languages", voice.languages.clone()),
        ("gender", voice.gender.clone()),
        ("site", voice.site.clone()),
        ("region", voice.region.clone()),
        ("style", voice.style.clone()),
        ("model", voice.model.clone()),
        ("language", voice.language.clone()),
        ("rate", voice.rate.clone()),
        ("pitch", voice.pitch.clone()),
        ("volume", voice.volume.clone()),
        ("direction", voice.direction.clone()),
        ("variation", number(voice.variation)),
        ("seed", voice.seed.map(|seed| seed.to_string())),
        ("type", voice.format.clone()),
        ("sample_rate", voice.sample_rate.map(|rate| rate.to_string())),
        ("unsupported", voice.strict.then(|| "refuse".to_owned())),
    ];
    given.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?))).collect()
}

/// Where the audio goes.
enum Target {
    Stdout,
    File { path: PathBuf, existing: Existing },
    Folder(PathBuf),
    Play,
}

fn target(args: &SpeakArgs) -> Target {
    match &args.output {
        _ if args.play => Target::Play,
        Some(path) if path.as_os_str() == "-" => Target::Stdout,
        Some(path) if path.is_dir() || path.to_string_lossy().ends_with('/') => Target::Folder(path.clone()),
        Some(path) => Target::File { path: path.clone(), existing: Existing::with(args.force) },
        None if std::io::stdout().is_terminal() => Target::Folder(PathBuf::from(".")),
        None => Target::Stdout,
    }
}

pub(crate) async fn run(client: &Client, args: SpeakArgs, form: OutputForm) -> Result<(), CliError> {
    let target = target(&args);
    let by_name = match &target {
        Target::File { path, .. } => path.extension().and_then(|extension| extension.to_str()).map(str::to_owned),
        _ => None,
    };
    if let Target::File { path, existing } = &target {
        files::check_target(path, *existing)?;
    }
    let text = read_text(args.text, args.file.as_deref())?;
    let body = request_body(text, &args.voice, by_name.as_deref());
    let request = client.request(Method::POST, "/api/v1/utterances").header(ACCEPT, "*/*").json(&body);
    let response = client.send(request).await?;
    let header =
        |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
    let (dispatch, warnings) = (
        header("dispatch-id"),
        response
            .headers()
            .get_all("dispatch-warning")
            .iter()
            .filter_map(|w| w.to_str().ok())
            .map(str::to_owned)
            .collect::<Vec<_>>(),
    );
    let name = header("content-disposition");
    let name =
        name.split("filename=\"").nth(1).and_then(|rest| rest.split('"').next()).unwrap_or("utterance.wav").to_owned();
    let place = receive(response, target, &name).await?;
    for warning in &warnings {
        eprintln!("{} {warning}", output::paint("warning:", output::Colour::Warn));
    }
    let record = client.get(&format!("/api/v1/dispatches/{dispatch}"), &[]).await?;
    report(&record, place.as_deref(), form)
}

fn report(record: &Value, place: Option<&Path>, form: OutputForm) -> Result<(), CliError> {
    if form.is_json() {
        let mut answer = record.clone();
        answer["file"] = place.map(|path| path.display().to_string()).into();
        // Audio on standard output leaves no room for JSON beside it.
        return if place.is_some() { output::print_json(&answer) } else { Ok(()) };
    }
    let voice = [output::text(record, "engine"), output::text(record, "voice"), output::text(record, "model")];
    let voice: Vec<&str> = voice.iter().map(String::as_str).filter(|part| !part.is_empty()).collect();
    eprintln!(
        "{}  {}  {}  first audio {}  {}",
        place.map_or_else(|| "standard output".into(), |path| path.display().to_string()),
        if record["rehearsal"] == true { "rehearsal".into() } else { voice.join("/") },
        output::seconds(&record["duration"]),
        output::milliseconds(&record["first_audio"]),
        output::money(&record["cost"]),
    );
    Ok(())
}

async fn receive(response: reqwest::Response, target: Target, name: &str) -> Result<Option<PathBuf>, CliError> {
    match target {
        Target::Stdout => {
            stream_to(response, &mut tokio::io::stdout()).await?;
            Ok(None)
        }
        Target::File { path, existing } => to_file(response, &path, existing).await.map(Some),
        Target::Folder(folder) => {
            std::fs::create_dir_all(&folder).map_err(|source| CliError::File { path: folder.clone(), source })?;
            let path = free_name(&folder, name);
            to_file(response, &path, Existing::Kept).await.map(Some)
        }
        Target::Play => {
            let extension = name.rsplit('.').next().unwrap_or("wav");
            let file = tempfile::Builder::new().suffix(&format!(".{extension}")).tempfile()?;
            let path = to_file(response, file.path(), Existing::Overwritten).await?;
            let played = tokio::process::Command::new("aplay").arg("-q").arg(&path).status().await;
            match played {
                Ok(status) if status.success() => Ok(Some(path)),
                Ok(status) => Err(CliError::Failed(format!("aplay ended with {status}; is there a sound device?"))),
                Err(error) => Err(CliError::Failed(format!("aplay cannot be run ({error}); write to a file with -o"))),
            }
        }
    }
}

/// A dated name that is not taken.
fn free_name(folder: &Path, name: &str) -> PathBuf {
    let now = time::OffsetDateTime::now_utc();
    let date = format!(
        "{:04}-{:02}-{:02}-{:02}{:02}{:02}",
        now.year(),
        u8::from(now.month()),
        now.day(),
        now.hour(),
        now.minute(),
        now.second()
    );
    let (stem, extension) = name.rsplit_once('.').unwrap_or((name, "wav"));
    let candidate = |count: u32| {
        let more = if count > 1 { format!("-{count}") } else { String::new() };
        folder.join(format!("{date}-{stem}{more}.{extension}"))
    };
    (1..).map(candidate).find(|path| !path.exists()).unwrap_or_else(|| candidate(1))
}

/// Writes aside and renames, so that half an answer leaves no file behind.
pub(super) async fn to_file(response: reqwest::Response, path: &Path, existing: Existing) -> Result<PathBuf, CliError> {
    let failed = |source| CliError::File { path: path.into(), source };
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let aside = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
    let mut file = tokio::fs::File::from_std(aside.reopen().map_err(failed)?);
    stream_to(response, &mut file).await?;
    file.flush().await.map_err(failed)?;
    files::mend(aside.path()).map_err(failed)?;
    files::persist(aside, path, existing)?;
    Ok(path.to_owned())
}

async fn stream_to(
    response: reqwest::Response,
    out: &mut (impl tokio::io::AsyncWrite + Unpin),
) -> Result<(), CliError> {
    let bar = ProgressBar::new_spinner();
    if let Ok(style) = ProgressStyle::with_template("{spinner} {bytes} {elapsed}") {
        bar.set_style(style);
    }
    let mut stream = response.bytes_stream();
    while let Some(chunk) = stream.next().await {
        let chunk = chunk.map_err(CliError::Broken)?;
        bar.inc(chunk.len() as u64);
        out.write_all(&chunk).await?;
    }
    out.flush().await?;
    bar.finish_and_clear();
    Ok(())
}
