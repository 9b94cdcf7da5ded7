//! Subtitles of a transcript: where cues begin and end, WebVTT and SubRip.

use super::{GAP, Gap, Transcript, Word, is_dense, meet_dense};

/// Subtitles hold at most this long, and so many columns a cue, in lines of
/// at most so many. A character of writing without spaces takes two.
const CUE_SECONDS: f64 = 6.0;
const CUE_COLUMNS: usize = 72;
const LINE_COLUMNS: usize = 42;
/// Duration of a pause that ends a cue, in seconds.
const CUE_PAUSE: f64 = 1.0;
/// Columns that one reads in a second: a cue stays for as long, where there is
/// silence after it.
const READING_SPEED: f64 = 17.0;
/// Seconds without subtitles between two cues, where one stays longer.
const CUE_GAP: f64 = 0.1;

/// A subtitle.
struct Cue {
    start: f64,
    end: f64,
    text: String,
    speaker: Option<String>,
}

/// WebVTT (W3C) of cues: seconds of start and end, and text.
pub fn vtt(cues: impl IntoIterator<Item = (f64, f64, String)>) -> String {
    let mut out = String::from("WEBVTT\n");
    for (start, end, text) in cues {
        out += &format!("\n{} --> {}\n{}\n", clock(start, '.'), clock(end, '.'), vtt_text(&text));
    }
    out
}

/// "&" and "<" would be read as markup in a cue.
fn vtt_text(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

impl Transcript {
    /// WebVTT (W3C); speakers are voice spans (section 3.4). Without word times
    /// there is one cue of the whole length.
    pub fn to_vtt(&self, length: f64) -> String {
        let cue = |cue: &Cue| {
            let speaker = cue.speaker.as_deref().map(|name| format!("<v {}>", vtt_text(name))).unwrap_or_default();
            let text = vtt_text(&in_lines(&cue.text));
            format!("\n{} --> {}\n{speaker}{text}\n", clock(cue.start, '.'), clock(cue.end, '.'))
        };
        format!("WEBVTT\n{}", self.cues(length).iter().map(cue).collect::<String>())
    }

    /// SubRip subtitles; a speaker is named where another begins.
    pub fn to_srt(&self, length: f64) -> String {
        let mut before = None;
        let cue = |(index, cue): (usize, Cue)| {
            let Cue { start, end, text, speaker } = cue;
            let named = speaker.as_ref().filter(|_| speaker != before).map(|name| format!("{name}: "));
            let text = in_lines(&format!("{}{text}", named.unwrap_or_default()));
            before = speaker;
            format!("{}\n{} --> {}\n{text}\n", index + 1, clock(start, ','), clock(end, ','))
        };
        self.cues(length).into_iter().enumerate().map(cue).collect::<Vec<_>>().join("\n")
    }

    fn cues(&self, length: f64) -> Vec<Cue> {
        if self.text.is_empty() && self.words.is_empty() {
            return Vec::new();
        }
        let timed: Vec<(f64, f64, &Word)> =
            self.words.iter().filter_map(|word| Some((word.start?, word.end?, word))).collect();
        if timed.len() < self.words.len() || timed.is_empty() {
            return vec![Cue { start: 0.0, end: length, text: self.text.clone(), speaker: None }];
        }
        let mut cues: Vec<Cue> = Vec::new();
        let mut gaps = self.unrecognised.iter().peekable();
        let gap_cue = |gap: &Gap| Cue { start: gap.start, end: gap.end, text: GAP.into(), speaker: None };
        for (start, end, word) in timed {
            let mut parted = false;
            while let Some(gap) = gaps.next_if(|gap| gap.end <= start) {
                cues.push(gap_cue(gap));
                parted = true;
            }
            match cues.last_mut() {
                Some(cue) if !parted && cue.takes(word, start, end) => {
                    cue.end = end;
                    if !meet_dense(&cue.text, &word.text) {
                        cue.text += " ";
                    }
                    cue.text += &word.text;
                }
                _ => cues.push(Cue { start, end, text: word.text.clone(), speaker: word.speaker.clone() }),
            }
        }
        cues.extend(gaps.map(gap_cue));
        readable(&mut cues, length);
        cues
    }
}

impl Cue {
    /// Whether a word belongs to it too.
    fn takes(&self, word: &Word, start: f64, end: f64) -> bool {
        end - self.start <= CUE_SECONDS
            && start - self.end < CUE_PAUSE
            && self.speaker == word.speaker
            && columns(&self.text) + columns(&word.text) < CUE_COLUMNS
            && !self.text.ends_with(['.', '?', '!', '。', '？', '！', '؟'])
    }
}

/// Leaves cues that are too fast to be read where they are until the next.
fn readable(cues: &mut [Cue], length: f64) {
    for at in 0..cues.len() {
        let latest = cues.get(at + 1).map_or(length, |next| next.start - CUE_GAP);
        let cue = &mut cues[at];
        let needed = cue.start + columns(&cue.text) as f64 / READING_SPEED;
        cue.end = cue.end.max(needed.min(latest));
    }
}

fn columns(text: &str) -> usize {
    text.chars().map(|c| if is_dense(c) { 2 } else { 1 }).sum()
}

/// A cue in two lines, where it is longer than one: about equally long.
fn in_lines(text: &str) -> String {
    let whole = columns(text);
    if whole <= LINE_COLUMNS {
        return text.to_owned();
    }
    let dense =
        |at: usize| text[..at].chars().last().is_some_and(is_dense) && text[at..].chars().next().is_some_and(is_dense);
    let breaks = text.char_indices().filter(|(at, c)| *c == ' ' || (*at > 0 && dense(*at)));
    let off = |at: usize| columns(&text[..at]).abs_diff(whole / 2);
    match breaks.map(|(at, _)| at).min_by_key(|at| off(*at)) {
        Some(at) => format!("{}\n{}", text[..at].trim_end(), text[at..].trim_start()),
        None => text.to_owned(),
    }
}

fn clock(seconds: f64, mark: char) -> String {
    let milliseconds = (seconds.max(0.0) * 1_000.0).round() as u64;
    let (hours, minutes) = (milliseconds / 3_600_000, milliseconds / 60_000 % 60);
    format!("{hours:02}:{minutes:02}:{:02}{mark}{:03}", milliseconds / 1_000 % 60, milliseconds % 1_000)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_cue_has_two_lines_of_about_the_same_length() {
        assert_eq!(
            in_lines("Please keep the gangway free of luggage now"),
            "Please keep the gangway\nfree of luggage now"
        );
        assert_eq!(in_lines("Please keep the gangway free of luggage."), "Please keep the gangway free of luggage.");
        let dense = "六時十五分発ガルセイ行きは二十分遅れています。";
        assert_eq!(columns(dense), 46);
        assert_eq!(in_lines(dense), "六時十五分発ガルセイ行\nきは二十分遅れています。");
        let whole = "a".repeat(50);
        assert_eq!(in_lines(&whole), whole);
    }
}
