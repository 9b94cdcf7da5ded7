//! What cannot be said of a sheet by types alone.

use std::collections::BTreeMap;

use super::{Answer, Driver, FormatSpec, Pace, Poll, RangeControl, Request, Sheet, Step};
use crate::{Cause, Work};

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
        for (section, work) in [("synthesis", Work::Synthesis), ("recognition", Work::Recognition)] {
            if let Err(error) = self.tariff_of(work).check() {
                return wrong(&[section, "tariff", "price"], error.to_string());
            }
            if let Some(fault) = self.deadline_of(work).fault() {
                return wrong(&[section, "deadline"], fault.into());
            }
        }
        for rule in &self.errors {
            if !Cause::IN_SHEETS.contains(&rule.means) {
                return wrong(&["errors"], format!("only the gateway itself can report '{}'", rule.means));
            }
            if rule.status.is_none() && rule.contains.is_none() && rule.at.is_none() {
                return wrong(&["errors"], "a rule needs status, contains or at".into());
            }
            if rule.equals.is_some() && rule.at.is_none() {
                return wrong(&["errors"], "equals needs at: the path in the answer".into());
            }
        }
        self.check_access()?;
        self.check_regions()?;
        self.check_driver()?;
        self.check_synthesis()?;
        self.check_recognition()?;
        self.check_catalogue()?;
        self.check_pace()
    }

    fn check_access(&self) -> Result<(), Fault> {
        match self.access.fault() {
            Some((key, message)) => Err((vec!["access", key], message)),
            None => Ok(()),
        }
    }

    fn check_regions(&self) -> Result<(), Fault> {
        let Some(regions) = &self.regions else { return Ok(()) };
        if !self.access.public.contains(&regions.part) {
            let message = format!("'{}' is no public part of the credential: access.public", regions.part);
            return Err((vec!["regions", "part"], message));
        }
        let fits = |name: &String| (1..=40).contains(&name.len()) && name.bytes().all(|b| b.is_ascii_graphic());
        match (1..=64).contains(&regions.names.len()) && regions.names.iter().all(fits) {
            true => Ok(()),
            false => Err((vec!["regions", "names"], "name 1 to 64 regions, each of 1 to 40 letters and digits".into())),
        }
    }

    fn check_driver(&self) -> Result<(), Fault> {
        match self.driver {
            Driver::Http => match self.endpoint.as_deref() {
                None => Err((vec!["name"], "the http driver needs an endpoint".into())),
                Some(url) if url.starts_with("{{") => Ok(()),
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
        let wrong = |key: &'static str, message: String| Err((vec!["synthesis", key], message));
        if self.driver == Driver::Http {
            check_call("synthesis", synthesis)?;
            if synthesis.raw || synthesis.audio.is_some() {
                return wrong("call", "raw and audio send audio; a synthesiser is sent text".into());
            }
            if synthesis.answer.is_none() && synthesis.socket.is_none() {
                return Err((
                    vec!["synthesis"],
                    "answer is missing: \"audio\", { base64 = \"$.path\" } or { link = \"$.path\" }".into(),
                ));
            }
            check_around("synthesis", &synthesis.before, synthesis.poll.as_ref(), synthesis.fetch.as_ref())?;
        }
        if synthesis.formats.is_empty() {
            return Err((vec!["synthesis"], "[synthesis.formats] is missing: name at least one format".into()));
        }
        check_rates("synthesis", &synthesis.formats)?;
        if let Some(Err((path, message))) = synthesis.markup.as_ref().map(dispatcher_markup::Dialect::check) {
            return wrong("markup", format!("elements.{}: {message}", path.join(".")));
        }
        let controls = &synthesis.controls;
        let ranges = [&controls.rate, &controls.pitch, &controls.volume, &controls.variation, &controls.seed];
        check_ranges("synthesis", &ranges)?;
        if controls.rate.as_ref().is_some_and(|rate| rate.least <= 0.0) {
            return wrong("controls", "a rate is a factor greater than 0".into());
        }
        if synthesis.voices.is_empty() && self.catalogue.is_none() {
            return wrong("voices", "a synthesiser has at least one voice, or a [catalogue]".into());
        }
        for voice in &synthesis.voices {
            if let Some(tag) = voice.languages.iter().find(|tag| !crate::is_language_tag(tag)) {
                return wrong("voices", format!("'{tag}' of voice '{}' is not a BCP 47 tag", voice.id));
            }
            if voice.languages.is_empty() {
                return wrong("voices", format!("voice '{}' has no language", voice.id));
            }
        }
        Ok(())
    }

    fn check_recognition(&self) -> Result<(), Fault> {
        let Some(recognition) = &self.recognition else { return Ok(()) };
        let wrong = |message: &str| Err((vec!["recognition"], message.to_owned()));
        match self.driver {
            Driver::Http => {
                check_call("recognition", recognition)?;
                if recognition.transcript.is_none() {
                    return wrong("[recognition.transcript] is missing: where the text is");
                }
                if !matches!(recognition.answer, None | Some(Answer::Link { .. })) {
                    return wrong("answer is { link = \"$.path\" } here, or missing if the last answer is the result");
                }
                if recognition.pieces.as_ref().is_some_and(|pieces| pieces.bytes < 1_024) {
                    return wrong("pieces.bytes is at least 1024");
                }
                check_around(
                    "recognition",
                    &recognition.before,
                    recognition.poll.as_ref(),
                    recognition.fetch.as_ref(),
                )?;
                if let Some(pieces) = &recognition.pieces {
                    check_step("recognition", "pieces", pieces)?;
                }
            }
            Driver::Process if recognition.lines.is_none() => {
                return wrong("[recognition.lines] is missing: how the program prints words");
            }
            Driver::Process => {}
        }
        if recognition.formats.is_empty() {
            return wrong("[recognition.formats] is missing: name at least one format");
        }
        check_ranges("recognition", &[&recognition.controls.variation])?;
        check_rates("recognition", &recognition.formats)
    }

    fn check_catalogue(&self) -> Result<(), Fault> {
        let Some(catalogue) = &self.catalogue else { return Ok(()) };
        let wrong = |message: &str| Err((vec!["catalogue"], message.to_owned()));
        if self.synthesis.is_none() {
            return wrong("a catalogue lists voices, but this engine has no synthesis");
        }
        match self.driver {
            Driver::Http => {
                check_call("catalogue", catalogue)?;
                if catalogue.voices.is_none() {
                    return wrong("voices is missing: the path to the list, like \"$.voices[*]\"");
                }
                if catalogue.voice.id.is_none() {
                    return wrong("[catalogue.voice] needs id");
                }
                match &catalogue.each {
                    Some(each) => check_step("catalogue", "each", each),
                    None => Ok(()),
                }
            }
            Driver::Process if catalogue.line.is_none() => {
                wrong("line is missing: a regular expression with the group `id`")
            }
            Driver::Process => Ok(()),
        }
    }

    fn check_pace(&self) -> Result<(), Fault> {
        let Pace { per_minute, burst, at_once } = &self.pace;
        match [per_minute, burst, at_once].into_iter().any(|limit| *limit == Some(0)) {
            true => Err((vec!["limits"], "a limit is at least 1".into())),
            false => Ok(()),
        }
    }
}

fn check_call(section: &'static str, request: &dyn Request) -> Result<(), Fault> {
    let call = request.call_template().call;
    if call.is_empty() {
        return Err((vec![section], "call is missing, for example \"POST /speak\"".into()));
    }
    match call.split_once(' ').map(|(method, _)| method) {
        Some("GET" | "POST" | "PUT" | "PATCH" | "DELETE") => {}
        _ => {
            let message = "a call is GET, POST, PUT, PATCH or DELETE, a space, and a path";
            return Err((vec![section, "call"], message.into()));
        }
    }
    if request.bodies() > 1 {
        return Err((vec![section], "a call has one body: json, text, form, multipart or raw".into()));
    }
    Ok(())
}

/// As [`check_call`], of a table inside a section.
fn check_step(section: &'static str, table: &'static str, request: &dyn Request) -> Result<(), Fault> {
    check_call(section, request).map_err(|(_, message)| (vec![section, table], format!("{table}: {message}")))
}

fn check_around(
    section: &'static str,
    before: &[Step],
    poll: Option<&Poll>,
    fetch: Option<&Step>,
) -> Result<(), Fault> {
    before.iter().try_for_each(|step| check_step(section, "before", step))?;
    if let Some(poll) = poll {
        check_step(section, "poll", poll)?;
        let waits = [poll.first, poll.longest];
        if waits.iter().any(|wait| !(0.01..=600.0).contains(wait)) {
            return Err((vec![section, "poll"], "first and longest are between 0.01 and 600 seconds".into()));
        }
        if poll.state.is_some() && poll.done.is_empty() {
            return Err((vec![section, "poll"], "done is missing: the states of success".into()));
        }
    }
    fetch.map_or(Ok(()), |fetch| check_step(section, "fetch", fetch))
}

fn check_ranges(section: &'static str, ranges: &[&Option<RangeControl>]) -> Result<(), Fault> {
    let strange = |range: &&RangeControl| {
        let inside = |value: f64| (range.least..=range.most).contains(&value);
        range.least > range.most || range.neutral.is_some_and(|neutral| !inside(neutral))
    };
    match ranges.iter().filter_map(|range| range.as_ref()).any(|range| strange(&range)) {
        true => Err((vec![section, "controls"], "least, neutral and most must be in ascending order".into())),
        false => Ok(()),
    }
}

fn check_rates(section: &'static str, formats: &BTreeMap<String, FormatSpec>) -> Result<(), Fault> {
    match formats.iter().find(|(_, format)| format.sample_rates.is_empty() || format.sample_rates.contains(&0)) {
        Some((name, _)) => Err((vec![section, "formats"], format!("format '{name}' needs at least one rate in hertz"))),
        None => Ok(()),
    }
}
