//! Transcripts out of engines' answers.

use dispatcher_core::{Cause, LineWords, SheetError, Transcript, TranscriptPaths, Word};
use serde_json::Value;
use serde_json_path::JsonPath;

use crate::EngineError;

/// Paths of a sheet, compiled.
pub(crate) struct Paths {
    spec: TranscriptPaths,
    text: JsonPath,
    language: Option<JsonPath>,
    words: Option<JsonPath>,
    word: Option<JsonPath>,
    start: Option<JsonPath>,
    end: Option<JsonPath>,
    confidence: Option<JsonPath>,
}

impl Paths {
    pub(crate) fn compile(spec: &TranscriptPaths, sheet: (&str, &str)) -> Result<Paths, SheetError> {
        let path = |key: &str, text: &str| {
            JsonPath::parse(text).map_err(|error| {
                SheetError::at_key(
                    sheet.0,
                    sheet.1,
                    &["recognition", "transcript", key],
                    format!("not a JSONPath: {error}"),
                )
            })
        };
        let optional = |key: &str, text: &Option<String>| text.as_ref().map(|text| path(key, text)).transpose();
        Ok(Paths {
            text: path("text", &spec.text)?,
            language: optional("language", &spec.language)?,
            words: optional("words", &spec.words)?,
            word: optional("word", &spec.word)?,
            start: optional("start", &spec.start)?,
            end: optional("end", &spec.end)?,
            confidence: optional("confidence", &spec.confidence)?,
            spec: spec.clone(),
        })
    }

    pub(crate) fn read(&self, answer: &Value) -> Result<Transcript, EngineError> {
        let first = |path: &JsonPath, node: &Value| path.query(node).first().cloned();
        let text = first(&self.text, answer)
            .and_then(|value| value.as_str().map(str::to_owned))
            .ok_or_else(|| EngineError::new(Cause::Broken, format!("there is no text at {}", self.spec.text)))?;
        let at = |path: &Option<JsonPath>, node: &Value| path.as_ref().and_then(|path| first(path, node));
        let number = |path: &Option<JsonPath>, node: &Value, factor: f64| {
            at(path, node).and_then(|value| value.as_f64().or_else(|| value.as_str()?.parse().ok())).map(|n| n * factor)
        };
        let unit = self.spec.unit.seconds();
        let share = if self.spec.percent { 0.01 } else { 1.0 };
        let nodes = self.words.as_ref().map(|path| path.query(answer).all()).unwrap_or_default();
        let words = nodes
            .into_iter()
            .filter_map(|node| {
                Some(Word {
                    text: at(&self.word, node)?.as_str()?.to_owned(),
                    start: number(&self.start, node, unit),
                    end: number(&self.end, node, unit),
                    confidence: number(&self.confidence, node, share).map(|c| c.clamp(0.0, 1.0)),
                    speaker: None,
                })
            })
            .collect();
        let language = at(&self.language, answer).and_then(|value| value.as_str().map(str::to_owned));
        Ok(Transcript { text, language: language.filter(|tag| tag != "und"), words, alternatives: Vec::new() })
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
