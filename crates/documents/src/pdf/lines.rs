//! Letters into lines of words.

use super::{Glyph, Page};

/// A line of a column: words with single spaces.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct TextLine {
    pub(super) text: String,
    pub(super) x: f64,
    pub(super) right: f64,
    pub(super) y: f64,
    pub(super) size: f64,
}

/// Space between letters that is the space between words, in font heights.
const WORD: f64 = 0.16;
/// Space that may be that between columns. Where it is not, the parts of a
/// line are joined again once columns are known.
const APART: f64 = 0.8;
/// Letters whose base lines differ by less stand in one line, in font heights.
const LEVEL: f64 = 0.35;

/// Signs that stand for several letters.
fn spelt(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '\u{FB00}' => out += "ff",
            '\u{FB01}' => out += "fi",
            '\u{FB02}' => out += "fl",
            '\u{FB03}' => out += "ffi",
            '\u{FB04}' => out += "ffl",
            '\u{FB05}' | '\u{FB06}' => out += "st",
            '\u{A0}' | '\u{2000}'..='\u{200A}' => out.push(' '),
            '\u{0}' | '\u{FFFD}' => {}
            c => out.push(c),
        }
    }
    out
}

/// The lines of a page, from above, and from the left; parted at wide spaces.
pub(super) fn lines(page: &Page) -> Vec<TextLine> {
    let mut rows: Vec<Vec<&Glyph>> = Vec::new();
    let mut glyphs: Vec<&Glyph> = page.glyphs.iter().collect();
    glyphs.sort_by(|a, b| b.y.total_cmp(&a.y).then(a.x.total_cmp(&b.x)));
    for glyph in glyphs {
        let fits = |row: &Vec<&Glyph>| {
            row.iter().rev().take(40).any(|other| {
                let level = LEVEL * other.size.max(glyph.size);
                (other.y - glyph.y).abs() <= level && (other.x - glyph.x).abs() < 40.0 * other.size
            })
        };
        match rows.iter_mut().rev().take(12).find(|row| fits(row)) {
            Some(row) => row.push(glyph),
            None => rows.push(vec![glyph]),
        }
    }
    rows.into_iter().flat_map(parted).collect()
}

/// The lines of a row: where it has wide gaps, several.
fn parted(mut row: Vec<&Glyph>) -> Vec<TextLine> {
    row.sort_by(|a, b| a.x.total_cmp(&b.x));
    let mut parts: Vec<Vec<&Glyph>> = Vec::new();
    let mut edge = f64::NEG_INFINITY;
    for glyph in row {
        match parts.last_mut().filter(|_| glyph.x - edge < APART * glyph.size) {
            Some(part) => part.push(glyph),
            None => parts.push(vec![glyph]),
        }
        if !glyph.text.trim().is_empty() {
            edge = edge.max(glyph.right);
        }
    }
    parts.into_iter().filter_map(line).collect()
}

/// Parts of lines that stand side by side in one column, joined. They come
/// from above.
pub(super) fn joined(parts: Vec<TextLine>) -> Vec<TextLine> {
    let mut lines: Vec<TextLine> = Vec::new();
    for part in parts {
        let level = |line: &TextLine| (line.y - part.y).abs() <= LEVEL * line.size.min(part.size);
        match lines.iter_mut().rev().take(6).find(|line| level(line)) {
            Some(line) if part.x >= line.x => {
                line.text = format!("{} {}", line.text, part.text);
                line.right = line.right.max(part.right);
            }
            Some(line) => {
                line.text = format!("{} {}", part.text, line.text);
                line.x = part.x;
            }
            None => lines.push(part),
        }
    }
    lines
}

/// Letters side by side into a line.
fn line(mut glyphs: Vec<&Glyph>) -> Option<TextLine> {
    let size = middle(glyphs.iter().map(|glyph| glyph.size));
    let y = middle(glyphs.iter().filter(|glyph| glyph.size > 0.8 * size).map(|glyph| glyph.y));
    // The raised figures of notes are not read.
    let figure = |glyph: &Glyph| glyph.text.trim().chars().all(|c| c.is_ascii_digit() || c == '*');
    glyphs.retain(|glyph| !(glyph.size < 0.8 * size && glyph.y > y + 0.15 * size && figure(glyph)));
    let first = glyphs.iter().find(|glyph| !glyph.text.trim().is_empty())?;
    let mut line = TextLine { text: String::new(), x: first.x, right: first.x, y, size };
    let mut spaced = false;
    for glyph in glyphs {
        let text = spelt(&glyph.text);
        if text.trim().is_empty() {
            spaced = true;
            continue;
        }
        let gap = glyph.x - line.right;
        // Bold type may be drawn twice, a little apart.
        if gap < -0.6 * (glyph.right - glyph.x) && line.text.ends_with(text.as_str()) {
            continue;
        }
        if spaced && gap > -0.25 * glyph.size || gap > WORD * glyph.size {
            line.text.push(' ');
        }
        line.text += &text;
        line.right = line.right.max(glyph.right);
        spaced = false;
    }
    line.text = line.text.split_whitespace().collect::<Vec<_>>().join(" ");
    (!line.text.is_empty()).then_some(line)
}

/// The value in the middle; 0 of none.
pub(super) fn middle(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Letters of a fixed width from a place on.
    fn set(page: &mut Page, text: &str, x: f64, y: f64, size: f64) {
        for (number, c) in text.chars().enumerate() {
            let left = x + number as f64 * size * 0.5;
            if c != ' ' {
                page.glyphs.push(Glyph { text: c.to_string(), x: left, right: left + size * 0.5, y, size });
            }
        }
    }

    #[test]
    fn gaps_make_words_and_wide_ones_columns() {
        let mut page = Page::default();
        set(&mut page, "The ramp is closing", 50.0, 700.0, 10.0);
        set(&mut page, "of the ﬁrst door", 200.0, 700.4, 10.0);
        set(&mut page, "below", 50.0, 688.0, 10.0);
        let lines = lines(&page);
        let texts: Vec<&str> = lines.iter().map(|line| line.text.as_str()).collect();
        assert_eq!(texts, ["The ramp is closing", "of the first door", "below"]);
    }

    #[test]
    fn raised_figures_of_notes_are_left_out() {
        let mut page = Page::default();
        set(&mut page, "twice", 50.0, 700.0, 10.0);
        set(&mut page, "12", 75.2, 703.0, 6.0);
        set(&mut page, "more 10", 85.0, 700.0, 10.0);
        assert_eq!(lines(&page)[0].text, "twice more 10");
    }
}
