//! `dispatcher compare`: transcripts of several engines side by side.

use std::path::Path;

use reqwest::Method;
use serde_json::{Value, json};

use super::transcribe::media_type;
use crate::args::CompareArgs;
use crate::client::{self, Client};
use crate::error::CliError;
use crate::output::{self, Colour, OutputForm};

const COMPARE: &str = "/api/v1/transcripts/compare";

pub(crate) async fn run(client: &Client, args: CompareArgs, form: OutputForm) -> Result<(), CliError> {
    if args.say.is_some() || args.comparison.is_some() {
        return super::compare_voices::run(client, args, form).await;
    }
    let mut entries = Vec::new();
    for path in &args.text {
        let name = path.file_stem().and_then(|stem| stem.to_str()).unwrap_or("text");
        entries.push(json!({"name": name, "text": read(path)?}));
    }
    if let Some(audio) = &args.audio {
        let kind = media_type(audio, None);
        for engine in &args.engine {
            let query = [("engine", Some(engine.as_str())), ("language", args.language.as_deref())];
            let answer = client.post_file("/api/v1/transcripts", &query, audio, &kind, "application/json").await?;
            let heard = client::json(answer).await?;
            let (words, cost) = (words_of(&heard), &heard["cost"]);
            entries.push(json!({"name": engine, "text": heard["text"], "words": words, "cost": cost}));
        }
    }
    let reference = args.reference.as_deref().map(read).transpose()?;
    let body = json!({"reference": reference, "transcripts": entries});
    let compared = client.post(COMPARE, &body).await?;
    if let Some(file) = &args.report {
        let request = client.request(Method::POST, COMPARE).header("Accept", "text/html").json(&body);
        let page = client.send(request).await?.bytes().await.map_err(CliError::Broken)?;
        std::fs::write(file, page).map_err(|source| CliError::File { path: file.clone(), source })?;
        eprintln!("Wrote {}", file.display());
    }
    form.print(&compared, || render(&compared, &entries))
}

/// Words without members that are null, which a comparison does not take.
fn words_of(heard: &Value) -> Vec<Value> {
    let words = heard["words"].as_array().cloned().unwrap_or_default();
    let whole = |mut word: Value| {
        if let Some(members) = word.as_object_mut() {
            members.retain(|_, value| !value.is_null());
        }
        word
    };
    words.into_iter().map(whole).collect()
}

fn read(path: &Path) -> Result<String, CliError> {
    std::fs::read_to_string(path).map_err(|source| CliError::File { path: path.to_owned(), source })
}

fn percent(value: &Value) -> String {
    value.as_f64().map_or_else(String::new, |rate| format!("{:.1} %", rate * 100.0))
}

/// What was said and heard, where they differ: `[leaves|leave]` another word,
/// `[six|]` missing, `[|at]` inserted.
fn aligned(line: &Value) -> String {
    let places = line["alignment"].as_array().into_iter().flatten().map(|place| {
        match (place["reference"].as_str(), place["heard"].as_str()) {
            (Some(said), Some(heard)) if said == heard => said.to_owned(),
            (Some(said), Some(heard)) => output::paint(&format!("[{said}|{heard}]"), Colour::Warn),
            (said, None) => output::paint(&format!("[{}|]", said.unwrap_or_default()), Colour::Bad),
            (None, Some(heard)) => output::paint(&format!("[|{heard}]"), Colour::Notice),
        }
    });
    places.collect::<Vec<_>>().join(" ")
}

fn render(compared: &Value, entries: &[Value]) -> String {
    let mut out = String::new();
    let against = compared["transcripts"].as_array().cloned().unwrap_or_default();
    let cost = |of: &Value| if of["cost"].is_null() { String::new() } else { output::money(&of["cost"]) };
    let rows: Vec<Vec<String>> = against
        .iter()
        .map(|line| {
            let words = &line["words"];
            let count = |member: &str| words[member].to_string();
            vec![
                output::text(line, "name"),
                percent(&words["rate"]),
                percent(&line["characters"]["rate"]),
                count("substituted"),
                count("missing"),
                count("inserted"),
                cost(line),
            ]
        })
        .collect();
    if rows.is_empty() {
        let rows = entries.iter().map(|entry| vec![output::text(entry, "name"), cost(entry)]);
        out += &output::table(&["transcript", "cost"], rows.collect(), &[1]);
    } else {
        let head = ["transcript", "word errors", "character errors", "substituted", "missing", "inserted", "cost"];
        out += &output::table(&head, rows, &[1, 2, 3, 4, 5, 6]);
        out += "\n\n[said|heard]";
        for line in against.iter().filter(|line| line["name"] != "consensus") {
            out += &format!("\n{}: {}", output::text(line, "name"), aligned(line));
        }
    }
    let pairs = compared["agreement"].as_array().cloned().unwrap_or_default();
    if !pairs.is_empty() {
        let rows = pairs
            .iter()
            .map(|pair| vec![output::text(pair, "first"), output::text(pair, "second"), percent(&pair["agreement"])]);
        out += "\n\n";
        out += &output::table(&["transcript", "and", "agree on"], rows.collect(), &[2]);
    }
    if let Some(text) = compared["consensus"]["text"].as_str() {
        out += &format!("\n\nConsensus: {text}");
    }
    out + &format!("\nCompared as: {}", output::text(compared, "normalisation"))
}
