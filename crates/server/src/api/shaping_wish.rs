//! What is asked for beyond the text: prosody, style, direction, variation.

use dispatcher_core::{Shaping, Style};
use dispatcher_markup::prosody::{self, ProsodyError};

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{NumberOrText, Prosody, StyleWish};

/// A direction is a sentence or two.
const MAX_DIRECTION: usize = 4_000;
/// Seeds are exact as JSON numbers, below 2^53.
const MAX_SEED: u64 = 1 << 53;

pub(super) fn shaping(
    prosody: Option<Prosody>,
    style: Option<StyleWish>,
    direction: Option<String>,
    variation: Option<f64>,
    seed: Option<u64>,
) -> Result<Shaping, Problem> {
    let wrong = |pointer: &str, detail: String| Err(Problem::at(ProblemKind::Invalid, pointer, detail));
    let read = |value: Option<NumberOrText>,
                pointer: &str,
                parse: fn(&str) -> Result<f64, ProsodyError>,
                range: (f64, f64)| {
        let Some(value) = value else { return Ok(None) };
        let text = value.text();
        let number = parse(&text).map_err(|error| Problem::at(ProblemKind::Invalid, pointer, error.to_string()))?;
        match (range.0 - 1e-9..=range.1 + 1e-9).contains(&number) {
            true => Ok(Some(number)),
            false => {
                Err(Problem::at(ProblemKind::Invalid, pointer, format!("'{text}' is outside of {}", range_of(pointer))))
            }
        }
    };
    let prosody = prosody.unwrap_or_default();
    if let Some(style) = &style {
        if style.name.trim().is_empty() {
            return wrong("/style/name", "a style needs a name".into());
        }
        if style.strength.is_some_and(|strength| !(0.0..=1.0).contains(&strength)) {
            return wrong("/style/strength", "the strength of a style is 0 to 1".into());
        }
    }
    if direction.as_ref().is_some_and(|direction| direction.len() > MAX_DIRECTION) {
        return wrong("/direction", format!("a direction has at most {MAX_DIRECTION} bytes"));
    }
    if variation.is_some_and(|variation| !(0.0..=1.0).contains(&variation)) {
        return wrong("/variation", "variation is 0 to 1".into());
    }
    if seed.is_some_and(|seed| seed >= MAX_SEED) {
        return wrong("/seed", "a seed is less than 2^53".into());
    }
    Ok(Shaping {
        rate: read(prosody.rate, "/prosody/rate", prosody::rate, (0.25, 4.0))?,
        pitch: read(prosody.pitch, "/prosody/pitch", prosody::pitch, (-12.0, 12.0))?,
        volume: read(prosody.volume, "/prosody/volume", prosody::volume, (-40.0, 12.0))?,
        style: style.map(|style| Style { name: style.name, strength: style.strength }),
        direction,
        variation,
        seed,
    })
}

fn range_of(pointer: &str) -> &'static str {
    match pointer {
        "/prosody/rate" => "25% to 400%",
        "/prosody/pitch" => "-12st to +12st",
        _ => "-40dB to +12dB",
    }
}
