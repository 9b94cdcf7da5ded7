//! The markup that an engine takes: `[synthesis.markup]` of its sheet.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::prosody;

/// Notation of a number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ValueForm {
    /// As written.
    Text,
    /// `90%` of the default.
    Percent,
    /// `-10%` from the default.
    Change,
    /// `0.9` times the default.
    Factor,
    /// `+2st`.
    Semitones,
    /// `-3dB`.
    Decibels,
    /// `1.5s`.
    Seconds,
    /// `1500ms`.
    Milliseconds,
}

/// Supported values of an attribute.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Accepts {
    /// Any value of this form.
    Form(ValueForm),
    /// Only these values.
    Words(Vec<String>),
    /// A form with a range in its unit, and additional words.
    Range(AcceptsRange),
}

/// A form with a range.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptsRange {
    /// The form of a value, which gives the unit of the bounds.
    pub form: ValueForm,
    /// The least value, in the unit of the form.
    #[serde(default)]
    pub least: Option<f64>,
    /// The greatest value, in the unit of the form.
    #[serde(default)]
    pub most: Option<f64>,
    /// Additional words.
    #[serde(default)]
    pub words: Vec<String>,
}

/// `[synthesis.markup]`: the supported elements, each with its attributes. Others are not sent.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Dialect {
    /// By their names in SSML.
    #[serde(default)]
    pub elements: BTreeMap<String, BTreeMap<String, Accepts>>,
}

/// What is meant by an attribute, as a number.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Meant {
    /// Times the ordinary.
    Rate(f64),
    /// Semitones from the ordinary.
    Pitch(f64),
    /// Decibels from the ordinary.
    Volume(f64),
    /// Milliseconds.
    Time(f64),
}

/// At most three places behind the point, none of them idle.
pub(crate) fn short(value: f64) -> String {
    let text = format!("{value:.3}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".into() } else { text.into() }
}

fn with_sign(value: f64) -> String {
    if value < 0.0 { short(value) } else { format!("+{}", short(value)) }
}

impl ValueForm {
    /// The number in this form's own unit; `None` where it cannot be said in it.
    fn amount(self, meant: Meant) -> Option<f64> {
        match (self, meant) {
            (ValueForm::Percent, Meant::Rate(factor)) => Some(factor * 100.0),
            (ValueForm::Change, Meant::Rate(factor)) => Some((factor - 1.0) * 100.0),
            (ValueForm::Factor, Meant::Rate(factor)) => Some(factor),
            (ValueForm::Semitones, Meant::Pitch(semitones)) => Some(semitones),
            (ValueForm::Change, Meant::Pitch(semitones)) => Some((2f64.powf(semitones / 12.0) - 1.0) * 100.0),
            (ValueForm::Percent, Meant::Pitch(semitones)) => Some(2f64.powf(semitones / 12.0) * 100.0),
            (ValueForm::Decibels, Meant::Volume(decibels)) => Some(decibels),
            (ValueForm::Factor, Meant::Volume(decibels)) => Some(10f64.powf(decibels / 20.0)),
            (ValueForm::Seconds, Meant::Time(milliseconds)) => Some(milliseconds / 1_000.0),
            (ValueForm::Milliseconds, Meant::Time(milliseconds)) => Some(milliseconds),
            _ => None,
        }
    }

    fn write(self, amount: f64) -> String {
        match self {
            ValueForm::Text | ValueForm::Factor => short(amount),
            ValueForm::Percent => format!("{}%", short(amount)),
            ValueForm::Change => format!("{}%", with_sign(amount)),
            ValueForm::Semitones => format!("{}st", with_sign(amount)),
            ValueForm::Decibels => format!("{}dB", with_sign(amount)),
            ValueForm::Seconds => format!("{}s", short(amount)),
            ValueForm::Milliseconds => format!("{}ms", short(amount)),
        }
    }
}

impl Accepts {
    fn words(&self) -> &[String] {
        match self {
            Accepts::Form(_) => &[],
            Accepts::Words(words) => words,
            Accepts::Range(range) => &range.words,
        }
    }

    fn form(&self) -> Option<(ValueForm, f64, f64)> {
        match self {
            Accepts::Form(form) => Some((*form, f64::NEG_INFINITY, f64::INFINITY)),
            Accepts::Words(_) => None,
            Accepts::Range(range) => {
                Some((range.form, range.least.unwrap_or(f64::NEG_INFINITY), range.most.unwrap_or(f64::INFINITY)))
            }
        }
    }

    /// The value as the engine is sent it, with what it means where that is a
    /// number; `None` where it does not take it.
    pub(crate) fn write(&self, value: &str, meant: Option<Meant>) -> Option<String> {
        if self.words().iter().any(|word| word == value) {
            return Some(value.to_owned());
        }
        let (form, least, most) = self.form()?;
        let Some(meant) = meant else { return (form == ValueForm::Text).then(|| value.to_owned()) };
        if form == ValueForm::Text {
            return Some(value.to_owned());
        }
        // Rounding must not push a value that is allowed out of its range.
        let amount = form.amount(meant).filter(|amount| (least - 1e-6..=most + 1e-6).contains(amount))?;
        let written = form.write(amount);
        // The same number is not said in other letters.
        let same = |given: &str| given.trim_start_matches('+') == written.trim_start_matches('+');
        Some(if same(value) && value.starts_with('+') == written.starts_with('+') { value.to_owned() } else { written })
    }
}

impl Dialect {
    /// What it takes of an element's attributes; `None` where it does not take
    /// the element.
    pub(crate) fn element(&self, name: &str) -> Option<&BTreeMap<String, Accepts>> {
        self.elements.get(name)
    }

    /// The first thing that is wrong with it: elements and attributes that
    /// SSML does not know.
    ///
    /// # Errors
    /// The key and what is wrong with it.
    pub fn check(&self) -> Result<(), (Vec<String>, String)> {
        use crate::reader::rules::COMMON;
        use crate::reader::values::Version;
        use crate::script::Tag;
        for (name, attributes) in &self.elements {
            let Some(tag) = Tag::named(name, Version::OneOne) else {
                return Err((vec![name.clone()], format!("<{name}> is not an element of SSML 1.1")));
            };
            for (attribute, accepts) in attributes {
                let known = tag.attributes(Version::OneOne).iter().chain(COMMON).any(|rule| rule.name == attribute);
                if !known {
                    let message = format!("{attribute} is no attribute of <{name}> in SSML 1.1");
                    return Err((vec![name.clone(), attribute.clone()], message));
                }
                if let Accepts::Range(AcceptsRange { least: Some(least), most: Some(most), .. }) = accepts
                    && least > most
                {
                    return Err((vec![name.clone(), attribute.clone()], "least is above most".into()));
                }
            }
        }
        Ok(())
    }
}

/// What a prosody attribute means as a number; `None` for values that are no
/// change of a known size (hertz, a contour).
pub(crate) fn meant(attribute: &str, value: &str) -> Option<Meant> {
    match attribute {
        "rate" => prosody::rate(value).ok().map(Meant::Rate),
        "pitch" => prosody::pitch(value).ok().map(Meant::Pitch),
        "volume" => prosody::volume(value).ok().map(Meant::Volume),
        "time" | "duration" => crate::reader::values::time(value).map(Meant::Time),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn accepts(text: &str) -> Accepts {
        serde_json::from_str(text).expect(text)
    }

    #[test]
    fn values_are_said_in_the_engines_form_and_range() {
        for (form, attribute, value, written) in [
            (r#""percent""#, "rate", "90%", Some("90%")),
            (r#""percent""#, "rate", "slow", Some("80%")),
            (r#""factor""#, "rate", "125%", Some("1.25")),
            (r#""change""#, "rate", "90%", Some("-10%")),
            (r#""change""#, "pitch", "+12st", Some("+100%")),
            (r#""semitones""#, "pitch", "+2st", Some("+2st")),
            (r#""semitones""#, "pitch", "200Hz", None),
            (r#""text""#, "pitch", "200Hz", Some("200Hz")),
            (r#""decibels""#, "volume", "x-loud", Some("+12dB")),
            (r#""milliseconds""#, "time", "1.5s", Some("1500ms")),
            (r#"{"form":"percent","least":50,"most":200}"#, "rate", "40%", None),
            (r#"{"form":"percent","least":50,"most":200}"#, "rate", "200%", Some("200%")),
            (r#"{"form":"percent","words":["x-slow"]}"#, "rate", "x-slow", Some("x-slow")),
            (r#"["weak","strong"]"#, "strength", "strong", Some("strong")),
            (r#"["weak","strong"]"#, "strength", "medium", None),
        ] {
            let found = accepts(form).write(value, meant(attribute, value));
            assert_eq!(found.as_deref(), written, "{form} {attribute}={value}");
        }
    }

    #[test]
    fn a_dialect_names_what_ssml_knows() {
        let dialect = |text: &str| serde_json::from_str::<Dialect>(text).expect(text).check();
        assert!(dialect(r#"{"elements":{"break":{"time":"seconds"},"w":{}}}"#).is_ok());
        assert!(dialect(r#"{"elements":{"tone":{}}}"#).expect_err("tone").1.contains("not an element"));
        assert!(dialect(r#"{"elements":{"break":{"size":"text"}}}"#).expect_err("size").1.contains("no attribute"));
    }
}
