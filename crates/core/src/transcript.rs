//! What recognition makes, in one form whatever the engine.

use serde::{Deserialize, Serialize};

/// One word with its place in the audio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
pub struct Word {
    /// The word as it is written, with its punctuation.
    pub text: String,
    /// Seconds from the beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<f64>,
    /// Seconds from the beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<f64>,
    /// 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
    /// Who speaks, as the recogniser names them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speaker: Option<String>,
}

/// Another reading of the same audio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Alternative {
    /// The whole text.
    pub text: String,
    /// 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
}

/// Text with words, times and confidences.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
pub struct Transcript {
    /// The whole text.
    pub text: String,
    /// BCP 47.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// The words in order, where the recogniser times them.
    #[serde(default)]
    pub words: Vec<Word>,
    /// Other readings, the best first.
    #[serde(default)]
    pub alternatives: Vec<Alternative>,
    /// Where there is sound in which nothing was recognised, in order; the
    /// text has [`GAP`] there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unrecognised: Vec<Gap>,
}

/// A stretch of audio without words, in seconds from the beginning.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Gap {
    /// Seconds from the start of the audio.
    pub start: f64,
    /// Seconds from the start of the audio.
    pub end: f64,
}

/// The mark of a gap in text and subtitles.
pub const GAP: &str = "[…]";

/// Subtitles hold at most this long, and so many characters a cue.
const CUE_SECONDS: f64 = 6.0;
const CUE_CHARACTERS: usize = 72;

/// WebVTT (W3C) of cues: seconds of start and end, and text.
pub fn vtt(cues: impl IntoIterator<Item = (f64, f64, String)>) -> String {
    let mut out = String::from("WEBVTT\n");
    for (start, end, text) in cues {
        // "&" and "<" would be read as markup in a cue.
        let text = text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
        out += &format!("\n{} --> {}\n{text}\n", clock(start, '.'), clock(end, '.'));
    }
    out
}

impl Transcript {
    /// Marks stretches in which nothing was recognised: in the list of gaps,
    /// and in the text, which needs words with times.
    #[must_use]
    pub fn with_unrecognised(mut self, mut gaps: Vec<Gap>) -> Transcript {
        gaps.sort_by(|one, other| one.start.total_cmp(&other.start));
        let mut marks: Vec<usize> = Vec::new();
        let mut waiting = gaps.iter().peekable();
        let mut at = 0;
        for word in &self.words {
            let Some(found) = self.text[at..].find(word.text.as_str()) else { break };
            while waiting.next_if(|gap| word.start.is_some_and(|start| start >= gap.end)).is_some() {
                marks.push(at + found);
            }
            at += found + word.text.len();
        }
        marks.extend(waiting.map(|_| self.text.len()));
        for at in marks.into_iter().rev() {
            let (before, after) = self.text.split_at(at);
            let before =
                if before.is_empty() || before.ends_with(' ') { before.to_owned() } else { format!("{before} ") };
            self.text = format!("{before}{GAP} {after}").trim_end().to_owned();
        }
        self.unrecognised = gaps;
        self
    }

    /// WebVTT (W3C). Without word times there is one cue of the whole length.
    pub fn to_vtt(&self, length: f64) -> String {
        vtt(self.cues(length))
    }

    /// SubRip subtitles.
    pub fn to_srt(&self, length: f64) -> String {
        let cue = |(index, (start, end, text)): (usize, (f64, f64, String))| {
            format!("{}\n{} --> {}\n{text}\n", index + 1, clock(start, ','), clock(end, ','))
        };
        self.cues(length).into_iter().enumerate().map(cue).collect::<Vec<_>>().join("\n")
    }

    fn cues(&self, length: f64) -> Vec<(f64, f64, String)> {
        if self.text.is_empty() && self.words.is_empty() {
            return Vec::new();
        }
        let timed: Vec<(f64, f64, &str)> =
            self.words.iter().filter_map(|word| Some((word.start?, word.end?, word.text.as_str()))).collect();
        if timed.len() < self.words.len() || timed.is_empty() {
            return vec![(0.0, length, self.text.clone())];
        }
        let mut cues: Vec<(f64, f64, String)> = Vec::new();
        let mut gaps = self.unrecognised.iter().peekable();
        for (start, end, word) in timed {
            let mut parted = false;
            while let Some(gap) = gaps.next_if(|gap| gap.end <= start) {
                cues.push((gap.start, gap.end, GAP.into()));
                parted = true;
            }
            match cues.last_mut() {
                Some((from, to, text))
                    if !parted
                        && end - *from <= CUE_SECONDS
                        && text.chars().count() + word.chars().count() < CUE_CHARACTERS
                        && !text.ends_with(['.', '?', '!', '。', '؟']) =>
                {
                    *to = end;
                    if !meet_dense(text, word) {
                        *text += " ";
                    }
                    *text += word;
                }
                _ => cues.push((start, end, word.to_owned())),
            }
        }
        cues.extend(gaps.map(|gap| (gap.start, gap.end, GAP.to_owned())));
        cues
    }
}

/// Whether two texts meet in writing that has no spaces.
pub(crate) fn meet_dense(first: &str, second: &str) -> bool {
    first.chars().last().is_some_and(is_dense) && second.chars().next().is_some_and(is_dense)
}

/// Writing without spaces between words: Japanese and Chinese.
fn is_dense(c: char) -> bool {
    matches!(c, '\u{3000}'..='\u{30ff}' | '\u{3400}'..='\u{9fff}' | '\u{f900}'..='\u{faff}' | '\u{ff00}'..='\u{ffef}')
}

fn clock(seconds: f64, mark: char) -> String {
    let milliseconds = (seconds.max(0.0) * 1_000.0).round() as u64;
    let (hours, minutes) = (milliseconds / 3_600_000, milliseconds / 60_000 % 60);
    format!("{hours:02}:{minutes:02}:{:02}{mark}{:03}", milliseconds / 1_000 % 60, milliseconds % 1_000)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn word(text: &str, start: f64, end: f64) -> Word {
        Word { text: text.into(), start: Some(start), end: Some(end), ..Word::default() }
    }

    #[test]
    fn cues_break_at_sentences_and_escape_markup() {
        let words = vec![word("Stand", 0.0, 0.4), word("clear.", 0.5, 1.0), word("Bow<5", 61.0, 61.5)];
        let transcript = Transcript { text: "Stand clear. Bow<5".into(), words, ..Transcript::default() };
        assert_eq!(
            transcript.to_vtt(62.0),
            "WEBVTT\n\n00:00:00.000 --> 00:00:01.000\nStand clear.\n\n00:01:01.000 --> 00:01:01.500\nBow&lt;5\n"
        );
        assert_eq!(
            transcript.to_srt(62.0),
            "1\n00:00:00,000 --> 00:00:01,000\nStand clear.\n\n2\n00:01:01,000 --> 00:01:01,500\nBow<5\n"
        );
    }

    #[test]
    fn a_gap_is_marked_in_text_and_subtitles() {
        let words = vec![word("Stand", 0.0, 0.4), word("clear.", 0.5, 1.0), word("All", 6.0, 6.5)];
        let transcript = Transcript { text: "Stand clear. All".into(), words, ..Transcript::default() };
        let gaps = vec![Gap { start: 8.0, end: 9.0 }, Gap { start: 1.5, end: 5.5 }];
        let marked = transcript.with_unrecognised(gaps);
        assert_eq!(marked.text, "Stand clear. […] All […]");
        assert_eq!(marked.unrecognised[0], Gap { start: 1.5, end: 5.5 });
        assert_eq!(
            marked.to_vtt(9.0),
            "WEBVTT\n\n00:00:00.000 --> 00:00:01.000\nStand clear.\n\n00:00:01.500 --> 00:00:05.500\n[…]\n\n\
             00:00:06.000 --> 00:00:06.500\nAll\n\n00:00:08.000 --> 00:00:09.000\n[…]\n"
        );
    }

    #[test]
    fn without_word_times_there_is_one_cue() {
        let transcript = Transcript { text: "All aboard".into(), ..Transcript::default() };
        assert_eq!(transcript.to_vtt(2.5), "WEBVTT\n\n00:00:00.000 --> 00:00:02.500\nAll aboard\n");
        assert_eq!(Transcript::default().to_vtt(2.5), "WEBVTT\n");
    }
}
