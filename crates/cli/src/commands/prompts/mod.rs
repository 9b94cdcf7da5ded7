//! `dispatcher prompts`: a table of prompts, kept in step with their files.

mod lock;

use std::collections::BTreeSet;
use std::io::Write as _;
use std::path::Path;

use dispatcher_core::{Prompt, PromptTable, read_prompts};
use indicatif::{ProgressBar, ProgressStyle};
use reqwest::Method;
use reqwest::header::ACCEPT;
use serde_json::{Value, json};

use self::lock::{Lock, LockedFile, place};
use super::speak::to_file;
use crate::args::PromptsCommand;
use crate::client::Client;
use crate::error::CliError;
use crate::files::Existing;
use crate::output::{self, OutputForm};

/// State of a file compared with its row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FileState {
    /// It is as the row says.
    LockedFile,
    New,
    /// It would sound otherwise now.
    Changed,
    /// It was made, and is not there.
    Missing,
}

impl FileState {
    fn name(self) -> &'static str {
        match self {
            FileState::LockedFile => "made",
            FileState::New => "new",
            FileState::Changed => "changed",
            FileState::Missing => "missing",
        }
    }
}

/// A row in one format, and what it would take to make it.
struct PromptVariant<'p> {
    prompt: &'p Prompt,
    format: &'p str,
    state: FileState,
    fingerprint: String,
    cost: Value,
    approved: bool,
}

pub(crate) async fn run(client: &Client, command: PromptsCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        PromptsCommand::Status { table, folder } => {
            let prompts = read_table(&table)?;
            let lock = Lock::open(&folder)?;
            let lines = lines(client, &prompts, &lock, &folder).await?;
            show(&lines, &gone(&prompts, &lock), form)
        }
        PromptsCommand::Make { table, folder, only, prune } => make(client, &table, &folder, &only, prune, form).await,
        PromptsCommand::Approve { table, folder, ids, all } => {
            let prompts = read_table(&table)?;
            let wanted: Vec<String> = if all { prompts.iter().map(|prompt| prompt.id.clone()).collect() } else { ids };
            approve(client, &prompts, &folder, &wanted).await
        }
        PromptsCommand::Archive { table, folder, output, approved, force } => {
            archive(client, &table, &folder, &output, approved, Existing::with(force)).await
        }
    }
}

/// Reads a table by its name: `.csv`, or TOML.
fn read_table(path: &Path) -> Result<Vec<Prompt>, CliError> {
    let text = crate::files::read_text(path)?;
    let is_csv = path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("csv"));
    let rows = read_prompts(&text, if is_csv { PromptTable::Csv } else { PromptTable::Toml });
    rows.map_err(|fault| CliError::Failed(format!("{}: {fault}", path.display())))
}

/// Each row in each of its formats, against what was made.
async fn lines<'p>(
    client: &Client,
    prompts: &'p [Prompt],
    lock: &Lock,
    folder: &Path,
) -> Result<Vec<PromptVariant<'p>>, CliError> {
    let mut lines = Vec::new();
    for prompt in prompts {
        for format in &prompt.formats {
            let estimate = client.post("/api/v1/estimates", &prompt.request(format)).await;
            let estimate = estimate.inspect_err(|_| {
                eprintln!("{} in '{}' as {format}:", output::paint("error", output::Colour::Bad), prompt.id);
            })?;
            let fingerprint = output::text(&estimate, "fingerprint");
            let known = lock.get(&prompt.id, format);
            let state = match known {
                None => FileState::New,
                Some(made) if made.fingerprint != fingerprint => FileState::Changed,
                Some(made) if !place(folder, made).is_file() => FileState::Missing,
                Some(_) => FileState::LockedFile,
            };
            let approved = state == FileState::LockedFile && known.is_some_and(|made| made.approved);
            lines.push(PromptVariant { prompt, format, state, fingerprint, cost: estimate["cost"].clone(), approved });
        }
    }
    Ok(lines)
}

/// Files whose row or format is not in the table any more.
fn gone(prompts: &[Prompt], lock: &Lock) -> Vec<(String, String)> {
    let there = |id: &str, format: &str| {
        prompts.iter().any(|prompt| prompt.id == id && prompt.formats.iter().any(|own| own == format))
    };
    let all = lock.made.iter().flat_map(|(id, formats)| formats.keys().map(move |format| (id, format)));
    all.filter(|(id, format)| !there(id, format)).map(|(id, format)| (id.clone(), format.clone())).collect()
}

/// The cost of what is to be made, currency by currency.
fn total(lines: &[PromptVariant<'_>]) -> String {
    let mut sums: std::collections::BTreeMap<String, i128> = std::collections::BTreeMap::new();
    for line in lines.iter().filter(|line| line.state != FileState::LockedFile) {
        let amount = output::text(&line.cost, "amount");
        let (whole, part) = amount.split_once('.').unwrap_or((amount.as_str(), ""));
        let nanos = format!("{whole}{part:0<9}").parse::<i128>().unwrap_or(0);
        *sums.entry(output::text(&line.cost, "currency")).or_default() += nanos;
    }
    let told = sums.iter().map(|(currency, nanos)| {
        let micros = (nanos + 999) / 1_000;
        format!("{}.{:06} {currency}", micros / 1_000_000, micros % 1_000_000)
    });
    told.collect::<Vec<_>>().join(", ")
}

fn show(lines: &[PromptVariant<'_>], gone: &[(String, String)], form: OutputForm) -> Result<(), CliError> {
    let open = lines.iter().filter(|line| line.state != FileState::LockedFile).count();
    if form.is_json() {
        let row = |line: &PromptVariant<'_>| {
            json!({
                "id": line.prompt.id, "format": line.format, "state": line.state.name(), "fingerprint": line.fingerprint,
                "cost": line.cost, "approved": line.approved,
            })
        };
        let gone: Vec<Value> = gone.iter().map(|(id, format)| json!({"id": id, "format": format})).collect();
        let rows: Vec<Value> = lines.iter().map(row).collect();
        return output::print_json(&json!({"prompts": rows, "gone": gone, "to_make": open}));
    }
    let row = |line: &PromptVariant<'_>| {
        let cost = if line.state == FileState::LockedFile { String::new() } else { output::money_cell(&line.cost) };
        let ear = if line.approved { "approved" } else { "" };
        vec![line.prompt.id.clone(), line.format.to_owned(), line.state.name().into(), cost, ear.into()]
    };
    let mut rows: Vec<Vec<String>> = lines.iter().map(row).collect();
    rows.extend(gone.iter().map(|(id, format)| vec![id.clone(), format.clone(), "gone".into(), "".into(), "".into()]));
    output::print(&output::table(&["prompt", "format", "state", "cost", "approval"], rows, &[3]))?;
    match open {
        0 => eprintln!("All {} files match their rows", lines.len()),
        _ => eprintln!("{open} of {} files to make, estimated {}", lines.len(), total(lines)),
    }
    Ok(())
}

async fn make(
    client: &Client,
    table: &Path,
    folder: &Path,
    only: &[String],
    prune: bool,
    form: OutputForm,
) -> Result<(), CliError> {
    let prompts = read_table(table)?;
    known(&prompts, only)?;
    std::fs::create_dir_all(folder).map_err(|source| CliError::File { path: folder.into(), source })?;
    let mut lock = Lock::open(folder)?;
    let lines = lines(client, &prompts, &lock, folder).await?;
    let wanted = |line: &&PromptVariant<'_>| {
        line.state != FileState::LockedFile && (only.is_empty() || only.contains(&line.prompt.id))
    };
    let open: Vec<&PromptVariant<'_>> = lines.iter().filter(wanted).collect();
    let bar = ProgressBar::new(open.len() as u64);
    if let Ok(style) = ProgressStyle::with_template("{bar:30} {pos}/{len} files  {msg}") {
        bar.set_style(style);
    }
    for line in &open {
        bar.set_message(line.prompt.id.clone());
        let made = make_one(client, line, folder).await?;
        lock.put(&line.prompt.id, line.format, made);
        // After each file, so that a break costs nothing twice.
        lock.save(folder)?;
        bar.inc(1);
    }
    bar.finish_and_clear();
    if prune {
        for (id, format) in gone(&prompts, &lock) {
            if let Some(made) = lock.made.get_mut(&id).and_then(|formats| formats.remove(&format)) {
                // A file that stays is overwritten or shown as unknown.
                let _ = std::fs::remove_file(place(folder, &made));
                eprintln!("removed {}", made.file);
            }
        }
        lock.made.retain(|_, formats| !formats.is_empty());
        lock.save(folder)?;
    }
    if form.is_json() {
        let files: Vec<&str> =
            open.iter().filter_map(|line| Some(lock.get(&line.prompt.id, line.format)?.file.as_str())).collect();
        return output::print_json(&json!({ "made": files }));
    }
    for line in &open {
        if let Some(made) = lock.get(&line.prompt.id, line.format) {
            output::print(&place(folder, made).display().to_string())?;
        }
    }
    eprintln!(
        "Made {}; {} up to date",
        output::counted(&open.len().into(), "file"),
        lines.iter().filter(|l| l.state == FileState::LockedFile).count()
    );
    Ok(())
}

async fn make_one(client: &Client, line: &PromptVariant<'_>, folder: &Path) -> Result<LockedFile, CliError> {
    let body = line.prompt.request(line.format);
    let request = client.request(Method::POST, "/api/v1/utterances").header(ACCEPT, "*/*").json(&body);
    let response = client.send(request).await?;
    let header = |name: &str| {
        let value = response.headers().get(name).and_then(|value| value.to_str().ok());
        value.unwrap_or_default().to_owned()
    };
    let (dispatch, fingerprint, given) =
        (header("dispatch-id"), header("dispatch-fingerprint"), header("content-disposition"));
    let extension = given.trim_end_matches('"').rsplit_once('.').map_or("audio", |(_, extension)| extension).to_owned();
    let file = line.prompt.file(line.format, &extension);
    to_file(response, &folder.join(&file), Existing::Overwritten).await?;
    Ok(LockedFile { fingerprint, file, dispatch, approved: false })
}

fn known(prompts: &[Prompt], ids: &[String]) -> Result<(), CliError> {
    let all: BTreeSet<&str> = prompts.iter().map(|prompt| prompt.id.as_str()).collect();
    match ids.iter().find(|id| !all.contains(id.as_str())) {
        Some(id) => Err(CliError::Usage(format!("there is no prompt '{id}' in the table"))),
        None => Ok(()),
    }
}

/// Only what is as the table says can be found good.
async fn approve(client: &Client, prompts: &[Prompt], folder: &Path, ids: &[String]) -> Result<(), CliError> {
    known(prompts, ids)?;
    if ids.is_empty() {
        return Err(CliError::Usage("name the prompts that sound right, or give --all".into()));
    }
    let mut lock = Lock::open(folder)?;
    let mut stale = Vec::new();
    let mut count = 0;
    for line in lines(client, prompts, &lock, folder).await? {
        if !ids.contains(&line.prompt.id) {
            continue;
        }
        match lock.made.get_mut(&line.prompt.id).and_then(|formats| formats.get_mut(line.format)) {
            Some(made) if line.state == FileState::LockedFile => {
                made.approved = true;
                count += 1;
            }
            _ => stale.push(line.prompt.id.clone()),
        }
    }
    if count > 0 {
        lock.save(folder)?;
    }
    eprintln!("Approved {}", output::counted(&count.into(), "file"));
    match stale.is_empty() {
        true => Ok(()),
        false => {
            Err(CliError::Failed(format!("these files do not match their rows; make them first: {}", stale.join(", "))))
        }
    }
}

async fn archive(
    client: &Client,
    table: &Path,
    folder: &Path,
    output: &Path,
    approved: bool,
    existing: Existing,
) -> Result<(), CliError> {
    crate::files::check_target(output, existing)?;
    let prompts = read_table(table)?;
    let lock = Lock::open(folder)?;
    let lines = lines(client, &prompts, &lock, folder).await?;
    let unfit = lines.iter().filter(|line| line.state != FileState::LockedFile || approved && !line.approved);
    let unfit: BTreeSet<&str> = unfit.map(|line| line.prompt.id.as_str()).collect();
    if !unfit.is_empty() {
        let what = if approved { "files are not made or not approved" } else { "files do not match their rows" };
        let names = unfit.into_iter().collect::<Vec<_>>().join(", ");
        return Err(CliError::Failed(format!("these {what}: {names}")));
    }
    let failed = |source: std::io::Error| CliError::File { path: output.into(), source };
    let place_of = output.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let aside = tempfile::NamedTempFile::new_in(place_of).map_err(failed)?;
    let mut archive = zip::ZipWriter::new(aside.as_file());
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for line in &lines {
        let Some(made) = lock.get(&line.prompt.id, line.format) else { continue };
        let bytes = std::fs::read(place(folder, made)).map_err(failed)?;
        archive.start_file(made.file.as_str(), options).map_err(|error| failed(error.into()))?;
        archive.write_all(&bytes).map_err(failed)?;
    }
    archive.finish().map_err(|error| failed(error.into()))?;
    crate::files::persist(aside, output, existing)?;
    eprintln!("{} files in {}", lines.len(), output.display());
    Ok(())
}
