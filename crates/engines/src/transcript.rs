//! Transcripts and timed words out of engines' answers.

use std::collections::HashMap;

use dispatcher_core::{Alternative, Cause, LineWords, SheetError, Transcript, TranscriptPaths, Word, WordPaths};
use serde_json::Value;
use serde_json_path::JsonPath;

use crate::EngineError;

fn compile(path: &str, sheet: (&str, &str), key: &[&str]) -> Result<JsonPath, SheetError> {
    JsonPath::parse(path).map_err(|error| SheetError::at_key(sheet.0, sheet.1, key, format!("not a JSONPath: {error}")))
}

fn number(path: Option<&JsonPath>, node: &Value) -> Option<f64> {
    let value = path?.query(node).first()?.clone();
    value.as_f64().or_else(|| value.as_str()?.trim().trim_end_matches('s').parse().ok()).filter(|n: &f64| n.is_finite())
}

/// A text, or a number as one.
fn text(path: Option<&JsonPath>, node: &Value) -> Option<String> {
    match path?.query(node).first()? {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

/// Where timed words lie, compiled.
pub(crate) struct WordList {
    words: JsonPath,
    word: JsonPath,
    start: Option<JsonPath>,
    end: Option<JsonPath>,
    duration: Option<JsonPath>,
    unit: f64,
}

impl WordList {
    pub(crate) fn compile(spec: &WordPaths, sheet: (&str, &str), key: &[&str]) -> Result<WordList, SheetError> {
        let optional = |path: &Option<String>| path.as_deref().map(|path| compile(path, sheet, key)).transpose();
        Ok(WordList {
            words: compile(&spec.words, sheet, key)?,
            word: compile(&spec.word, sheet, key)?,
            start: optional(&spec.start)?,
            end: optional(&spec.end)?,
            duration: optional(&spec.duration)?,
            unit: spec.unit.seconds(),
        })
    }

    /// Each word, with its node.
    fn nodes<'a>(&self, message: &'a Value) -> Vec<(&'a Value, Word)> {
        let one = |node: &'a Value| {
            let text = text(Some(&self.word), node)?;
            let time = |path: &Option<JsonPath>| number(path.as_ref(), node).map(|n| n * self.unit);
            let start = time(&self.start);
            let end = time(&self.end).or_else(|| Some(start? + time(&self.duration)?));
            Some((node, Word { text, start, end, confidence: None, speaker: None }))
        };
        self.words.query(message).all().into_iter().filter_map(one).collect()
    }

    pub(crate) fn read(&self, message: &Value) -> Vec<Word> {
        self.nodes(message).into_iter().map(|(_, word)| word).collect()
    }
}

/// Paths of a sheet, compiled.
pub(crate) struct Paths {
    spec: TranscriptPaths,
    text: JsonPath,
    language: Option<JsonPath>,
    region: Option<JsonPath>,
    /// The text may come in any number of parts.
    lists: bool,
    segments: Option<JsonPath>,
    segment_speaker: Option<JsonPath>,
    words: Option<WordList>,
    confidence: Option<JsonPath>,
    speaker: Option<JsonPath>,
    alternatives: Option<JsonPath>,
    alternative: Option<JsonPath>,
    alternative_confidence: Option<JsonPath>,
}

impl Paths {
    pub(crate) fn compile(spec: &TranscriptPaths, sheet: (&str, &str)) -> Result<Paths, SheetError> {
        let key = |key| ["recognition", "transcript", key];
        let optional = |name: &'static str, path: &Option<String>| {
            path.as_deref().map(|path| compile(path, sheet, &key(name))).transpose()
        };
        let words = spec.words.as_ref().zip(spec.word.as_ref()).map(|(words, word)| WordPaths {
            words: words.clone(),
            word: word.clone(),
            start: spec.start.clone(),
            end: spec.end.clone(),
            duration: spec.duration.clone(),
            unit: spec.unit,
        });
        Ok(Paths {
            text: compile(&spec.text, sheet, &key("text"))?,
            language: optional("language", &spec.language)?,
            region: optional("region", &spec.region)?,
            lists: spec.text.contains(['*', '?']) || spec.text.contains(".."),
            segments: optional("segments", &spec.segments)?,
            segment_speaker: optional("segment_speaker", &spec.segment_speaker)?,
            words: words.map(|words| WordList::compile(&words, sheet, &key("words"))).transpose()?,
            confidence: optional("confidence", &spec.confidence)?,
            speaker: optional("speaker", &spec.speaker)?,
            alternatives: optional("alternatives", &spec.alternatives)?,
            alternative: optional("alternative", &spec.alternative)?,
            alternative_confidence: optional("alternative_confidence", &spec.alternative_confidence)?,
            spec: spec.clone(),
        })
    }

    fn share(&self, value: Option<f64>) -> Option<f64> {
        let share = if self.spec.percent { 0.01 } else { 1.0 };
        value.map(|value| (value * share).clamp(0.0, 1.0))
    }

    pub(crate) fn read(&self, answer: &Value) -> Result<Transcript, EngineError> {
        let found = self.text.query(answer).all();
        // A list in which nothing was recognised is an answer.
        let nothing = found.is_empty() && self.lists && answer.is_object();
        if nothing {
            return Ok(Transcript::default());
        }
        if found.is_empty() || !found.iter().all(|value| value.is_string()) {
            return Err(EngineError::new(Cause::Broken, format!("the answer has no text at {}", self.spec.text)));
        }
        let whole = found.iter().filter_map(|value| value.as_str()).collect::<Vec<_>>().join(&self.spec.join);
        let segments = match &self.segments {
            Some(path) => path.query(answer).all(),
            None => vec![answer],
        };
        let mut speakers = Speakers::default();
        let mut words = Vec::new();
        for segment in segments {
            let told = text(self.segment_speaker.as_ref(), segment);
            for (node, mut word) in self.words.iter().flat_map(|list| list.nodes(segment)) {
                word.confidence = self.share(number(self.confidence.as_ref(), node));
                word.speaker = text(self.speaker.as_ref(), node).or_else(|| told.clone()).map(|it| speakers.name(it));
                words.push(word);
            }
        }
        let other = |node: &Value| {
            let text = match &self.alternative {
                Some(path) => text(Some(path), node)?,
                None => node.as_str()?.to_owned(),
            };
            Some(Alternative { text, confidence: self.share(number(self.alternative_confidence.as_ref(), node)) })
        };
        let others = self.alternatives.as_ref().map(|path| path.query(answer).all()).unwrap_or_default();
        let language = text(self.language.as_ref(), answer).filter(|tag| !tag.is_empty() && tag != "und");
        let region = text(self.region.as_ref(), answer).filter(|region| !region.is_empty());
        let language = match (language, region) {
            (Some(language), Some(region)) if !language.contains('-') => Some(format!("{language}-{region}")),
            (language, _) => language,
        };
        let alternatives = others.into_iter().filter_map(other).collect();
        Ok(Transcript { text: whole, language, words, alternatives, ..Transcript::default() })
    }
}

/// Engines name speakers as they like; here they are `s1`, `s2` … by first
/// appearance.
#[derive(Default)]
struct Speakers(HashMap<String, usize>);

impl Speakers {
    fn name(&mut self, told: String) -> String {
        let next = self.0.len() + 1;
        format!("s{}", self.0.entry(told).or_insert(next))
    }
}

/// Lines of `text start end confidence`; other lines are passed over.
pub(crate) fn read_lines(output: &str, spec: &LineWords) -> Transcript {
    let unit = spec.unit.seconds();
    let words: Vec<Word> = output
        .lines()
        .filter_map(|line| {
            let mut columns = line.split_whitespace();
            let (text, start, end, confidence) = (columns.next()?, columns.next()?, columns.next()?, columns.next()?);
            if columns.next().is_some() || spec.ignore.iter().any(|ignored| ignored == text) {
                return None;
            }
            let number = |text: &str| text.parse::<f64>().ok().filter(|n| n.is_finite());
            let text = match text.split_once('(') {
                Some((word, _)) if spec.variants && text.ends_with(')') => word,
                _ => text,
            };
            Some(Word {
                text: text.to_owned(),
                start: Some(number(start)? * unit),
                end: Some(number(end)? * unit),
                confidence: Some(number(confidence)?.clamp(0.0, 1.0)),
                speaker: None,
            })
        })
        .collect();
    let text = words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    Transcript { text, words, ..Transcript::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_words_become_a_transcript() {
        let spec = LineWords { ignore: vec!["<s>".into(), "</s>".into()], variants: true, ..default() };
        let output = "are you that\n<s> 0.0 0.18 0.99\nare 0.19 0.62 0.15\nthat(2) 0.98 1.51 0.9\nfour words on one\n</s> 2 3 1\n";
        let transcript = read_lines(output, &spec);
        assert_eq!(transcript.text, "are that");
        assert_eq!(transcript.words[1].start, Some(0.98));
    }

    fn default() -> LineWords {
        LineWords { ignore: Vec::new(), variants: false, unit: dispatcher_core::TimeUnit::Seconds }
    }

    #[test]
    fn times_and_confidences_come_in_their_units() {
        let spec: TranscriptPaths = serde_json::from_value(serde_json::json!({
            "text": "$.h.line", "words": "$.h.parts[*]", "word": "$.w", "start": "$.a", "end": "$.b",
            "confidence": "$.c", "unit": "milliseconds", "percent": true
        }))
        .expect("spec");
        let paths = Paths::compile(&spec, ("", "")).expect("paths");
        let answer =
            serde_json::json!({"h": {"line": "tide", "parts": [{"w": "tide", "a": 250, "b": "500", "c": 87}]}});
        let word = &paths.read(&answer).expect("transcript").words[0];
        assert_eq!((word.start, word.end, word.confidence), (Some(0.25), Some(0.5), Some(0.87)));
        assert!(paths.read(&serde_json::json!({"h": {}})).is_err());
    }
}
