//! `dispatcher lint`: what each engine would do with a document, offline.

use std::path::Path;
use std::sync::Arc;

use dispatcher_audio::{Codec, Format};
use dispatcher_gateway::{Lint, Resources, SynthesisRequest, TextInput, Unsupported, check_host, lint};
use dispatcher_markup::{
    Fidelity, MarkupError, Outcome, Reference, ReferenceKind, Script, looks_like_markup, read_pls, read_ssml,
};
use serde_json::{Value, json};

use super::speak::read_text;
use crate::args::LintArgs;
use crate::error::CliError;
use crate::output::{self, Colour, OutputForm};

pub(crate) fn run(args: &LintArgs, form: OutputForm) -> Result<(), CliError> {
    let source = read_text(None, args.file.as_deref())?;
    let registry = dispatcher_server::offline_registry(&args.sheets)?;
    let text =
        if looks_like_markup(&source) { TextInput::Ssml(source.clone()) } else { TextInput::Plain(source.clone()) };
    let request = SynthesisRequest {
        text,
        wanted: None,
        model: None,
        language: args.language.clone(),
        unsupported: Unsupported::Adapt,
        shaping: Default::default(),
        format: Format::new(Codec::Wav, 24_000),
        deadline: None,
        credential: None,
        region: None,
        trace: None,
        notes: Vec::new(),
        cache: Default::default(),
    };
    let name = args.file.as_deref().unwrap_or(Path::new("-"));
    let faulty = |fault: MarkupError| CliError::Failed(pointed(name, &source, &fault));
    let script = match &request.text {
        TextInput::Ssml(document) => Some(read_ssml(document).map_err(faulty)?),
        _ => None,
    };
    let resources = resources(args, script.as_ref())?;
    let columns = lint(&registry, &request, &resources).map_err(faulty)?;
    let wanted = |engine: &str| args.engines.is_empty() || args.engines.iter().any(|name| name == engine);
    let mut engines = Vec::new();
    let mut refused = Vec::new();
    for (engine, linted) in columns.into_iter().filter(|(engine, _)| wanted(engine)) {
        match linted {
            Ok(linted) => engines.push(linted),
            Err(error) => refused.push((engine, error.to_string())),
        }
    }
    if engines.is_empty() && refused.is_empty() {
        let names = args.engines.join(", ");
        return Err(CliError::Usage(format!("no sheet here speaks as {names}; add its folder with --sheets")));
    }
    if form.is_json() {
        output::print_json(&as_json(&engines, &refused))?;
    } else {
        output::print(&render(&source, &engines, &refused))?;
        for missing in &resources.missing {
            eprintln!("{} {missing}", output::paint("note:", Colour::Warn));
        }
    }
    let lost = engines.iter().filter(|linted| linted.worst > Outcome::Emulated).count() + refused.len();
    match args.strict && lost > 0 {
        true => Err(CliError::Failed(format!(
            "{lost} of {} engines lose an element of the script",
            engines.len() + refused.len()
        ))),
        false => Ok(()),
    }
}

/// What the script names, from beside it.
fn resources(args: &LintArgs, script: Option<&Script<'_>>) -> Result<Resources, CliError> {
    let mut found = Resources::default();
    for path in &args.lexicons {
        let document = read_text(None, Some(path))?;
        let lexicon = read_pls(&document).map_err(|fault| CliError::Failed(pointed(path, &document, &fault)))?;
        let name = path.file_stem().unwrap_or_default().to_string_lossy();
        found.hold_always(&name, Arc::new(lexicon));
    }
    let folder = args.file.as_deref().and_then(Path::parent).unwrap_or(Path::new("."));
    for Reference { kind, address, .. } in script.into_iter().flat_map(Script::references) {
        let far = address.contains("://");
        let supposed = match far {
            true => check_host(&address, &args.fetch_hosts, "fetch_hosts").is_ok(),
            false => address.starts_with("clip:") || address.starts_with("/api/v1/clips/"),
        };
        if kind == ReferenceKind::Sound && supposed {
            found.suppose_sound(&address);
            continue;
        }
        if far || address.starts_with('/') {
            found.lack(
                &address,
                "it is not beside the script, and nothing is fetched here (--fetch-host takes it to be there)",
            );
            continue;
        }
        let place = folder.join(&address);
        let place = if place.exists() { place } else { folder.join(format!("{address}.pls")) };
        let read = std::fs::read(&place).map_err(|error| format!("{}: {error}", place.display()));
        if let Err(why) = read.and_then(|bytes| found.add(kind, &address, bytes.into())) {
            found.lack(&address, &why);
        }
    }
    Ok(found)
}

/// A fault with its line, and a caret below its place.
fn pointed(file: &Path, source: &str, fault: &MarkupError) -> String {
    let line = source.trim_start_matches('\u{feff}').lines().nth(fault.line - 1).unwrap_or_default();
    let number = fault.line.to_string();
    // What is long is shown around the fault.
    let from = fault.column.saturating_sub(60);
    let shown: String = line.chars().skip(from).take(100).map(|c| if c == '\t' { ' ' } else { c }).collect();
    let caret = " ".repeat(fault.column - 1 - from);
    let margin = " ".repeat(number.len());
    let file = file.display();
    format!(
        "{file}, line {number}, column {}: {}\n\n{number}  {shown}\n{margin}  {caret}^",
        fault.column, fault.message
    )
}

fn as_json(engines: &[Lint], refused: &[(String, String)]) -> Value {
    let engines: Vec<Value> = engines
        .iter()
        .map(|it| {
            json!({
                "engine": it.engine, "voice": it.voice, "speaks": it.speaks, "calls": it.calls,
                "worst": it.worst.name(), "fidelity": it.fidelity,
            })
        })
        .collect();
    let refused: Vec<Value> = refused.iter().map(|(engine, why)| json!({"engine": engine, "why": why})).collect();
    json!({ "engines": engines, "refused": refused })
}

/// In a cell of the table.
fn word(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Plain => "plain",
        other => other.name(),
    }
}

fn render(source: &str, engines: &[Lint], refused: &[(String, String)]) -> String {
    let elements: &[Fidelity] = engines.first().map(|first| first.fidelity.as_slice()).unwrap_or_default();
    let mut head = vec!["line", "element"];
    head.extend(engines.iter().map(|linted| linted.engine.as_str()));
    let mut rows: Vec<Vec<String>> = Vec::new();
    for (index, element) in elements.iter().enumerate() {
        let mut row = vec![format!("{}:{}", element.line, element.column), element.element().to_owned()];
        row.extend(engines.iter().map(|it| it.fidelity.get(index).map_or("", |item| word(item.outcome)).to_owned()));
        rows.push(row);
    }
    let mut calls = vec![String::new(), "calls".into()];
    calls.extend(engines.iter().map(|linted| linted.calls.to_string()));
    rows.push(calls);
    let mut text = output::table(&head, rows, &[0]);
    let mut notes: Vec<(usize, usize, String)> = Vec::new();
    for linted in engines {
        for item in linted.fidelity.iter().filter(|item| item.outcome > Outcome::Emulated) {
            if let Some(note) = item.note() {
                notes.push((item.line as usize, item.column as usize, format!("{}: {note}", linted.engine)));
            }
        }
    }
    notes.sort();
    notes.dedup();
    if !notes.is_empty() {
        text += "\n\n";
        let lines: Vec<&str> = source.lines().collect();
        let mut last = None;
        for (line, column, note) in notes {
            if last != Some((line, column)) {
                let shown: String = lines
                    .get(line.saturating_sub(1))
                    .unwrap_or(&"")
                    .chars()
                    .skip(column.saturating_sub(1))
                    .take(60)
                    .collect();
                text += &format!("{line}:{column}  {}\n", shown.trim_end());
                last = Some((line, column));
            }
            text += &format!("      {note}\n");
        }
    }
    let strangers: Vec<&str> = engines.iter().filter(|it| !it.speaks).map(|it| it.engine.as_str()).collect();
    if !strangers.is_empty() {
        text += &format!(
            "\n{} no voice for the language of the document: {}",
            output::paint("note:", Colour::Warn),
            strangers.join(", ")
        );
    }
    for (engine, why) in refused {
        text += &format!("\n{} {engine}: {why}", output::paint("refused:", Colour::Bad));
    }
    text
}
