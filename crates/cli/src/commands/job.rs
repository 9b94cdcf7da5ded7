//! `dispatcher job`.

use std::path::{Path, PathBuf};
use std::time::Duration;

use dispatcher_documents::DocumentKind;
use futures::StreamExt as _;
use indicatif::{ProgressBar, ProgressStyle};
use reqwest::Method;
use reqwest::header::CONTENT_TYPE;
use serde_json::Value;
use tokio::io::AsyncWriteExt as _;

use super::speak::{query_of, read_text};
use super::transcribe::media_type;
use super::upload;
use crate::args::{JobAddArgs, JobCommand};
use crate::client::{self, Client, segment};
use crate::error::CliError;
use crate::files::Existing;
use crate::output::OutputForm;
use crate::{files, output};

/// Number of attempts to reach a service that is away, one per second.
const MOST_TRIES: u32 = 60;

pub(crate) async fn run(client: &Client, command: JobCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        JobCommand::Add(args) => add(client, *args, form).await,
        JobCommand::List(args) => {
            let limit = args.limit.to_string();
            let query = [("app", args.app.as_deref()), ("state", args.state.as_deref()), ("limit", Some(&*limit))];
            let list = client.get("/api/v1/jobs", &query).await?;
            form.print(&list, || render(&list))
        }
        JobCommand::Show { id } => show(&client.get(&path(&id, ""), &[]).await?, form),
        JobCommand::Wait { id, output, force } => {
            wait_and_fetch(client, &id, output.as_deref(), Existing::with(force), form).await
        }
        JobCommand::Fetch { id, output, force } => {
            let job = client.get(&path(&id, ""), &[]).await?;
            fetch(client, &job, &output, Existing::with(force), form).await
        }
        JobCommand::Cancel { id } => show(&client.post(&path(&id, "/cancel"), &Value::Null).await?, form),
        JobCommand::Resume { id } => show(&client.post(&path(&id, "/resume"), &Value::Null).await?, form),
        JobCommand::Remove { id } => {
            client.delete(&path(&id, "")).await?;
            eprintln!("Removed job {id}");
            Ok(())
        }
    }
}

fn path(id: &str, rest: &str) -> String {
    format!("/api/v1/jobs/{}{rest}", segment(id))
}

async fn add(client: &Client, args: JobAddArgs, form: OutputForm) -> Result<(), CliError> {
    if args.dry_run {
        return estimate(client, &args, form).await;
    }
    if let Some(folder) = &args.output {
        std::fs::create_dir_all(folder).map_err(|source| CliError::File { path: folder.clone(), source })?;
    }
    let job = if is_recording(&args.file) { dictate(client, &args).await? } else { speak(client, &args).await? };
    if !args.wait {
        return show(&job, form);
    }
    wait_and_fetch(client, &output::text(&job, "id"), args.output.as_deref(), Existing::with(args.force), form).await
}

/// Shows what a job would cost.
async fn estimate(client: &Client, args: &JobAddArgs, form: OutputForm) -> Result<(), CliError> {
    let (answer, text) = if is_recording(&args.file) {
        let query = [("route", args.route.as_deref()), ("engine", args.engine.as_deref())];
        let answer = super::estimate::of_audio(client, &args.file, &query).await?;
        let text = super::estimate::render(&answer);
        (answer, text)
    } else {
        let answer = speak(client, args).await?;
        let mut text = format!(
            "{}: {}, {}, at most {}; nothing was sent.",
            output::text(&answer, "title"),
            output::counted(&answer["files"], "file"),
            output::counted(&answer["pieces"], "call"),
            amounts(&answer["estimates"]),
        );
        for warning in answer["warnings"].as_array().into_iter().flatten().filter_map(Value::as_str) {
            text += &format!("\nwarning: {warning}");
        }
        (answer, text)
    };
    if form.is_json() { output::print_json(&answer) } else { output::print(&text) }
}

/// Whether a file is audio, by its name.
fn is_recording(path: &Path) -> bool {
    let extension = path.extension().and_then(|extension| extension.to_str()).unwrap_or_default();
    dispatcher_audio::Codec::from_extension(extension).is_some()
}

/// The media type of a document by its name; text where it has none.
fn document_type(path: &Path) -> Result<&'static str, CliError> {
    let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
    if path.as_os_str() == "-" {
        return Ok("text/plain");
    }
    if name.to_ascii_lowercase().ends_with(".ssml") {
        return Ok("application/ssml+xml");
    }
    DocumentKind::of(None, Some(name)).map(DocumentKind::media_type).ok_or_else(|| {
        let kinds = ".txt, .md, .ssml, .html, .epub or .pdf, or a recording";
        CliError::Usage(format!("'{name}' is no document by its name; give {kinds}"))
    })
}

async fn speak(client: &Client, args: &JobAddArgs) -> Result<Value, CliError> {
    let kind = document_type(&args.file)?;
    let name = args.file.file_name().and_then(|name| name.to_str()).filter(|name| *name != "-");
    let mut query = query_of(&args.voice);
    let more = [("title", &args.title), ("split", &args.split), ("webhook", &args.webhook)];
    query.extend(more.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value.clone()?))));
    query.extend(name.map(|name| ("filename".to_owned(), name.to_owned())));
    query.extend(args.dry_run.then(|| ("dry_run".to_owned(), "true".to_owned())));
    send(client, "/api/v1/jobs", query, args, kind).await
}

/// Sends a file as a body, or in parts where it is too large for one.
async fn send(
    client: &Client,
    path: &str,
    mut query: Vec<(String, String)>,
    args: &JobAddArgs,
    kind: &str,
) -> Result<Value, CliError> {
    let failed = |source| CliError::File { path: args.file.clone(), source };
    let request = |query: &[(String, String)]| {
        client.request(Method::POST, path).query(query).header("Prefer", "respond-async").header(CONTENT_TYPE, kind)
    };
    if args.file.as_os_str() == "-" {
        let text = read_text(None, Some(&args.file))?;
        return client::json(client.send(request(&query).body(text)).await?).await;
    }
    let file = tokio::fs::File::open(&args.file).await.map_err(failed)?;
    if upload::is_large(&args.file) {
        let id = upload::in_parts(client, &args.file, kind).await?;
        query.push(("upload".into(), id.clone()));
        let sent = client.send(request(&query)).await;
        if args.dry_run {
            // Nothing else is made of it.
            let _ = client.delete(&format!("/api/v1/uploads/{id}")).await;
        }
        return client::json(sent?).await;
    }
    client::json(client.send(request(&query).body(file)).await?).await
}

async fn dictate(client: &Client, args: &JobAddArgs) -> Result<Value, CliError> {
    let stem = args.file.file_stem().and_then(|stem| stem.to_str());
    let query = [
        ("title", args.title.as_deref().or(stem)),
        ("route", args.route.as_deref()),
        ("engine", args.engine.as_deref()),
        ("model", args.voice.model.as_deref()),
        ("language", args.voice.language.as_deref()),
        ("unsupported", args.voice.strict.then_some("refuse")),
        ("webhook", args.webhook.as_deref()),
    ];
    let query = query.iter().filter_map(|(name, value)| Some(((*name).to_owned(), (*value)?.to_owned()))).collect();
    send(client, "/api/v1/transcripts", query, args, &media_type(&args.file, None)).await
}

async fn wait_and_fetch(
    client: &Client,
    id: &str,
    folder: Option<&Path>,
    existing: Existing,
    form: OutputForm,
) -> Result<(), CliError> {
    let job = follow(client, id).await?;
    let state = output::text(&job, "state");
    if state != "done" {
        show(&job, form)?;
        return Err(CliError::Failed(format!("the job is {state}")));
    }
    match folder {
        Some(folder) => fetch(client, &job, folder, existing, form).await,
        None => show(&job, form),
    }
}

/// Follows a job to its end. A service that is away for a while is waited for.
pub(super) async fn follow(client: &Client, id: &str) -> Result<Value, CliError> {
    let bar = ProgressBar::new(0);
    if let Ok(style) = ProgressStyle::with_template("{bar:30} {pos}/{len} pieces  {msg}") {
        bar.set_style(style);
    }
    let mut tries = 0;
    loop {
        match follow_once(client, id, &bar).await {
            Ok(Some(job)) => {
                bar.finish_and_clear();
                return Ok(job);
            }
            Ok(None) => tries = 0,
            Err(error @ CliError::Problem(_)) => return Err(error),
            Err(error) if tries >= MOST_TRIES => return Err(error),
            Err(_) => bar.set_message("the service is away; waiting"),
        }
        tries += 1;
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

/// Follows as long as the connection holds; gives the job once it is over.
async fn follow_once(client: &Client, id: &str, bar: &ProgressBar) -> Result<Option<Value>, CliError> {
    let response = client.send(client.request(Method::GET, &path(id, "/events"))).await?;
    let mut stream = response.bytes_stream();
    let mut waiting = Vec::new();
    while let Some(chunk) = stream.next().await {
        waiting.extend_from_slice(&chunk.map_err(CliError::Broken)?);
        while let Some(end) = waiting.windows(2).position(|pair| pair == b"\n\n") {
            let event: Vec<u8> = waiting.drain(..end + 2).collect();
            let event = String::from_utf8_lossy(&event);
            let data = event.lines().filter_map(|line| line.strip_prefix("data:")).collect::<String>();
            let Ok(job) = serde_json::from_str::<Value>(&data) else { continue };
            bar.set_length(job["pieces"]["all"].as_u64().unwrap_or(0));
            bar.set_position(job["pieces"]["done"].as_u64().unwrap_or(0));
            let reason = output::text(&job, "reason");
            let so_far = format!("{}  {}  {reason}", output::seconds(&job["duration"]), output::money(&job["cost"]));
            bar.set_message(so_far.trim_end().to_owned());
            if matches!(job["state"].as_str(), Some("done" | "failed" | "cancelled")) {
                return Ok(Some(job));
            }
        }
    }
    Ok(None)
}

/// Fetches the files of a job into a folder.
async fn fetch(
    client: &Client,
    job: &Value,
    folder: &Path,
    existing: Existing,
    form: OutputForm,
) -> Result<(), CliError> {
    let failed = |source| CliError::File { path: folder.into(), source };
    std::fs::create_dir_all(folder).map_err(failed)?;
    let listed: Vec<Value> = job["files"].as_array().cloned().unwrap_or_default();
    if listed.is_empty() {
        return Err(CliError::Failed(format!("the job is {} and has no files", output::text(job, "state"))));
    }
    let place = |file: &Value| folder.join(output::text(file, "name"));
    if let Some(there) = listed.iter().map(place).find(|path| existing == Existing::Kept && path.exists()) {
        return Err(CliError::Exists(there));
    }
    for file in &listed {
        fetch_one(client, &output::text(file, "url"), &place(file), existing).await?;
    }
    let places: Vec<PathBuf> = listed.iter().map(place).collect();
    if form.is_json() {
        let mut answer = job.clone();
        answer["fetched"] = places.iter().map(|path| path.display().to_string()).collect();
        return output::print_json(&answer);
    }
    for path in places {
        output::print(&path.display().to_string())?;
    }
    Ok(())
}

async fn fetch_one(client: &Client, url: &str, path: &Path, existing: Existing) -> Result<(), CliError> {
    let failed = |source| CliError::File { path: path.into(), source };
    let response = client.send(client.request(Method::GET, url)).await?;
    let folder = path.parent().unwrap_or(Path::new("."));
    let aside = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
    let mut file = tokio::fs::File::from_std(aside.reopen().map_err(failed)?);
    let mut stream = response.bytes_stream();
    while let Some(chunk) = stream.next().await {
        file.write_all(&chunk.map_err(CliError::Broken)?).await.map_err(failed)?;
    }
    file.flush().await.map_err(failed)?;
    files::persist(aside, path, existing)
}

fn show(job: &Value, form: OutputForm) -> Result<(), CliError> {
    if form.is_json() { output::print_json(job) } else { output::print(&render_one(job)) }
}

fn progress(job: &Value) -> String {
    format!("{}/{}", output::text(&job["pieces"], "done"), output::text(&job["pieces"], "all"))
}

/// The list as a table.
fn render(list: &Value) -> String {
    let rows = output::items(list);
    if rows.is_empty() {
        return "No jobs yet. Speak a document: dispatcher job add handbook.txt --voice quayside".into();
    }
    let rows = rows.iter().map(|job| {
        vec![
            output::short_id(job, "id"),
            output::text(job, "app"),
            output::text(job, "title"),
            output::text(job, "state"),
            progress(job),
            output::seconds(&job["duration"]),
            output::money_cell(&job["cost"]),
        ]
    });
    output::table(&["job", "app", "title", "state", "pieces", "duration", "cost"], rows.collect(), &[4, 5, 6])
}

/// Amounts in several currencies.
pub(super) fn amounts(list: &Value) -> String {
    let amounts: Vec<String> = list.as_array().into_iter().flatten().map(output::money).collect();
    if amounts.is_empty() { "0".into() } else { amounts.join(" + ") }
}

/// One job with its files.
fn render_one(job: &Value) -> String {
    let id = output::text(job, "id");
    let mut text = format!("{id} {}\n", output::text(job, "title"));
    text += &format!(
        "  {} of {}, {}; {} pieces, {} of audio, {} of an estimated {}\n",
        output::text(job, "work"),
        output::text(job, "app"),
        output::state(&output::text(job, "state")),
        progress(job),
        output::seconds(&job["duration"]),
        amounts(&job["costs"]),
        amounts(&job["estimates"]),
    );
    let reason = output::text(job, "reason");
    if !reason.is_empty() {
        text += &format!("  {reason}\n");
    }
    for warning in job["warnings"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        text += &format!("  Warning: {warning}\n");
    }
    let files: Vec<Vec<String>> = job["files"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|file| {
            let length = output::seconds(&file["duration"]);
            vec![output::text(file, "name"), output::text(file, "type"), length, output::text(file, "bytes")]
        })
        .collect();
    if !files.is_empty() {
        text += &format!("\n{}", output::table(&["file", "type", "duration", "bytes"], files, &[2, 3]));
    }
    if matches!(job["state"].as_str(), Some("failed" | "cancelled")) {
        text += &format!("\nResume it without paying again: dispatcher job resume {}", output::short(&id));
    } else if matches!(job["state"].as_str(), Some("queued" | "running" | "waiting")) {
        text += &format!("\nFollow it: dispatcher job wait {}", output::short(&id));
    }
    text
}
