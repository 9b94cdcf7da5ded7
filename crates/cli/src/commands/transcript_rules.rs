//! `dispatcher vocabulary`, `phrases` and `masks`.

use serde_json::{Value, json};

use super::speak::read_text;
use crate::args::{MasksArgs, OfApp, PhrasesArgs, RulesCommand, VocabularyArgs, VocabularyCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

/// A path, with the app where one is named.
fn path(place: &str, of: &OfApp) -> String {
    match &of.app {
        Some(app) => format!("/api/v1/{place}?app={}", segment(app)),
        None => format!("/api/v1/{place}"),
    }
}

pub(crate) async fn vocabulary(client: &Client, args: VocabularyArgs, form: OutputForm) -> Result<(), CliError> {
    let VocabularyArgs { of, command } = args;
    match command {
        VocabularyCommand::Show => show(client, &of, form, "vocabulary", render_words).await,
        VocabularyCommand::Versions => versions(client, &of, form, "vocabulary").await,
        VocabularyCommand::Set { file } => set(client, &of, form, "vocabulary", "words", read(file.as_deref())?).await,
        VocabularyCommand::Add { word, alias, phoneme, written } => {
            let body = json!({"grapheme": [word], "alias": alias, "phoneme": phoneme, "written": written});
            let kept = client.post(&path("vocabulary/words", &of), &body).await?;
            told(&kept, "vocabulary", "words", form)
        }
        VocabularyCommand::Remove { word } => {
            let before = client.get(&path("vocabulary", &of), &[]).await?;
            let mut words = before["words"].as_array().cloned().unwrap_or_default();
            let count = words.len();
            words.retain(|known| !known["grapheme"].as_array().into_iter().flatten().any(|it| *it == word.as_str()));
            if words.len() == count {
                let detail =
                    format!("'{word}' is not in the vocabulary. To list its words: dispatcher vocabulary show");
                return Err(CliError::Failed(detail));
            }
            set(client, &of, form, "vocabulary", "words", json!({"words": words})).await
        }
        VocabularyCommand::Try { text } => {
            let made = client.post(&path("vocabulary/try", &of), &json!({"text": text})).await?;
            form.print(&made, || render_trial(&made))
        }
    }
}

pub(crate) async fn phrases(client: &Client, args: PhrasesArgs, form: OutputForm) -> Result<(), CliError> {
    rules(client, &args.of, args.command, form, ("phrases", "phrases"), render_phrases).await
}

pub(crate) async fn masks(client: &Client, args: MasksArgs, form: OutputForm) -> Result<(), CliError> {
    rules(client, &args.of, args.command, form, ("masks", "rules"), render_masks).await
}

async fn rules(
    client: &Client,
    of: &OfApp,
    command: RulesCommand,
    form: OutputForm,
    (place, member): (&str, &str),
    render: fn(&Value) -> String,
) -> Result<(), CliError> {
    match command {
        RulesCommand::Show => show(client, of, form, place, render).await,
        RulesCommand::Versions => versions(client, of, form, place).await,
        RulesCommand::Set { file } => set(client, of, form, place, member, read(file.as_deref())?).await,
    }
}

fn read(file: Option<&std::path::Path>) -> Result<Value, CliError> {
    let text = read_text(None, file)?;
    serde_json::from_str(&text).map_err(|error| CliError::Failed(format!("the file is not JSON: {error}")))
}

async fn show(
    client: &Client,
    of: &OfApp,
    form: OutputForm,
    place: &str,
    render: fn(&Value) -> String,
) -> Result<(), CliError> {
    let rules = client.get(&path(place, of), &[]).await?;
    form.print(&rules, || render(&rules))
}

/// What is shown may be given back: the members beside the list are left out.
async fn set(
    client: &Client,
    of: &OfApp,
    form: OutputForm,
    place: &str,
    member: &str,
    mut document: Value,
) -> Result<(), CliError> {
    if let Some(members) = document.as_object_mut() {
        members.remove("app");
        members.remove("version");
    }
    let kept = client.put(&path(place, of), &document).await?;
    told(&kept, place, member, form)
}

fn told(kept: &Value, place: &str, member: &str, form: OutputForm) -> Result<(), CliError> {
    if form.is_json() {
        return output::print_json(kept);
    }
    let count = kept[member].as_array().map_or(0, Vec::len);
    let what = match (place, count) {
        ("vocabulary", 1) => "word",
        ("vocabulary", _) => "words",
        ("masks", 1) => "rule",
        ("masks", _) => "rules",
        (_, 1) => "phrase",
        _ => "phrases",
    };
    let name = if place == "vocabulary" {
        "Vocabulary"
    } else if place == "masks" {
        "Mask rules"
    } else {
        "Phrases"
    };
    eprintln!("{name} of app {}, version {}: {count} {what}", output::text(kept, "app"), kept["version"]);
    Ok(())
}

async fn versions(client: &Client, of: &OfApp, form: OutputForm, place: &str) -> Result<(), CliError> {
    let list = client.get(&path(&format!("{place}/versions"), of), &[]).await?;
    form.print(&list, || {
        let rows = output::items(&list)
            .into_iter()
            .map(|one| vec![one["version"].to_string(), output::time(&one["at"]), output::text(&one, "by")]);
        output::table(&["version", "made", "by"], rows.collect(), &[0])
    })
}

fn joined(value: &Value) -> String {
    value.as_array().into_iter().flatten().filter_map(Value::as_str).collect::<Vec<_>>().join(", ")
}

fn render_words(rules: &Value) -> String {
    let words = rules["words"].as_array().cloned().unwrap_or_default();
    if words.is_empty() {
        return "The vocabulary is empty. Add a word: dispatcher vocabulary add WORD".into();
    }
    let row = |word: &Value| {
        vec![joined(&word["grapheme"]), joined(&word["alias"]), joined(&word["phoneme"]), output::text(word, "written")]
    };
    output::table(&["word", "heard as", "phonemes", "written"], words.iter().map(row).collect(), &[])
}

fn render_phrases(rules: &Value) -> String {
    let phrases = rules["phrases"].as_array().cloned().unwrap_or_default();
    if phrases.is_empty() {
        return "There are no phrases. Set them: dispatcher phrases set FILE".into();
    }
    let row = |phrase: &Value| {
        let slots = phrase["slots"].as_object().into_iter().flatten();
        let slots = slots.map(|(name, values)| format!("{name}: {}", joined(values))).collect::<Vec<_>>().join("; ");
        vec![output::text(phrase, "command"), output::text(phrase, "phrase"), slots]
    };
    output::table(&["command", "phrase", "slots"], phrases.iter().map(row).collect(), &[])
}

fn render_masks(rules: &Value) -> String {
    let rules = rules["rules"].as_array().cloned().unwrap_or_default();
    if rules.is_empty() {
        return "Nothing is masked. Set mask rules: dispatcher masks set FILE".into();
    }
    let row = |rule: &Value| {
        let digits =
            rule["digits"].as_array().map(|it| it.iter().map(ToString::to_string).collect::<Vec<_>>().join(" to "));
        vec![output::text(rule, "name"), digits.unwrap_or_default(), output::text(rule, "pattern")]
    };
    output::table(&["mask", "digits", "pattern"], rules.iter().map(row).collect(), &[])
}

fn render_trial(made: &Value) -> String {
    let mut lines = vec![output::text(made, "text")];
    for change in made["changes"].as_array().into_iter().flatten() {
        let written = output::text(change, "written");
        lines.push(match change["heard"].as_str() {
            Some(heard) => {
                let likeness = change["likeness"].as_f64().unwrap_or_default();
                format!("  '{heard}' became '{written}' (likeness {likeness:.2})")
            }
            None => format!("  {written} was masked"),
        });
    }
    if let Some(command) = made["command"]["command"].as_str() {
        let slots = made["command"]["slots"].as_object().into_iter().flatten();
        let slots: Vec<String> =
            slots.map(|(name, value)| format!("{name} = {}", value.as_str().unwrap_or_default())).collect();
        lines.push(format!("  command {command}  {}", slots.join(", ")).trim_end().to_owned());
    }
    lines.join("\n")
}
