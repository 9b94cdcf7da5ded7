//! What a document of SSML says, to stand-ins that take one: they know few
//! elements and refuse the rest, as engines do.

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

/// A stretch of a document that is spoken in one way.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Stretch {
    pub(crate) text: String,
    /// Milliseconds of silence before it.
    pub(crate) silence: f64,
    /// Times the ordinary.
    pub(crate) rate: f64,
    /// Times the ordinary.
    pub(crate) pitch: f64,
}

/// What a document says, stretch by stretch; only these elements may be part
/// of it.
pub(crate) fn spoken(document: &str, elements: &[&str]) -> Result<Vec<Stretch>, String> {
    let mut reader = Reader::from_str(document);
    let mut reading = Reading {
        elements,
        stretches: Vec::new(),
        text: String::new(),
        silence: 0.0,
        manners: Vec::new(),
        alias: None,
    };
    loop {
        match reader.read_event().map_err(|error| error.to_string())? {
            Event::Start(start) => reading.start(&start)?,
            Event::Empty(start) => {
                reading.start(&start)?;
                reading.end();
            }
            Event::End(_) => reading.end(),
            Event::Text(part) if !reading.manners.is_empty() => reading.text(&part.into_inner()),
            Event::Text(part) if part.trim().is_empty() => {}
            Event::CData(part) if !reading.manners.is_empty() => reading.text(&part.into_inner()),
            Event::GeneralRef(name) if !reading.manners.is_empty() => {
                let character = character(&name.into_inner())?;
                reading.text(character.encode_utf8(&mut [0; 4]));
            }
            Event::Eof if reading.manners.is_empty() => break,
            Event::Eof => return Err("the document ends inside an element".into()),
            Event::Decl(_) | Event::Comment(_) => {}
            _ => return Err("there is text outside of the document".into()),
        }
    }
    reading.part();
    Ok(reading.stretches)
}

struct Reading<'e> {
    elements: &'e [&'e str],
    stretches: Vec<Stretch>,
    text: String,
    silence: f64,
    /// Rate and pitch by element, the innermost last.
    manners: Vec<(f64, f64)>,
    /// Depth of the element whose text is not spoken.
    alias: Option<usize>,
}

impl Reading<'_> {
    fn start(&mut self, start: &BytesStart<'_>) -> Result<(), String> {
        let name = start.name().into_inner().to_owned();
        if self.manners.is_empty() && name != "speak" {
            return Err(format!("the document begins with {name} and not with speak"));
        }
        if !self.elements.contains(&name.as_str()) {
            return Err(format!("the element {name} is not known here"));
        }
        let mut manner = self.manners.last().copied().unwrap_or((1.0, 1.0));
        let before = manner;
        for attribute in start.attributes() {
            let attribute = attribute.map_err(|error| error.to_string())?;
            let value = attribute.value.to_string();
            match (name.as_str(), attribute.key.into_inner()) {
                ("break", "time") => {
                    self.part();
                    self.silence += pause(&value)?;
                }
                ("break", "strength") => {
                    self.part();
                    let strengths = [("weak", 150.0), ("medium", 350.0), ("strong", 600.0)];
                    let found = strengths.iter().find(|(name, _)| *name == value);
                    self.silence += found.ok_or_else(|| format!("no break is {value} here"))?.1;
                }
                ("prosody", "rate") => manner.0 = share(&value, 50.0, 200.0)?,
                ("prosody", "pitch") => {
                    let semitones: f64 =
                        value.strip_suffix("st").and_then(|number| number.parse().ok()).unwrap_or(99.0);
                    if semitones.abs() > 3.0 {
                        return Err(format!("no pitch is {value} here"));
                    }
                    manner.1 *= 2f64.powf(semitones / 12.0);
                }
                ("emphasis", "level") if matches!(value.as_str(), "moderate" | "strong") => {}
                ("sub", "alias") => {
                    self.text(&value);
                    self.alias = Some(self.manners.len());
                }
                (_, "xml:lang") => {}
                (_, other) => return Err(format!("{name} has no {other} here, or not of {value}")),
            }
        }
        if manner != before {
            self.part();
        }
        self.manners.push(manner);
        Ok(())
    }

    fn end(&mut self) {
        let before = self.manners.pop();
        if self.alias == Some(self.manners.len()) {
            self.alias = None;
        }
        let after = self.manners.last().copied();
        if let (Some(before), Some(after)) = (before, after)
            && before != after
        {
            self.manners.push(before);
            self.part();
            self.manners.pop();
        }
    }

    fn text(&mut self, text: &str) {
        if self.alias.is_none() {
            self.text.push_str(text);
        }
    }

    /// A stretch is over.
    fn part(&mut self) {
        let text = self.text.split_whitespace().collect::<Vec<_>>().join(" ");
        self.text.clear();
        if text.is_empty() {
            return;
        }
        let (rate, pitch) = self.manners.last().copied().unwrap_or((1.0, 1.0));
        let silence = std::mem::take(&mut self.silence);
        self.stretches.push(Stretch { text, silence, rate, pitch });
    }
}

/// Milliseconds, up to five seconds.
fn pause(value: &str) -> Result<f64, String> {
    let milliseconds = match value.strip_suffix("ms") {
        Some(number) => number.parse::<f64>().ok(),
        None => value.strip_suffix('s').and_then(|number| number.parse::<f64>().ok()).map(|seconds| seconds * 1_000.0),
    };
    milliseconds.filter(|pause| (0.0..=5_000.0).contains(pause)).ok_or_else(|| format!("no break takes {value} here"))
}

fn share(value: &str, least: f64, most: f64) -> Result<f64, String> {
    let share = value.strip_suffix('%').and_then(|number| number.parse::<f64>().ok());
    let share = share.filter(|share| (least..=most).contains(share));
    share.map(|share| share / 100.0).ok_or_else(|| format!("no rate is {value} here"))
}

/// All that is said, without how.
pub(crate) fn text_of(stretches: &[Stretch]) -> String {
    stretches.iter().map(|stretch| stretch.text.as_str()).collect::<Vec<_>>().join(" ")
}

fn character(name: &str) -> Result<char, String> {
    let number = name.strip_prefix('#').and_then(|number| match number.strip_prefix('x') {
        Some(hex) => u32::from_str_radix(hex, 16).ok(),
        None => number.parse().ok(),
    });
    match name {
        "amp" => Ok('&'),
        "lt" => Ok('<'),
        "gt" => Ok('>'),
        "quot" => Ok('"'),
        "apos" => Ok('\''),
        _ => number.and_then(char::from_u32).ok_or_else(|| format!("the entity {name} is not known here")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_are_read_and_strange_ones_refused() {
        let known = ["speak", "s", "break"];
        let read = |document| spoken(document, &known).map(|stretches| text_of(&stretches));
        assert_eq!(read("<speak>A &amp; B<break/> <s>&#233;&lt;</s></speak>"), Ok("A & B é<".into()));
        for strange in [
            "plain",
            "<s>x</s>",
            "<speak><p>x</p></speak>",
            "<speak>",
            "<speak>&bomb;</speak>",
            "<speak>x</s>",
            "<speak><break time=\"9s\"/>x</speak>",
        ] {
            assert!(read(strange).is_err(), "{strange}");
        }
    }

    #[test]
    fn breaks_and_prosody_part_what_is_said() {
        let known = ["speak", "break", "prosody", "sub"];
        let document = "<speak>One <break time=\"250ms\"/>two <prosody rate=\"50%\" pitch=\"+2st\">three</prosody> \
                        <sub alias=\"four\">4</sub></speak>";
        let found = spoken(document, &known).expect("a document");
        let parts: Vec<(&str, f64, f64)> = found.iter().map(|s| (s.text.as_str(), s.silence, s.rate)).collect();
        assert_eq!(parts, [("One", 0.0, 1.0), ("two", 250.0, 1.0), ("three", 0.0, 0.5), ("four", 0.0, 1.0)]);
        assert!((found[2].pitch - 1.122_462).abs() < 1e-6 && found[3].pitch == 1.0);
        assert!(spoken("<speak><prosody rate=\"20%\">x</prosody></speak>", &known).is_err());
    }
}
