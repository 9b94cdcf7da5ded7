//! What an engine's errors mean, by the rules of its sheet.

use std::time::Duration;

use dispatcher_core::{Cause, ErrorRule, RetryHint, SheetError};
use reqwest::header::HeaderMap;
use serde_json::Value;
use serde_json_path::JsonPath;

use crate::request::SheetSource;

/// The rules of `[[errors]]`, compiled; the first that fits counts.
pub(crate) struct Errors(Vec<Rule>);

struct Rule {
    spec: ErrorRule,
    at: Option<JsonPath>,
    retry: Option<Retry>,
}

/// When to come again.
enum Retry {
    Seconds(u64),
    Path(JsonPath),
    Header(String),
}

impl Errors {
    pub(crate) fn compile(rules: &[ErrorRule], sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let path = |text: &str| {
            JsonPath::parse(text).map_err(|error| SheetError::at_key(sheet.0, sheet.1, &["errors"], error.to_string()))
        };
        let compile = |rule: &ErrorRule| {
            let retry = match &rule.retry {
                None => None,
                Some(RetryHint::Seconds(seconds)) => Some(Retry::Seconds(*seconds)),
                Some(RetryHint::Place(place)) => Some(match place.strip_prefix("header:") {
                    Some(name) => Retry::Header(name.trim().to_ascii_lowercase()),
                    None => Retry::Path(path(place)?),
                }),
            };
            Ok(Rule { spec: rule.clone(), at: rule.at.as_deref().map(path).transpose()?, retry })
        };
        rules.iter().map(compile).collect::<Result<_, _>>().map(Errors)
    }

    /// When the engine wants to be called again, as the first rule that fits
    /// and says so tells it.
    pub(crate) fn retry_of(&self, status: u16, text: &str, headers: &HeaderMap) -> Option<Duration> {
        let rule = self.rule(status, text, |rule| rule.retry.is_some())?;
        let number = |text: &str| text.trim().parse::<f64>().ok();
        let seconds = match rule.retry.as_ref()? {
            Retry::Seconds(seconds) => *seconds as f64,
            Retry::Header(name) => number(headers.get(name)?.to_str().ok()?)?,
            Retry::Path(path) => {
                let answer: Value = serde_json::from_str(text).ok()?;
                let found = path.query(&answer).first()?.clone();
                found.as_f64().or_else(|| number(found.as_str()?))?
            }
        };
        Some(Duration::from_secs_f64(seconds.clamp(0.0, 3_600.0)))
    }

    /// The cause that a rule gives an answer.
    pub(crate) fn cause_of(&self, status: u16, text: &str) -> Option<Cause> {
        self.rule(status, text, |_| true).map(|rule| rule.spec.means)
    }

    /// As [`Errors::cause_of`], by rules that look into the answer alone: its
    /// status says that all is well.
    pub(crate) fn named(&self, status: u16, text: &str) -> Option<Cause> {
        let looks = |rule: &Rule| rule.spec.contains.is_some() || rule.at.is_some();
        self.rule(status, text, looks).map(|rule| rule.spec.means)
    }

    fn rule(&self, status: u16, text: &str, counts: impl Fn(&Rule) -> bool) -> Option<&Rule> {
        let answer: Option<Value> =
            self.0.iter().any(|rule| rule.at.is_some()).then(|| serde_json::from_str(text).ok()).flatten();
        let fits = |rule: &&Rule| {
            counts(rule)
                && rule.spec.status.is_none_or(|wanted| wanted == status)
                && rule.spec.contains.as_ref().is_none_or(|part| text.contains(part.as_str()))
                && rule.at.as_ref().is_none_or(|path| {
                    let found = answer.as_ref().map(|answer| path.query(answer).all()).unwrap_or_default();
                    found.iter().any(|value| rule.spec.equals.as_ref().is_none_or(|wanted| wanted.is(value)))
                })
        };
        self.0.iter().find(fits)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rules(toml: &str) -> Errors {
        let head = "sheet = 1\nname = \"x\"\nsite = \"cloud\"\nendpoint = \"http://x.example\"\n[recognition]\ncall = \"POST /x\"\nraw = true\n\
                    [recognition.formats]\nwav = { type = \"audio/wav\", sample_rates = [16000] }\n[recognition.transcript]\ntext = \"$.t\"\n";
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

    #[test]
    fn a_rule_says_when_to_come_again() {
        let errors = rules(
            "[[errors]]\nstatus = 429\nmeans = \"throttled\"\nretry = \"$.wait.s\"\n\
             [[errors]]\nstatus = 430\nmeans = \"throttled\"\nretry = \"header:X-Again\"\n\
             [[errors]]\nstatus = 431\nmeans = \"throttled\"\nretry = 7\n[[errors]]\nstatus = 432\nmeans = \"quota\"\n",
        );
        let headers = HeaderMap::from_iter([(
            reqwest::header::HeaderName::from_static("x-again"),
            "2.5".parse().expect("a value"),
        )]);
        let told = |status, text| errors.retry_of(status, text, &headers).map(|wait| wait.as_millis());
        assert_eq!(told(429, r#"{"wait": {"s": "1.5"}}"#), Some(1_500));
        assert_eq!(told(429, r#"{"wait": {"s": 9999999}}"#), Some(3_600_000));
        assert_eq!(
            (told(429, "no JSON"), told(430, ""), told(431, ""), told(432, "")),
            (None, Some(2_500), Some(7_000), None)
        );
    }
}
