//! `dispatcher compare`: transcripts of several engines side by side.

use std::path::Path;

use serde_json::{Value, json};

use super::transcribe::media_type;
use crate::args::CompareArgs;
use crate::client::{self, Client};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: CompareArgs, form: OutputForm) -> Result<(), CliError> {
    if args.say.is_some() || args.comparison.is_some() {
        return super::compare_voices::run(client, args, form).await;
    }
    let mut entries = Vec::new();
    let mut costs = Vec::new();
    for path in &args.text {
        let name = path.file_stem().and_then(|stem| stem.to_str()).unwrap_or("text");
        entries.push(json!({"name": name, "text": read(path)?}));
        costs.push(Value::Null);
    }
    if let Some(audio) = &args.audio {
        let kind = media_type(audio, None);
        for engine in &args.engine {
            let query = [("engine", Some(engine.as_str())), ("language", args.language.as_deref())];
            let answer = client.post_file("/api/v1/transcripts", &query, audio, &kind, "application/json").await?;
            let heard = client::json(answer).await?;
            entries.push(json!({"name": engine, "text": heard["text"], "words": words_of(&heard)}));
            costs.push(heard["cost"].clone());
        }
    }
    let reference = args.reference.as_deref().map(read).transpose()?;
    let body = json!({"reference": reference, "transcripts": entries});
    let mut compared = client.post("/api/v1/transcripts/compare", &body).await?;
    for (place, cost) in costs.iter().enumerate() {
        if let Some(line) = compared["transcripts"].get_mut(place) {
            line["cost"] = cost.clone();
        }
    }
    form.print(&compared, || render(&compared, &entries, &costs))
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

fn render(compared: &Value, entries: &[Value], costs: &[Value]) -> String {
    let mut out = String::new();
    let against = compared["transcripts"].as_array().cloned().unwrap_or_default();
    let cost = |place: usize| costs.get(place).filter(|cost| !cost.is_null()).map(output::money).unwrap_or_default();
    let rows: Vec<Vec<String>> = against
        .iter()
        .enumerate()
        .map(|(place, line)| {
            let words = &line["words"];
            let count = |member: &str| words[member].to_string();
            vec![
                output::text(line, "name"),
                percent(&words["rate"]),
                percent(&line["characters"]["rate"]),
                count("substituted"),
                count("missing"),
                count("inserted"),
                cost(place),
            ]
        })
        .collect();
    if rows.is_empty() {
        let rows = entries.iter().enumerate().map(|(place, entry)| vec![output::text(entry, "name"), cost(place)]);
        out += &output::table(&["transcript", "cost"], rows.collect(), &[1]);
    } else {
        let head = ["transcript", "word errors", "character errors", "substituted", "missing", "inserted", "cost"];
        out += &output::table(&head, rows, &[1, 2, 3, 4, 5, 6]);
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
