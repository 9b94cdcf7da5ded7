//! A synthesis request out of the parameters of a query.

use dispatcher_core::{Criteria, Gender, Site};

use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{AudioWish, NumberOrText, Prosody, StyleWish, UtteranceRequest};

/// All parameters but the text.
pub(super) fn from_parameters(given: &mut Parameters) -> Result<UtteranceRequest, Problem> {
    let named = given.text("voice");
    let mut criteria = Criteria {
        languages: given.text("languages"),
        gender: given.text("gender").map(|word| gender(&word)).transpose()?,
        style: given.text("style"),
        name: given.text("name"),
        site: given.text("site").map(|word| site(&word)).transpose()?,
    };
    let voice = match named {
        // With a named voice, `style` is how it speaks, as in JSON.
        Some(name) => {
            let style = criteria.style.take().map(|name| StyleWish { name, strength: None });
            if !criteria.is_empty() {
                let detail =
                    "languages, gender, name and site choose a voice, and 'voice' names one; send one or the other";
                return Err(Problem::new(ProblemKind::Invalid, detail));
            }
            (Some(serde_json::Value::String(name)), style)
        }
        None if criteria.is_empty() => (None, None),
        None => (serde_json::to_value(criteria).ok(), None),
    };
    let mut text = |name| given.text(name).map(NumberOrText::Text);
    let prosody = Prosody { rate: text("rate"), pitch: text("pitch"), volume: text("volume") };
    let audio = AudioWish {
        kind: given.text("type"),
        sample_rate: given.number("sample_rate")?,
        bitrate: given.number("bitrate")?,
        vbr: given.flag("vbr")?.unwrap_or(false),
        channels: given.number::<u32>("channels")?.map(|channels| u8::try_from(channels).unwrap_or(u8::MAX)),
        whole: given.flag("whole")?.unwrap_or(false),
    };
    Ok(UtteranceRequest {
        voice: voice.0,
        style: voice.1,
        model: given.text("model"),
        language: given.text("language"),
        direction: given.text("direction"),
        variation: given.number("variation")?,
        seed: given.number("seed")?,
        unsupported: given.text("unsupported"),
        deadline: given.number("deadline")?,
        credential: given.text("credential"),
        region: given.text("region"),
        webhook: given.text("webhook"),
        deliver: given.text("deliver"),
        expires_in: given.number("expires_in")?,
        prosody: Some(prosody),
        audio: Some(audio),
        ..UtteranceRequest::default()
    })
}

/// Where an engine runs.
pub(super) fn site(value: &str) -> Result<Site, Problem> {
    let wrong = || Problem::at(ProblemKind::Invalid, "/site", format!("site is cloud or local, not '{value}'"));
    Site::of_name(value).ok_or_else(wrong)
}

pub(super) fn gender(value: &str) -> Result<Gender, Problem> {
    match value {
        "female" => Ok(Gender::Female),
        "male" => Ok(Gender::Male),
        "neutral" => Ok(Gender::Neutral),
        _ => Err(Problem::new(ProblemKind::Invalid, format!("gender is female, male or neutral, not '{value}'"))),
    }
}
