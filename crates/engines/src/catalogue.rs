//! The list of an engine's voices, brought into the normal form.

use std::collections::{BTreeMap, HashSet};

use dispatcher_core::{Catalogue, Cause, Gender, Origin, SheetError, Voice, VoicePaths, is_language_tag, longest_tag};
use dispatcher_vault::Parts;
use futures::future::BoxFuture;
use futures::{FutureExt as _, StreamExt as _, TryStreamExt as _};
use minijinja::context;
use minijinja::value::Value;
use regex::Regex;
use serde_json_path::JsonPath;

use crate::EngineError;
use crate::flow::{Last, parse};
use crate::request::{Call, SheetSource};
use crate::wire::Wire;

/// More voices or pages than these are no catalogue.
const MOST_VOICES: usize = 200_000;
const MOST_PAGES: usize = 2_000;
/// Calls at once where each voice needs one.
const AT_ONCE: usize = 4;

/// What a call holds while it is made.
pub type Turn = Box<dyn std::any::Any + Send>;
/// Waits until the next call may be made.
pub type Turns<'t> = &'t (dyn Fn() -> BoxFuture<'static, Turn> + Send + Sync);

/// The members of a voice, in the words of a sheet.
const MEMBERS: [&str; 13] = [
    "id",
    "name",
    "languages",
    "region",
    "gender",
    "age",
    "styles",
    "uses",
    "models",
    "character",
    "class",
    "origin",
    "unavailable",
];

/// What was found of a voice, member by member.
type FoundFields = BTreeMap<&'static str, Vec<String>>;

fn member<'a>(paths: &'a VoicePaths, name: &str) -> Option<&'a String> {
    match name {
        "id" => &paths.id,
        "name" => &paths.name,
        "languages" => &paths.languages,
        "region" => &paths.region,
        "gender" => &paths.gender,
        "age" => &paths.age,
        "styles" => &paths.styles,
        "uses" => &paths.uses,
        "models" => &paths.models,
        "character" => &paths.character,
        "class" => &paths.class,
        "origin" => &paths.origin,
        _ => &paths.unavailable,
    }
    .as_ref()
}

struct Members(Vec<(&'static str, JsonPath)>);

impl Members {
    fn compile(paths: &VoicePaths, sheet: SheetSource<'_>, key: &[&str]) -> Result<Members, SheetError> {
        let compile = |name: &&'static str| {
            let path = member(paths, name)?;
            Some(JsonPath::parse(path).map(|path| (*name, path)).map_err(|error| {
                SheetError::at_key(sheet.0, sheet.1, key, format!("{name} is not a JSONPath: {error}"))
            }))
        };
        MEMBERS.iter().filter_map(compile).collect::<Result<_, _>>().map(Members)
    }

    fn read(&self, node: &serde_json::Value, found: &mut FoundFields) {
        for (name, path) in &self.0 {
            let values: Vec<String> = path.query(node).all().into_iter().flat_map(texts).collect();
            if !values.is_empty() {
                found.insert(name, values);
            }
        }
    }
}

/// What a value says; lists say what each of theirs does, `false` and `null`
/// say nothing.
fn texts(value: &serde_json::Value) -> Vec<String> {
    match value {
        serde_json::Value::String(text) if !text.trim().is_empty() => vec![text.trim().to_owned()],
        serde_json::Value::Number(number) => vec![number.to_string()],
        serde_json::Value::Bool(true) => vec!["true".into()],
        serde_json::Value::Array(items) => items.iter().flat_map(texts).collect(),
        _ => Vec::new(),
    }
}

/// `[catalogue]`, compiled.
pub(crate) struct Listing {
    spec: Catalogue,
    way: CatalogueSource,
}

enum CatalogueSource {
    Call(Box<Pages>),
    Lines { line: Regex },
}

/// A catalogue that calls list.
struct Pages {
    call: Call,
    voices: JsonPath,
    next: Option<JsonPath>,
    members: Members,
    each: Option<(Call, Members)>,
}

impl Listing {
    pub(crate) fn compile_call(spec: &Catalogue, probe: &Value, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let fault = |message: String| SheetError::at_key(sheet.0, sheet.1, &["catalogue"], message);
        let path = |name: &str, path: &str| {
            JsonPath::parse(path).map_err(|error| fault(format!("{name} is not a JSONPath: {error}")))
        };
        let voice = context! { id => "probe", name => "probe" };
        let probe = context! { page => "probe", voice => voice, ..probe.clone() };
        let each = match &spec.each {
            None => None,
            Some(each) => Some((
                Call::compile(each, &probe, sheet, &["catalogue", "each"])?,
                Members::compile(&each.voice, sheet, &["catalogue", "each", "voice"])?,
            )),
        };
        let way = CatalogueSource::Call(Box::new(Pages {
            call: Call::compile(spec, &probe, sheet, &["catalogue"])?,
            voices: path("voices", spec.voices.as_deref().unwrap_or("$[*]"))?,
            next: spec.next.as_deref().map(|next| path("next", next)).transpose()?,
            members: Members::compile(&spec.voice, sheet, &["catalogue", "voice"])?,
            each,
        }));
        Ok(Listing { spec: spec.clone(), way })
    }

    pub(crate) fn compile_lines(spec: &Catalogue, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let fault = |message: String| SheetError::at_key(sheet.0, sheet.1, &["catalogue", "line"], message);
        let line = Regex::new(spec.line.as_deref().unwrap_or_default())
            .map_err(|error| fault(format!("not a regular expression: {error}")))?;
        let groups: Vec<&str> = line.capture_names().flatten().collect();
        if !groups.contains(&"id") {
            return Err(fault("the group (?<id>…) is missing".into()));
        }
        if let Some(strange) = groups.iter().find(|name| !MEMBERS.contains(name)) {
            return Err(fault(format!("the group '{strange}' is not one of {}", MEMBERS.join(", "))));
        }
        Ok(Listing { spec: spec.clone(), way: CatalogueSource::Lines { line } })
    }

    /// The voices that a program's output lists.
    pub(crate) fn of_lines(&self, output: &str) -> Result<Vec<Voice>, EngineError> {
        let CatalogueSource::Lines { line } = &self.way else { return Ok(Vec::new()) };
        let one = |text: &str| {
            let captures = line.captures(text)?;
            let group = |name: &&'static str| {
                let value = captures.name(name)?.as_str().trim();
                (!value.is_empty()).then(|| (*name, vec![value.to_owned()]))
            };
            Some(MEMBERS.iter().filter_map(group).collect::<FoundFields>())
        };
        self.listed(output.lines().filter_map(one))
    }

    /// The voices that calls list, page by page.
    pub(crate) async fn read(
        &self,
        wire: &Wire,
        credential: &Parts,
        turns: Turns<'_>,
    ) -> Result<Vec<Voice>, EngineError> {
        let CatalogueSource::Call(pages) = &self.way else { return Ok(Vec::new()) };
        let Pages { call, voices, next, members, each } = pages.as_ref();
        let mut found = Vec::new();
        let mut page: Option<String> = None;
        let mut seen = HashSet::new();
        for _ in 0..MOST_PAGES {
            let context = context! { page => page, voice => () };
            let _turn = turns().await;
            let (response, redactor) = wire.send(call, &context, None, credential).await?;
            let answer = parse(&Last::Response(response).read(wire, &redactor).await?, &redactor)?;
            for node in voices.query(&answer).all() {
                let mut one = FoundFields::new();
                members.read(node, &mut one);
                found.push(one);
            }
            if found.len() > MOST_VOICES {
                return Err(EngineError::new(
                    Cause::Broken,
                    format!("the catalogue has more than {MOST_VOICES} voices"),
                ));
            }
            page =
                next.as_ref().and_then(|path| path.query(&answer).first().map(texts)).and_then(|t| t.first().cloned());
            match &page {
                None => break,
                Some(token) if !seen.insert(token.clone()) => {
                    return Err(EngineError::new(Cause::Broken, "the pages of the catalogue repeat"));
                }
                Some(_) => {}
            }
        }
        if page.is_some() {
            return Err(EngineError::new(Cause::Broken, format!("the catalogue has more than {MOST_PAGES} pages")));
        }
        if let Some((call, members)) = each {
            found = self.each(found, call, members, wire, credential, turns).await?;
        }
        self.listed(found)
    }

    /// The first call as text, without its access.
    pub(crate) fn preview(&self) -> String {
        match &self.way {
            CatalogueSource::Call(pages) => {
                pages.call.preview(&context! { page => "", voice => (), access => context! {} })
            }
            CatalogueSource::Lines { .. } => self.spec.arguments.join(" "),
        }
    }

    /// Asks for the first page alone, to see that one is let in.
    pub(crate) async fn first_page(&self, wire: &Wire, credential: &Parts) -> Result<(), EngineError> {
        let CatalogueSource::Call(pages) = &self.way else { return Ok(()) };
        let context = context! { page => (), voice => () };
        let (response, redactor) = wire.send(&pages.call, &context, None, credential).await?;
        Last::Response(response).read(wire, &redactor).await.map(drop)
    }

    async fn each(
        &self,
        found: Vec<FoundFields>,
        call: &Call,
        members: &Members,
        wire: &Wire,
        credential: &Parts,
        turns: Turns<'_>,
    ) -> Result<Vec<FoundFields>, EngineError> {
        let calls = found.into_iter().map(|voice| add(voice, call, members, wire, credential, turns).boxed());
        // Collected first: the compiler cannot see that lazily made futures may be sent.
        let calls: Vec<_> = calls.collect();
        futures::stream::iter(calls).buffered(AT_ONCE).try_collect().await
    }

    /// What was found, in the normal form; voices without an id are none.
    fn listed(&self, found: impl IntoIterator<Item = FoundFields>) -> Result<Vec<Voice>, EngineError> {
        let mut ids = HashSet::new();
        let voices: Vec<Voice> = found
            .into_iter()
            .filter_map(|found| self.voice(&found))
            .filter(|voice| ids.insert(voice.id.clone()))
            .collect();
        match voices.is_empty() {
            true => Err(EngineError::new(Cause::Broken, "the answer has no voices at the sheet's path")),
            false => Ok(voices),
        }
    }

    fn voice(&self, found: &FoundFields) -> Option<Voice> {
        let values = |name: &str| {
            let map = self.spec.map.get(name);
            let ours = |value: &String| map.and_then(|map| map.get(value)).unwrap_or(value).clone();
            let values = found.get(name).map(Vec::as_slice).unwrap_or_default();
            values.iter().map(ours).filter(|value| !value.is_empty()).collect::<Vec<String>>()
        };
        let first = |name: &str| values(name).into_iter().next();
        let id = found.get("id")?.first()?.clone();
        let region = first("region");
        let whole = |tag: &String| match &region {
            Some(region) if !tag.contains(['-', '_']) => format!("{tag}-{region}"),
            _ => tag.replace('_', "-"),
        };
        let mut languages: Vec<String> =
            values("languages").iter().filter_map(|tag| longest_tag(&whole(tag)).map(str::to_owned)).collect();
        if languages.is_empty() && matches!(self.way, CatalogueSource::Lines { .. }) && is_language_tag(&id) {
            // Programs often name a voice by its language.
            languages.push(id.clone());
        }
        if languages.is_empty() {
            languages.push("und".into());
        }
        Some(Voice {
            name: first("name").unwrap_or_else(|| id.clone()).replace('_', " "),
            languages,
            gender: match first("gender").unwrap_or_default().to_ascii_lowercase().as_str() {
                "female" | "f" => Some(Gender::Female),
                "male" | "m" => Some(Gender::Male),
                "neutral" | "n" => Some(Gender::Neutral),
                _ => None,
            },
            age: first("age").and_then(|age| age.parse().ok()),
            styles: values("styles"),
            uses: values("uses"),
            models: values("models"),
            character: first("character").unwrap_or_default(),
            class: first("class"),
            origin: match first("origin").as_deref() {
                Some("custom") => Origin::Custom,
                _ => Origin::Stock,
            },
            unavailable: first("unavailable").map(|why| if why == "true" { "withdrawn".into() } else { why }),
            id,
        })
    }
}

/// A voice with what the call for it adds.
async fn add(
    mut voice: FoundFields,
    call: &Call,
    members: &Members,
    wire: &Wire,
    credential: &Parts,
    turns: Turns<'_>,
) -> Result<FoundFields, EngineError> {
    let first = |name| voice.get(name).and_then(|values: &Vec<String>| values.first().cloned());
    let named = context! { id => first("id"), name => first("name") };
    let context = context! { voice => named, page => () };
    let _turn = turns().await;
    let (response, redactor) = wire.send(call, &context, None, credential).await?;
    let answer = parse(&Last::Response(response).read(wire, &redactor).await?, &redactor)?;
    members.read(&answer, &mut voice);
    Ok(voice)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn listing(toml: &str) -> Listing {
        let spec: Catalogue = serde_json::from_value(
            serde_json::to_value(toml::from_str::<toml::Table>(toml).expect("TOML")).expect("JSON"),
        )
        .expect("a catalogue");
        match spec.line {
            Some(_) => Listing::compile_lines(&spec, ("", "x")),
            None => Listing::compile_call(&spec, &context! {}, ("", "x")),
        }
        .unwrap_or_else(|error| panic!("{error}"))
    }

    #[test]
    fn a_program_s_lines_become_voices() {
        let listing = listing(
            r#"line = '^\s*\d+\s+(?<languages>\S+)\s+\S+/(?<gender>\S)\s+(?<name>\S+)\s+(?<id>\S+)'
               [map.languages]
               en-gb-x-rp = "en-GB""#,
        );
        let output = "Pty Language Age/Gender VoiceName File\n 5  pt_BR  --/M  Portuguese_(Brazil)  roa/pt-BR\n 5 en-gb-x-rp --/F English gmw/en\n";
        let voices = listing.of_lines(output).expect("two voices");
        assert_eq!(voices.len(), 2);
        let brazil = &voices[0];
        assert_eq!((brazil.id.as_str(), brazil.name.as_str()), ("roa/pt-BR", "Portuguese (Brazil)"));
        assert_eq!((brazil.languages.as_slice(), brazil.gender), (&["pt-BR".to_owned()][..], Some(Gender::Male)));
        assert_eq!(voices[1].languages, ["en-GB"]);
        assert_eq!(listing.of_lines("no voices today").expect_err("nothing").cause, Cause::Broken);
    }

    #[test]
    fn words_of_the_engine_become_ours() {
        let listing = listing(
            "call = \"GET /v\"\nvoices = \"$[*]\"\n[voice]\nid = \"$.k\"\nlanguages = \"$.l[*].tag\"\ngender = \"$.g\"\nunavailable = \"$.gone\"\n\
             origin = \"$.own\"\n[map.gender]\nwoman = \"female\"\n[map.origin]\ntrue = \"custom\"\n",
        );
        let CatalogueSource::Call(pages) = &listing.way else { panic!("a call") };
        let members = &pages.members;
        let apart = listing.voice(&FoundFields::from([
            ("id", vec!["x".to_owned()]),
            ("languages", vec!["pt".to_owned(), "en-GB".to_owned()]),
            ("region", vec!["BR".to_owned()]),
        ]));
        assert_eq!(apart.expect("a voice").languages, ["pt-BR", "en-GB"]);
        let node = serde_json::json!({"k": 7, "l": [{"tag": "pt_PT"}, {"tag": "not a tag"}], "g": "woman", "own": true, "gone": false});
        let mut found = FoundFields::new();
        members.read(&node, &mut found);
        let voice = listing.voice(&found).expect("a voice");
        assert_eq!((voice.id.as_str(), voice.name.as_str(), voice.gender), ("7", "7", Some(Gender::Female)));
        assert_eq!(
            (voice.languages, voice.origin, voice.unavailable),
            (vec!["pt-PT".to_owned()], Origin::Custom, None)
        );
    }
}
