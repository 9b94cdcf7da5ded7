//! Tables of prompts: TOML or CSV.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// One prompt, to be made in one or several formats.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Prompt {
    /// The name of the prompt's file, without its ending.
    #[serde(default)]
    pub id: String,
    /// What is said, as plain text.
    pub text: Option<String>,
    /// What is said, as SSML, in place of `text`.
    pub ssml: Option<String>,
    /// A voice or a route; that of the set unless given.
    pub voice: Option<String>,
    /// The model; that of the set unless given.
    pub model: Option<String>,
    /// BCP 47; that of the set unless given.
    pub language: Option<String>,
    /// Presets, extensions or media types.
    #[serde(default)]
    pub formats: Vec<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    #[serde(default)]
    defaults: Prompt,
    #[serde(default)]
    prompt: Vec<Prompt>,
}

/// What rows that name no format become.
const USUAL: &str = "wav";
/// Letters of an id.
const LONGEST: usize = 80;

/// Rows of one table at the most.
const MOST_ROWS: usize = 2_000;

/// How a table is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PromptTable {
    /// TOML 1.0.
    Toml,
    /// Comma-separated values (RFC 4180).
    Csv,
}

/// Reads a table; each row filled with what its table says for all.
///
/// # Errors
/// With the line, or the row by its id.
pub fn read_prompts(text: &str, table: PromptTable) -> Result<Vec<Prompt>, String> {
    let rows = match table {
        PromptTable::Toml => of_toml(text)?,
        PromptTable::Csv => of_csv(text)?,
    };
    check_prompts(rows)
}

fn of_toml(text: &str) -> Result<Vec<Prompt>, String> {
    let table: Table = toml::from_str(text).map_err(|error| error.to_string())?;
    let usual = table.defaults;
    let filled = |row: Prompt| Prompt {
        voice: row.voice.or_else(|| usual.voice.clone()),
        model: row.model.or_else(|| usual.model.clone()),
        language: row.language.or_else(|| usual.language.clone()),
        formats: if row.formats.is_empty() { usual.formats.clone() } else { row.formats },
        ..row
    };
    Ok(table.prompt.into_iter().map(filled).collect())
}

fn of_csv(text: &str) -> Result<Vec<Prompt>, String> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::Headers).from_reader(text.as_bytes());
    let names = reader.headers().map_err(|error| error.to_string())?.clone();
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|error| error.to_string())?;
        let mut row = Prompt::default();
        for (name, value) in names.iter().zip(record.iter()) {
            let given = Some(value.to_owned()).filter(|value| !value.trim().is_empty());
            match name {
                "id" => row.id = value.trim().to_owned(),
                "text" => row.text = given,
                "ssml" => row.ssml = given,
                "voice" => row.voice = given,
                "model" => row.model = given,
                "language" => row.language = given,
                "formats" | "format" | "preset" => row.formats = value.split_whitespace().map(str::to_owned).collect(),
                other => {
                    let known = "id, text, ssml, voice, model, language, formats";
                    return Err(format!("unknown column '{other}'; known: {known}"));
                }
            }
        }
        rows.push(row);
    }
    Ok(rows)
}

/// Rows that can be made, each with a format at least.
///
/// # Errors
/// With the row by its number or id.
pub fn check_prompts(rows: Vec<Prompt>) -> Result<Vec<Prompt>, String> {
    let mut seen = BTreeSet::new();
    let mut good = Vec::new();
    for (number, mut row) in rows.into_iter().enumerate() {
        let id = row.id.clone();
        let safe = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if id.is_empty() || id.len() > LONGEST || !id.chars().all(safe) || id.starts_with('.') {
            let rule = "an id is part of a file name: letters, digits, - _ . with no point at the beginning";
            return Err(format!("row {}: '{id}' is not an id; {rule}", number + 1));
        }
        if !seen.insert(id.to_lowercase()) {
            return Err(format!("the id '{id}' is used twice"));
        }
        match (&row.text, &row.ssml) {
            (None, None) => return Err(format!("'{id}' has neither text nor ssml")),
            (Some(_), Some(_)) => return Err(format!("'{id}' has text and ssml; give one")),
            _ => {}
        }
        if row.formats.is_empty() {
            row.formats.push(USUAL.to_owned());
        }
        good.push(row);
    }
    if good.is_empty() {
        return Err("it has no prompts".into());
    }
    if good.len() > MOST_ROWS {
        return Err(format!("it has {} prompts; the limit is {MOST_ROWS}", good.len()));
    }
    Ok(good)
}

impl Prompt {
    /// The name of its file in a format, of this ending: several formats may
    /// have one ending.
    pub fn file(&self, format: &str, extension: &str) -> String {
        if let [_] = self.formats.as_slice() {
            return format!("{}.{extension}", self.id);
        }
        let safe: String = format.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        format!("{}.{}.{extension}", self.id, safe.trim_matches('-'))
    }

    /// The request that a row is, in one of its formats.
    pub fn request(&self, format: &str) -> Value {
        let mut body = json!({ "audio": { "type": format } });
        let members = [
            ("text", &self.text),
            ("ssml", &self.ssml),
            ("voice", &self.voice),
            ("model", &self.model),
            ("language", &self.language),
        ];
        for (name, value) in members {
            if let Some(value) = value {
                body[name] = value.as_str().into();
            }
        }
        body
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_take_what_they_do_not_say_from_the_defaults() {
        let table = "[defaults]\nvoice = \"quayside\"\nformats = [\"phone\", \"web\"]\n\
                     [[prompt]]\nid = \"welcome\"\ntext = \"Welcome.\"\n\
                     [[prompt]]\nid = \"bom-dia\"\ntext = \"Bom dia.\"\nlanguage = \"pt-PT\"\nformats = [\"wav\"]\n";
        let rows = of_toml(table).and_then(check_prompts).expect("a table");
        assert_eq!(rows[0].formats, ["phone", "web"]);
        assert_eq!(rows[1].request("wav")["language"], "pt-PT");
        let csv = "id,text,voice,preset\nwelcome,\"Welcome, all.\",quayside,phone web\nend,Goodbye.,,\n";
        let rows = of_csv(csv).and_then(check_prompts).expect("a table");
        assert_eq!((rows[0].text.as_deref(), rows[0].formats.len()), (Some("Welcome, all."), 2));
        assert_eq!((rows[1].voice.as_deref(), rows[1].formats[0].as_str()), (None, "wav"));
    }

    #[test]
    fn faults_are_told_by_their_row() {
        for (csv, says) in [
            ("id,text\n../x,a\n", "row 1: '../x' is not an id"),
            ("id,text\na,x\nA,y\n", "'A' is used twice"),
            ("id,text\na,\n", "'a' has neither text nor ssml"),
            ("id,text,ssml\na,x,y\n", "give one"),
            ("id,words\na,x\n", "unknown column 'words'"),
            ("id,text\n", "no prompts"),
        ] {
            let fault = of_csv(csv).and_then(check_prompts).expect_err(csv);
            assert!(fault.contains(says), "{says} in {fault}");
        }
    }
}
