//! What an engine's errors mean, by the rules of its sheet.

use dispatcher_core::{Cause, ErrorRule, SheetError};
use serde_json::Value;
use serde_json_path::JsonPath;

use crate::request::Source;

/// The rules of `[[errors]]`, compiled; the first that fits counts.
pub(crate) struct Errors(Vec<(ErrorRule, Option<JsonPath>)>);

impl Errors {
    pub(crate) fn compile(rules: &[ErrorRule], sheet: Source<'_>) -> Result<Self, SheetError> {
        let compile = |rule: &ErrorRule| {
            let path = rule.at.as_deref().map(JsonPath::parse).transpose();
            let path = path.map_err(|error| SheetError::at_key(sheet.0, sheet.1, &["errors"], error.to_string()))?;
            Ok((rule.clone(), path))
        };
        rules.iter().map(compile).collect::<Result<_, _>>().map(Errors)
    }

    /// The cause that a rule gives an answer.
    pub(crate) fn cause_of(&self, status: u16, text: &str) -> Option<Cause> {
        self.first(status, text, |_| true)
    }

    /// As [`Errors::cause_of`], by rules that look into the answer alone: its
    /// status says that all is well.
    pub(crate) fn named(&self, status: u16, text: &str) -> Option<Cause> {
        self.first(status, text, |rule| rule.contains.is_some() || rule.at.is_some())
    }

    fn first(&self, status: u16, text: &str, counts: impl Fn(&ErrorRule) -> bool) -> Option<Cause> {
        let answer: Option<Value> =
            self.0.iter().any(|(_, path)| path.is_some()).then(|| serde_json::from_str(text).ok()).flatten();
        let fits = |(rule, path): &&(ErrorRule, Option<JsonPath>)| {
            counts(rule)
                && rule.status.is_none_or(|wanted| wanted == status)
                && rule.contains.as_ref().is_none_or(|part| text.contains(part.as_str()))
                && path.as_ref().is_none_or(|path| {
                    let found = answer.as_ref().map(|answer| path.query(answer).all()).unwrap_or_default();
                    found.iter().any(|value| rule.equals.as_ref().is_none_or(|wanted| wanted.is(value)))
                })
        };
        self.0.iter().find(fits).map(|(rule, _)| rule.means)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rules(toml: &str) -> Errors {
        let head = "sheet = 1\nname = \"x\"\nsite = \"cloud\"\nendpoint = \"http://x.example\"\n[recognition]\ncall = \"POST /x\"\nraw = true\n\
                    [recognition.formats]\nwav = { type = \"audio/wav\", rates = [16000] }\n[recognition.transcript]\ntext = \"$.t\"\n";
        let sheet = dispatcher_core::Sheet::parse(&format!("{head}{toml}"), "x").expect("a sheet");
        Errors::compile(&sheet.errors, ("", "x")).expect("rules")
    }

    #[test]
    fn rules_look_at_status_text_and_places() {
        let errors = rules(
            "[[errors]]\nat = \"$.wrong.number\"\nequals = 32\nmeans = \"not-active-yet\"\n\
             [[errors]]\nat = \"$.wrong.kind\"\nequals = \"late\"\nmeans = \"throttled\"\n\
             [[errors]]\nat = \"$.fatal\"\nequals = true\nmeans = \"unavailable\"\n\
             [[errors]]\nat = \"$.oops\"\nmeans = \"malformed\"\n\
             [[errors]]\nstatus = 402\nmeans = \"unpaid\"\n",
        );
        for (status, text, cause) in [
            (403, r#"{"wrong": {"number": 32}}"#, Some(Cause::NotActiveYet)),
            (403, r#"{"wrong": {"number": "32"}}"#, Some(Cause::NotActiveYet)),
            (403, r#"{"wrong": {"number": 320}}"#, None),
            (200, r#"{"wrong": {"kind": "late"}}"#, Some(Cause::Throttled)),
            (200, r#"{"fatal": true}"#, Some(Cause::Unavailable)),
            (200, r#"{"fatal": false}"#, None),
            (200, r#"{"oops": null}"#, Some(Cause::Malformed)),
            (402, "no JSON", Some(Cause::Unpaid)),
        ] {
            assert_eq!(errors.cause_of(status, text), cause, "{status} {text}");
        }
        assert_eq!(errors.named(402, "x"), None, "a status alone does not make an error of a good answer");
    }
}
