//! What recognition makes, in one form whatever the engine.

mod cues;

use serde::{Deserialize, Serialize};

pub use cues::vtt;

use crate::alignment::{Aligned, align_blocks};
use crate::normalise_words;

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
    /// Where there is audio in which nothing was recognised, in order; the
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

/// What a recording is called where a form asks for a name.
const RECORDING: &str = "audio";
/// Maximum seconds between words of one turn of a speaker.
const TURN: f64 = 0.5;

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

    /// The transcript with another text, as a person corrects it. Words that
    /// stay keep their times; those between them share the time that there is,
    /// and nobody says how sure they are.
    #[must_use]
    pub fn with_text(self, text: &str) -> Transcript {
        let text = text.trim().to_owned();
        if self.words.is_empty() {
            return Transcript { text, ..self };
        }
        let key = |word: &str| normalise_words(word).concat();
        let said: Vec<&str> = text.split_whitespace().collect();
        let before: Vec<String> = self.words.iter().map(|word| key(&word.text)).collect();
        let after: Vec<String> = said.iter().map(|word| key(word)).collect();
        let mut words: Vec<Word> =
            said.iter().map(|text| Word { text: (*text).to_owned(), ..Word::default() }).collect();
        let mut known = vec![false; words.len()];
        for step in align_blocks(&before, &after) {
            let (Aligned::Same(old, new) | Aligned::Substituted(old, new)) = step else { continue };
            let Word { start, end, speaker, confidence, .. } = self.words[old].clone();
            let confidence = confidence.filter(|_| before[old] == after[new]);
            words[new] = Word { start, end, speaker, confidence, text: std::mem::take(&mut words[new].text) };
            known[new] = true;
        }
        share_time(&mut words, &known, &self.words);
        Transcript { text, words, ..self }
    }

    /// A line for each word (RFC 4180): `start,end,text,confidence,speaker`,
    /// seconds; what is not known is empty. Without words, a line for the text.
    pub fn to_csv(&self, length: f64) -> String {
        let number = |value: Option<f64>| value.map(|value| format!("{value:.3}")).unwrap_or_default();
        let field = |text: &str| match text.contains([',', '"', '\n', '\r']) {
            true => format!("\"{}\"", text.replace('"', "\"\"")),
            false => text.to_owned(),
        };
        let line = |word: &Word| {
            let speaker = field(word.speaker.as_deref().unwrap_or_default());
            let (start, end, sure) = (number(word.start), number(word.end), number(word.confidence));
            format!("{start},{end},{},{sure},{speaker}\r\n", field(&word.text))
        };
        let lines: String = self.words_or_text(length).iter().map(line).collect();
        format!("start,end,text,confidence,speaker\r\n{lines}")
    }

    /// Time-marked words as CTM, the form of NIST's scoring tools: recording,
    /// channel, start, duration, word, confidence. Words without times are not
    /// in it.
    pub fn to_ctm(&self, length: f64) -> String {
        let line = |word: &Word| {
            let (start, end) = word.start.zip(word.end)?;
            // A word is one field.
            let text = word.text.split_whitespace().collect::<Vec<_>>().join("_");
            let sure = word.confidence.map(|sure| format!(" {sure:.3}")).unwrap_or_default();
            Some(format!("{RECORDING} 1 {start:.3} {:.3} {text}{sure}\n", (end - start).max(0.0)))
        };
        self.words_or_text(length).iter().filter_map(line).collect()
    }

    /// Who speaks when as RTTM, the form of NIST's scoring tools. Words of one
    /// speaker that follow one another within half a second are one turn; where
    /// nobody is told from others, all are `s1`.
    pub fn to_rttm(&self, length: f64) -> String {
        let mut turns: Vec<(f64, f64, String)> = Vec::new();
        for word in self.words_or_text(length) {
            let Some((start, end)) = word.start.zip(word.end) else { continue };
            let speaker = word.speaker.unwrap_or_else(|| "s1".into());
            match turns.last_mut() {
                Some((_, to, own)) if *own == speaker && start - *to <= TURN => *to = end,
                _ => turns.push((start, end, speaker)),
            }
        }
        let line = |(start, end, speaker): (f64, f64, String)| {
            format!("SPEAKER {RECORDING} 1 {start:.3} {:.3} <NA> <NA> {speaker} <NA> <NA>\n", (end - start).max(0.0))
        };
        turns.into_iter().map(line).collect()
    }

    /// The words; the text as one where there are none.
    fn words_or_text(&self, length: f64) -> Vec<Word> {
        if !self.words.is_empty() || self.text.trim().is_empty() {
            return self.words.clone();
        }
        let text = self.text.clone();
        vec![Word { text, start: Some(0.0), end: Some(length), confidence: None, speaker: None }]
    }
}

/// Gives words without times those between their neighbours.
fn share_time(words: &mut [Word], known: &[bool], before: &[Word]) {
    let (first, last) = (before.first().and_then(|it| it.start), before.last().and_then(|it| it.end));
    let mut at = 0;
    while at < words.len() {
        if known[at] {
            at += 1;
            continue;
        }
        let to = (at..words.len()).find(|index| known[*index]).unwrap_or(words.len());
        let previous = at.checked_sub(1).and_then(|index| words.get(index)).cloned();
        let start = previous.as_ref().map_or(first, |it| it.end);
        let end = words.get(to).map_or(last, |it| it.start);
        let speaker = previous.or_else(|| words.get(to).cloned()).and_then(|it| it.speaker);
        let count = (to - at) as f64;
        for (index, word) in words[at..to].iter_mut().enumerate() {
            let times = start.zip(end).map(|(start, end)| (start, (end - start).max(0.0) / count));
            word.start = times.map(|(start, each)| start + each * index as f64);
            word.end = times.map(|(start, each)| start + each * (index + 1) as f64);
            word.speaker.clone_from(&speaker);
        }
        at = to;
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_written_for_tables_and_for_scoring_tools() {
        let word = |text: &str, start: f64, end: f64, speaker: Option<&str>| Word {
            text: text.into(),
            start: Some(start),
            end: Some(end),
            confidence: Some(0.9),
            speaker: speaker.map(str::to_owned),
        };
        let transcript = Transcript {
            text: "Stand \"clear\", all. Aye".into(),
            words: vec![
                word("Stand", 0.2, 0.5, Some("s1")),
                word("\"clear\",", 0.5, 0.9, Some("s1")),
                Word { confidence: None, ..word("all.", 1.0, 1.25, Some("s1")) },
                word("Aye", 2.0, 2.4, Some("s2")),
            ],
            ..Transcript::default()
        };
        assert_eq!(
            transcript.to_csv(3.0),
            "start,end,text,confidence,speaker\r\n0.200,0.500,Stand,0.900,s1\r\n\
             0.500,0.900,\"\"\"clear\"\",\",0.900,s1\r\n1.000,1.250,all.,,s1\r\n2.000,2.400,Aye,0.900,s2\r\n"
        );
        assert_eq!(
            transcript.to_ctm(3.0),
            "audio 1 0.200 0.300 Stand 0.900\naudio 1 0.500 0.400 \"clear\", 0.900\naudio 1 1.000 0.250 all.\n\
             audio 1 2.000 0.400 Aye 0.900\n"
        );
        assert_eq!(
            transcript.to_rttm(3.0),
            "SPEAKER audio 1 0.200 1.050 <NA> <NA> s1 <NA> <NA>\nSPEAKER audio 1 2.000 0.400 <NA> <NA> s2 <NA> <NA>\n"
        );
        let untimed = Transcript { text: "All aboard".into(), ..Transcript::default() };
        assert_eq!(untimed.to_csv(2.5), "start,end,text,confidence,speaker\r\n0.000,2.500,All aboard,,\r\n");
        assert_eq!(untimed.to_ctm(2.5), "audio 1 0.000 2.500 All_aboard\n");
        assert_eq!(Transcript::default().to_rttm(2.5), "");
    }

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
    fn cues_end_at_pauses_and_speakers_and_stay_until_they_are_read() {
        let said = |text: &str, start: f64, end: f64, speaker: &str| Word {
            speaker: Some(speaker.into()),
            ..word(text, start, end)
        };
        let words = vec![
            said("Aye", 0.0, 0.3, "s1"),
            said("then", 1.4, 1.6, "s1"),
            said("Captain<2", 1.7, 1.9, "s2"),
            said("unquestionably", 2.0, 2.1, "s2"),
        ];
        let text = words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
        let transcript = Transcript { text, words, ..Transcript::default() };
        // 24 columns take 1.412 s to be read, of which 0.4 s are spoken.
        assert_eq!(
            transcript.to_vtt(9.0),
            "WEBVTT\n\n00:00:00.000 --> 00:00:00.300\n<v s1>Aye\n\n00:00:01.400 --> 00:00:01.600\n<v s1>then\n\n\
             00:00:01.700 --> 00:00:03.112\n<v s2>Captain&lt;2 unquestionably\n"
        );
        assert_eq!(
            transcript.to_srt(2.5),
            "1\n00:00:00,000 --> 00:00:00,300\ns1: Aye\n\n2\n00:00:01,400 --> 00:00:01,600\nthen\n\n\
             3\n00:00:01,700 --> 00:00:02,500\ns2: Captain<2 unquestionably\n",
            "a cue ends with the audio"
        );
    }

    #[test]
    fn a_corrected_text_keeps_the_times_of_its_words() {
        let words =
            vec![word("The", 0.0, 0.4), word("lamp", 0.5, 1.0), word("is", 2.0, 2.5), word("closing.", 2.5, 3.0)];
        let sure = words.into_iter().map(|word| Word { confidence: Some(0.9), ..word }).collect();
        let transcript = Transcript { text: "The lamp is closing.".into(), words: sure, ..Transcript::default() };
        let corrected = transcript.with_text(" The loading ramp, is closing now\n");
        assert_eq!(corrected.text, "The loading ramp, is closing now");
        let told: Vec<_> = corrected
            .words
            .iter()
            .map(|word| (word.text.as_str(), word.start, word.end, word.confidence.is_some()))
            .collect();
        assert_eq!(
            told,
            [
                ("The", Some(0.0), Some(0.4), true),
                ("loading", Some(0.4), Some(0.5), false),
                ("ramp,", Some(0.5), Some(1.0), false),
                ("is", Some(2.0), Some(2.5), true),
                ("closing", Some(2.5), Some(3.0), true),
                ("now", Some(3.0), Some(3.0), false),
            ]
        );
        let emptied = corrected.with_text(" ");
        assert_eq!((emptied.text.as_str(), emptied.words.len()), ("", 0));
    }

    #[test]
    fn without_word_times_there_is_one_cue() {
        let transcript = Transcript { text: "All aboard".into(), ..Transcript::default() };
        assert_eq!(transcript.to_vtt(2.5), "WEBVTT\n\n00:00:00.000 --> 00:00:02.500\nAll aboard\n");
        assert_eq!(Transcript::default().to_vtt(2.5), "WEBVTT\n");
    }
}
