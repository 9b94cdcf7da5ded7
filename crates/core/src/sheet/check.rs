//! What cannot be said of a sheet by types alone.

use std::collections::BTreeMap;

use super::{Driver, FormatSpec, Sheet};
use crate::Cause;

/// The version of the sheet language that is read here.
const LANGUAGE_VERSION: u32 = 1;

/// A path to a key, and what is wrong there.
pub(super) type Fault = (Vec<&'static str>, String);

impl Sheet {
    /// What cannot be said by types alone.
    pub(super) fn check(&self) -> Result<(), Fault> {
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
            if rule.status.is_none() && rule.contains.is_none() && rule.at.is_none() {
                return wrong(&["errors"], "a rule needs status, contains or at".into());
            }
            if rule.equals.is_some() && rule.at.is_none() {
                return wrong(&["errors"], "equals needs at, the place in the answer to look at".into());
            }
        }
        self.check_access()?;
        self.check_driver()?;
        self.check_synthesis()?;
        self.check_recognition()
    }

    fn check_access(&self) -> Result<(), Fault> {
        match self.access.fault() {
            Some((key, message)) => Err((vec!["access", key], message)),
            None => Ok(()),
        }
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
