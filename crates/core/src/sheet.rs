//! Engine sheets: an engine described as data (`docs/engine-sheets.md`).
//!
//! This module holds the shape of a sheet and its checks. Templates and paths
//! are kept as text; the engines crate compiles them.

use std::collections::BTreeMap;
use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::{Cause, Tariff, Voice};

/// The version of the sheet language that is read here.
const LANGUAGE_VERSION: u32 = 1;
/// A sheet longer than this is refused: 1 MiB holds thousands of voices.
const MAX_SHEET_BYTES: usize = 1 << 20;

/// A fault in a sheet, at its place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}:{line}:{column}: {key}: {message}")]
pub struct SheetError {
    pub file: String,
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// The key, dotted from the root; empty where the file is no TOML.
    pub key: String,
    pub message: String,
}

/// Where an engine runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Site {
    Cloud,
    Local,
}

/// Which addresses it may be called at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Network {
    /// Private and loopback addresses are refused.
    #[default]
    Public,
    Private,
}

/// How it is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Driver {
    #[default]
    Http,
    Process,
}

/// How one gets access, for people.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Guide {
    #[serde(default)]
    pub steps: Vec<String>,
}

/// How a call is authorised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    #[default]
    None,
    /// `Authorization: Bearer` with the first part (RFC 6750).
    Bearer,
    /// Header fields by template.
    Headers,
    /// Query parameters by template.
    Query,
}

/// `[access]`.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Access {
    #[serde(default)]
    pub scheme: Scheme,
    /// Names of the parts of the credential.
    #[serde(default)]
    pub parts: Vec<String>,
    #[serde(default)]
    pub headers: BTreeMap<String, String>,
    #[serde(default)]
    pub query: BTreeMap<String, String>,
}

/// `[process]`: a local program. Never a shell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProcessSpec {
    /// A name looked up in `PATH`, or an absolute path.
    pub program: String,
    /// Wall-clock limit for one call.
    #[serde(default = "sixty")]
    pub seconds: u64,
    /// Address space limit, in MiB.
    #[serde(default = "half_gigabyte")]
    pub memory: u64,
    /// What to install where it is absent.
    #[serde(default)]
    pub install: String,
}

fn sixty() -> u64 {
    60
}

fn half_gigabyte() -> u64 {
    1_024
}

/// A format that an engine makes or takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FormatSpec {
    /// The media type, without `rate`.
    #[serde(rename = "type")]
    pub media_type: String,
    /// Hertz, the best first.
    pub rates: Vec<u32>,
    /// Bits a second, where the engine has a fixed one.
    #[serde(default)]
    pub bitrate: Option<u32>,
    /// What the engine calls it, where that is not the key.
    #[serde(default)]
    pub tag: Option<String>,
}

/// What an engine accepts at once.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    #[serde(default)]
    pub characters: Option<u64>,
    #[serde(default)]
    pub bytes: Option<u64>,
    #[serde(default)]
    pub seconds: Option<u64>,
    #[serde(default)]
    pub megabytes: Option<u64>,
}

/// A model of an engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Model {
    pub name: String,
    /// What it is for, in a few words.
    #[serde(default)]
    pub note: String,
}

/// Where the audio lies in the answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Answer {
    /// `"audio"`: the body is the audio, streamed.
    Plain(PlainAnswer),
    /// `{ base64 = "$.path" }`: text in JSON, decoded as it streams in.
    Base64 { base64: String },
}

/// The one plain form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PlainAnswer {
    Audio,
}

/// How a program is given its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ArgumentText {
    #[default]
    Stdin,
    /// As the last argument, after `--`.
    Argument,
}

/// How a program hands over or takes audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LocalAudio {
    /// Standard output (synthesis) or input (recognition).
    #[default]
    Stream,
    /// A temporary file, whose path the arguments name as `{{ file }}`.
    File,
}

/// The request of one call, as templates.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallTemplate<'a> {
    /// `METHOD /path`.
    pub call: &'a str,
    pub headers: &'a BTreeMap<String, String>,
    pub query: &'a BTreeMap<String, String>,
    pub body: Body<'a>,
}

/// The body of a call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body<'a> {
    Empty,
    Json(&'a str),
    Text(&'a str),
    Form(&'a BTreeMap<String, String>),
    /// Parts by template; `audio` names the part that carries the audio.
    Multipart {
        parts: &'a BTreeMap<String, String>,
        audio: Option<&'a str>,
    },
    /// The audio itself.
    Audio,
}

macro_rules! call_members {
    ($(#[$meta:meta])* pub struct $name:ident { $($rest:tt)* }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            /// `METHOD /path` by template (http driver).
            #[serde(default)]
            pub call: Option<String>,
            #[serde(default)]
            pub headers: BTreeMap<String, String>,
            #[serde(default)]
            pub query: BTreeMap<String, String>,
            #[serde(default)]
            pub json: Option<String>,
            #[serde(default)]
            pub text: Option<String>,
            #[serde(default)]
            pub form: Option<BTreeMap<String, String>>,
            #[serde(default)]
            pub multipart: Option<BTreeMap<String, String>>,
            /// Arguments by template (process driver).
            #[serde(default)]
            pub arguments: Vec<String>,
            #[serde(default)]
            pub limit: Limits,
            #[serde(default)]
            pub models: Vec<Model>,
            #[serde(default)]
            pub formats: BTreeMap<String, FormatSpec>,
            $($rest)*
        }

        impl $name {
            fn bodies(&self) -> usize {
                [self.json.is_some(), self.text.is_some(), self.form.is_some(), self.multipart.is_some()]
                    .into_iter()
                    .filter(|present| *present)
                    .count()
            }

            fn written_body(&self) -> Body<'_> {
                match (&self.json, &self.text, &self.form) {
                    (Some(json), ..) => Body::Json(json),
                    (_, Some(text), _) => Body::Text(text),
                    (.., Some(form)) => Body::Form(form),
                    _ => Body::Empty,
                }
            }
        }
    };
}

call_members! {
    /// `[synthesis]`.
    pub struct Synthesis {
        #[serde(default)]
        pub answer: Option<Answer>,
        /// How a program is given its text.
        #[serde(default)]
        pub input: ArgumentText,
        /// How a program hands over its audio.
        #[serde(default)]
        pub output: LocalAudio,
        pub voices: Vec<Voice>,
    }
}

call_members! {
    /// `[recognition]`.
    pub struct Recognition {
        /// The body is the audio itself.
        #[serde(default)]
        pub raw: bool,
        /// The multipart part that carries the audio.
        #[serde(default)]
        pub audio: Option<String>,
        /// How a program is given the audio.
        #[serde(default)]
        pub input: LocalAudio,
        /// Tags it understands; empty: any.
        #[serde(default)]
        pub languages: Vec<String>,
        #[serde(default)]
        pub transcript: Option<TranscriptPaths>,
        #[serde(default)]
        pub lines: Option<LineWords>,
    }
}

impl Synthesis {
    /// The request of the http driver.
    pub fn call_template(&self) -> CallTemplate<'_> {
        let body = match &self.multipart {
            Some(parts) => Body::Multipart { parts, audio: None },
            None => self.written_body(),
        };
        CallTemplate {
            call: self.call.as_deref().unwrap_or_default(),
            headers: &self.headers,
            query: &self.query,
            body,
        }
    }
}

impl Recognition {
    /// The request of the http driver.
    pub fn call_template(&self) -> CallTemplate<'_> {
        let body = match &self.multipart {
            _ if self.raw => Body::Audio,
            Some(parts) => Body::Multipart { parts, audio: self.audio.as_deref() },
            None => self.written_body(),
        };
        CallTemplate {
            call: self.call.as_deref().unwrap_or_default(),
            headers: &self.headers,
            query: &self.query,
            body,
        }
    }
}

/// The unit of word times.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TimeUnit {
    #[default]
    Seconds,
    Milliseconds,
}

impl TimeUnit {
    /// Seconds in one unit.
    pub fn seconds(self) -> f64 {
        match self {
            TimeUnit::Seconds => 1.0,
            TimeUnit::Milliseconds => 0.001,
        }
    }
}

/// Where a transcript lies in a JSON answer (JSONPath, RFC 9535). The word
/// members are relative to each node that `words` finds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TranscriptPaths {
    pub text: String,
    #[serde(default)]
    pub language: Option<String>,
    #[serde(default)]
    pub words: Option<String>,
    #[serde(default)]
    pub word: Option<String>,
    #[serde(default)]
    pub start: Option<String>,
    #[serde(default)]
    pub end: Option<String>,
    #[serde(default)]
    pub confidence: Option<String>,
    #[serde(default)]
    pub unit: TimeUnit,
    /// Confidences run to 100 rather than to 1.
    #[serde(default)]
    pub percent: bool,
}

/// A program that prints a line for each word: `text start end confidence`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LineWords {
    /// Words that stand for silence and noise.
    #[serde(default)]
    pub ignore: Vec<String>,
    /// `that(2)` is a way of saying `that`.
    #[serde(default)]
    pub variants: bool,
    #[serde(default)]
    pub unit: TimeUnit,
}

/// One rule that turns an engine's error into a cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ErrorRule {
    #[serde(default)]
    pub status: Option<u16>,
    /// Text that the answer must contain.
    #[serde(default)]
    pub contains: Option<String>,
    pub means: Cause,
}

/// An engine, described.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sheet {
    pub sheet: u32,
    pub name: String,
    #[serde(default)]
    pub title: String,
    pub site: Site,
    #[serde(default)]
    pub network: Network,
    #[serde(default)]
    pub endpoint: Option<String>,
    #[serde(default)]
    pub driver: Driver,
    #[serde(default)]
    pub guide: Guide,
    #[serde(default)]
    pub access: Access,
    #[serde(default)]
    pub process: Option<ProcessSpec>,
    #[serde(default)]
    pub synthesis: Option<Synthesis>,
    #[serde(default)]
    pub recognition: Option<Recognition>,
    #[serde(default = "Tariff::free")]
    pub tariff: Tariff,
    #[serde(default)]
    pub errors: Vec<ErrorRule>,
}

impl SheetError {
    /// A fault at the key of a dotted path, found in the source.
    pub fn at_key(source: &str, file: &str, path: &[&str], message: impl Into<String>) -> SheetError {
        SheetError::at(source, file, locate(source, path), path.join("."), message.into())
    }

    fn at(source: &str, file: &str, span: Option<Range<usize>>, key: String, message: String) -> SheetError {
        let at = span.map_or(0, |span| span.start.min(source.len()));
        let before = source.get(..at).unwrap_or_default();
        let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
        let line = before.matches('\n').count() + 1;
        let column = before[line_start..].chars().count() + 1;
        SheetError { file: file.into(), line, column, key, message }
    }
}

type Fault = (Vec<&'static str>, String);

impl Sheet {
    /// Reads and checks a sheet. `file` is named in errors.
    ///
    /// # Errors
    /// The first fault, with file, line, column and key.
    pub fn parse(source: &str, file: &str) -> Result<Sheet, SheetError> {
        let fault = |span, key, message| SheetError::at(source, file, span, key, message);
        if source.len() > MAX_SHEET_BYTES {
            return Err(fault(None, String::new(), format!("longer than {MAX_SHEET_BYTES} bytes")));
        }
        let sheet: Sheet = toml::from_str(source).map_err(|error| {
            let key = error.span().map(|span| key_at(source, span.start)).unwrap_or_default();
            fault(error.span(), key, error.message().trim().to_owned())
        })?;
        sheet.check().map_err(|(path, message)| SheetError::at_key(source, file, &path, message))?;
        Ok(sheet)
    }

    /// What cannot be said by types alone.
    fn check(&self) -> Result<(), Fault> {
        let wrong = |path: &[&'static str], message: String| Err((path.to_vec(), message));
        if self.sheet != LANGUAGE_VERSION {
            return wrong(
                &["sheet"],
                format!("version {} is not known; this is version {LANGUAGE_VERSION}", self.sheet),
            );
        }
        let name_fits = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
        if self.name.is_empty() || self.name.len() > 40 || !self.name.bytes().all(name_fits) {
            return wrong(&["name"], "a name is 1 to 40 small letters, digits and hyphens".into());
        }
        if self.synthesis.is_none() && self.recognition.is_none() {
            return wrong(&["name"], "the sheet has neither [synthesis] nor [recognition]".into());
        }
        if let Err(error) = self.tariff.check() {
            return wrong(&["tariff", "price"], error.to_string());
        }
        for rule in &self.errors {
            if !Cause::IN_SHEETS.contains(&rule.means) {
                return wrong(&["errors"], format!("'{}' is seen by the gateway alone", rule.means));
            }
            if rule.status.is_none() && rule.contains.is_none() {
                return wrong(&["errors"], "a rule needs status, contains, or both".into());
            }
        }
        self.check_access()?;
        self.check_driver()?;
        self.check_synthesis()?;
        self.check_recognition()
    }

    fn check_access(&self) -> Result<(), Fault> {
        let access = &self.access;
        let message = match access.scheme {
            Scheme::None if !access.parts.is_empty() => "scheme \"none\" takes no parts",
            Scheme::Bearer if access.parts.len() != 1 => "scheme \"bearer\" takes exactly one part",
            Scheme::Headers if access.headers.is_empty() => "scheme \"headers\" needs [access.headers]",
            Scheme::Query if access.query.is_empty() => "scheme \"query\" needs [access.query]",
            _ => return Ok(()),
        };
        Err((vec!["access", "scheme"], message.into()))
    }

    fn check_driver(&self) -> Result<(), Fault> {
        match self.driver {
            Driver::Http => match self.endpoint.as_deref() {
                None => Err((vec!["name"], "the http driver needs an endpoint".into())),
                Some(url) if !url.starts_with("http://") && !url.starts_with("https://") => {
                    Err((vec!["endpoint"], "an endpoint begins with http:// or https://".into()))
                }
                Some(_) => Ok(()),
            },
            Driver::Process if self.process.is_none() => {
                Err((vec!["driver"], "the process driver needs [process]".into()))
            }
            Driver::Process => Ok(()),
        }
    }

    fn check_synthesis(&self) -> Result<(), Fault> {
        let Some(synthesis) = &self.synthesis else { return Ok(()) };
        if self.driver == Driver::Http {
            check_call("synthesis", synthesis.call.as_deref(), synthesis.bodies())?;
            if synthesis.answer.is_none() {
                return Err((vec!["synthesis"], "answer is missing: \"audio\" or { base64 = \"$.path\" }".into()));
            }
        }
        if synthesis.formats.is_empty() {
            return Err((vec!["synthesis"], "[synthesis.formats] is missing: name at least one format".into()));
        }
        check_rates("synthesis", &synthesis.formats)?;
        if synthesis.voices.is_empty() {
            return Err((vec!["synthesis", "voices"], "an engine that speaks has at least one voice".into()));
        }
        for voice in &synthesis.voices {
            if let Some(tag) = voice.languages.iter().find(|tag| !crate::is_language_tag(tag)) {
                return Err((
                    vec!["synthesis", "voices"],
                    format!("'{tag}' of voice '{}' is not a BCP 47 tag", voice.id),
                ));
            }
            if voice.languages.is_empty() {
                return Err((vec!["synthesis", "voices"], format!("voice '{}' has no language", voice.id)));
            }
        }
        Ok(())
    }

    fn check_recognition(&self) -> Result<(), Fault> {
        let Some(recognition) = &self.recognition else { return Ok(()) };
        match self.driver {
            Driver::Http => {
                check_call(
                    "recognition",
                    recognition.call.as_deref(),
                    recognition.bodies() + usize::from(recognition.raw),
                )?;
                if recognition.transcript.is_none() {
                    return Err((
                        vec!["recognition"],
                        "[recognition.transcript] is missing: where the text lies".into(),
                    ));
                }
            }
            Driver::Process if recognition.lines.is_none() => {
                return Err((vec!["recognition"], "[recognition.lines] is missing: how words are printed".into()));
            }
            Driver::Process => {}
        }
        if recognition.formats.is_empty() {
            return Err((vec!["recognition"], "[recognition.formats] is missing: name at least one format".into()));
        }
        check_rates("recognition", &recognition.formats)
    }

    /// A title for people: the sheet's, or the name.
    pub fn title(&self) -> &str {
        if self.title.is_empty() { &self.name } else { &self.title }
    }

    /// Models of one kind of work, by name.
    pub fn model_names(&self, work: crate::Work) -> Vec<&str> {
        let models = match work {
            crate::Work::Synthesis => self.synthesis.as_ref().map(|s| &s.models),
            crate::Work::Recognition => self.recognition.as_ref().map(|r| &r.models),
        };
        models.into_iter().flatten().map(|model| model.name.as_str()).collect()
    }
}

fn check_call(section: &'static str, call: Option<&str>, bodies: usize) -> Result<(), Fault> {
    let Some(call) = call else {
        return Err((vec![section], "call is missing, for example \"POST /speak\"".into()));
    };
    let method = call.split_once(' ').map(|(method, _)| method);
    match method {
        Some("GET" | "POST" | "PUT") => {}
        _ => return Err((vec![section, "call"], "a call is GET, POST or PUT, a space, and a path".into())),
    }
    if bodies > 1 {
        return Err((vec![section], "a call has one body: json, text, form, multipart or raw".into()));
    }
    Ok(())
}

fn check_rates(section: &'static str, formats: &BTreeMap<String, FormatSpec>) -> Result<(), Fault> {
    match formats.iter().find(|(_, format)| format.rates.is_empty() || format.rates.contains(&0)) {
        Some((name, _)) => Err((vec![section, "formats"], format!("format '{name}' needs at least one rate in hertz"))),
        None => Ok(()),
    }
}

/// Where in the source the key lies; the longest part of the path that exists.
fn locate(source: &str, path: &[&str]) -> Option<Range<usize>> {
    let root = toml::de::DeTable::parse(source).ok()?;
    let mut table = root.get_ref();
    let mut found = None;
    for key in path {
        let Some((name, value)) = table.iter().find(|(name, _)| name.get_ref().as_ref() == *key) else { break };
        found = Some(name.span());
        match value.get_ref().as_table() {
            Some(next) => table = next,
            None => break,
        }
    }
    found
}

/// The key written on the line of a position, with its table.
fn key_at(source: &str, at: usize) -> String {
    let before = source.get(..at).unwrap_or(source);
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    let line = source[line_start..].lines().next().unwrap_or_default();
    let key = line.split('=').next().unwrap_or_default().trim();
    let table = source[..line_start]
        .lines()
        .rev()
        .find(|line| line.trim_start().starts_with('['))
        .map(|line| line.trim().trim_matches(['[', ']']).to_owned());
    match table {
        Some(table) if !key.starts_with('[') => format!("{table}.{key}"),
        _ => key.trim_matches(['[', ']']).to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: &str = r#"
sheet    = 1
name     = "heron"
site     = "cloud"
network  = "private"
endpoint = "http://127.0.0.1:7801"

[access]
scheme = "bearer"
parts  = ["token"]

[synthesis]
call   = "POST /talk/{{ voice.id }}"
json   = '{"say": {{ text|json }}}'
answer = "audio"
limit  = { characters = 3600 }
models = [{ name = "quick" }, { name = "fine" }]

[synthesis.formats]
mp3 = { type = "audio/mpeg", rates = [24000] }

[[synthesis.voices]]
id = "marin"
name = "Marin"
languages = ["en-GB"]

[tariff]
per   = "character"
price = "0.000016"

[[errors]]
status = 402
means  = "quota"
"#;

    fn fault(from: &str, to: &str) -> SheetError {
        assert!(GOOD.contains(from), "{from}");
        Sheet::parse(&GOOD.replace(from, to), "sheets/heron.toml").expect_err(to)
    }

    #[test]
    fn reads_a_whole_sheet() {
        let sheet = Sheet::parse(GOOD, "heron.toml").expect("good");
        assert_eq!(sheet.model_names(crate::Work::Synthesis), ["quick", "fine"]);
        let synthesis = sheet.synthesis.expect("speaks");
        assert_eq!(synthesis.call_template().body, Body::Json(r#"{"say": {{ text|json }}}"#));
        assert_eq!(synthesis.limit.characters, Some(3_600));
        assert_eq!(sheet.errors[0].means, Cause::Quota);
    }

    #[test]
    fn an_unknown_key_is_named_with_file_line_and_key() {
        let error = fault("answer = \"audio\"", "answr = \"audio\"");
        assert_eq!((error.file.as_str(), error.line, error.column), ("sheets/heron.toml", 15, 1));
        assert_eq!(error.key, "synthesis.answr");
        assert!(error.message.contains("unknown field `answr`"), "{}", error.message);
    }

    #[test]
    fn faults_of_sense_point_at_their_key() {
        for (from, to, line, key, says) in [
            ("sheet    = 1", "sheet    = 9", 2, "sheet", "version 9"),
            ("name     = \"heron\"", "name     = \"He ron\"", 3, "name", "small letters"),
            ("endpoint = \"http:", "endpoint = \"ftp:", 6, "endpoint", "http://"),
            ("parts  = [\"token\"]", "parts  = []", 9, "access.scheme", "exactly one part"),
            ("call   = \"POST", "call   = \"FETCH", 13, "synthesis.call", "GET, POST or PUT"),
            ("languages = [\"en-GB\"]", "languages = [\"en_GB\"]", 22, "synthesis.voices", "en_GB"),
            ("price = \"0.000016\"", "price = \"cheap\"", 29, "tariff.price", "cheap"),
            ("means  = \"quota\"", "means  = \"abandoned\"", 31, "errors", "gateway alone"),
        ] {
            let error = fault(from, to);
            assert_eq!((error.line, error.key.as_str()), (line, key), "{to}: {error}");
            assert!(error.message.contains(says), "{to}: {error}");
        }
    }

    #[test]
    fn a_wrong_type_is_told_at_its_line() {
        let error = fault("rates = [24000]", "rates = \"high\"");
        assert_eq!(error.line, 20);
        let error = Sheet::parse("sheet = ", "x.toml").expect_err("no TOML");
        assert_eq!(error.line, 1);
    }
}
