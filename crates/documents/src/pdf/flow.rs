//! Lines in reading order into headings and paragraphs: running heads and
//! page numbers are taken out, words that a line end parted are joined.

use std::collections::{HashMap, HashSet};

use super::layout::Laid;
use super::lines::{TextLine, middle};
use crate::Block;

/// Larger than the text by so much is a heading.
const HEADING: f64 = 1.12;
/// Heads and feet stand in the outer parts of a page, of its height.
const MARGIN: f64 = 0.14;
/// A first line is drawn in by this, in font heights.
const INDENT: f64 = 0.7;
/// More than the usual distance of lines parts paragraphs.
const APART: f64 = 1.35;
/// A line that ends so far before the others ends its paragraph, in font heights.
const SHORT: f64 = 1.5;

/// Words that stand before a hyphen more often than they are parts of a word.
const COMPOUNDING: &[&str] = &[
    "well", "self", "half", "ill", "all", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten",
    "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety", "high", "low", "long", "short",
    "full", "open", "old", "left", "right", "cross", "first", "second", "third", "non", "ex",
];

pub(super) fn blocks(mut pages: Vec<Laid>) -> Vec<Block> {
    let body = weighted_middle(pages.iter().flat_map(|page| page.columns.iter().flatten()));
    take_out_heads(&mut pages, body);
    let all = || pages.iter().flat_map(|page| page.columns.iter().flatten());
    let body = weighted_middle(all());
    let known = vocabulary(all());
    let levels = levels(all(), body);
    // Who sets type with a hyphen of its own for line ends keeps the other.
    let told = all().any(|line| line.text.ends_with(['\u{ad}', '\u{2010}']));
    let mut flow = ReadingFlow { body, known: &known, levels: &levels, told, blocks: Vec::new(), open: None };
    for page in &pages {
        for column in &page.columns {
            flow.column(column);
        }
    }
    flow.end();
    flow.blocks
}

/// The size of most letters.
fn weighted_middle<'l>(lines: impl Iterator<Item = &'l TextLine>) -> f64 {
    middle(lines.flat_map(|line| std::iter::repeat_n(line.size, line.text.chars().count())))
}

/// The value of a numeral: figures, or Roman ones in small or large letters as
/// they are written by the rules.
fn numeral(text: &str) -> Option<i64> {
    if !text.is_empty() && text.len() <= 4 && text.bytes().all(|byte| byte.is_ascii_digit()) {
        return text.parse().ok();
    }
    const SIGNS: [(i64, &str); 13] = [
        (1_000, "m"),
        (900, "cm"),
        (500, "d"),
        (400, "cd"),
        (100, "c"),
        (90, "xc"),
        (50, "l"),
        (40, "xl"),
        (10, "x"),
        (9, "ix"),
        (5, "v"),
        (4, "iv"),
        (1, "i"),
    ];
    let even = text.chars().all(char::is_lowercase) || text.chars().all(char::is_uppercase);
    let lower = text.to_lowercase();
    let mut rest = lower.as_str();
    let mut value = 0;
    for (worth, sign) in SIGNS {
        let mut times = 0;
        while let Some(after) = rest.strip_prefix(sign).filter(|_| times < 3) {
            (rest, value, times) = (after, value + worth, times + 1);
        }
    }
    (even && value > 0 && rest.is_empty()).then_some(value)
}

/// What a line says of its page's number: the number, and whether it is
/// dressed as a page number (`Page 3 of 9`, `– 3 –`).
fn page_number(text: &str) -> Option<(i64, bool)> {
    let bare = text.trim_matches(|c: char| c.is_whitespace() || "-–—·|[]().".contains(c));
    let named = bare.strip_prefix("Page ").or(bare.strip_prefix("page "));
    let number = named.unwrap_or(bare);
    let (number, of) = match number.split_once(" of ").or(number.split_once('/')) {
        Some((number, all)) => (number.trim(), Some(numeral(all.trim())?)),
        None => (number, None),
    };
    let value = numeral(number)?;
    let dressed = named.is_some() || of.is_some() || bare.len() + 4 <= text.trim().len();
    of.is_none_or(|all| value <= all).then_some((value, dressed))
}

/// A line without what changes from page to page.
fn pattern(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            c if c.is_numeric() => {
                if !out.ends_with('#') {
                    out.push('#');
                }
            }
            c if c.is_whitespace() => {}
            c => out.extend(c.to_lowercase()),
        }
    }
    out
}

/// Where a line is on its page, coarsely.
fn height(line: &TextLine) -> i64 {
    (line.y / 4.0).round() as i64
}

/// Where a line is on its page, and how large it is, coarsely.
fn place(line: &TextLine) -> (i64, i64) {
    (height(line), (line.size * 2.0).round() as i64)
}

/// Whether a line is at the position of heads and feet.
fn outer(page: &Laid, line: &TextLine) -> bool {
    let height = page.top - page.bottom;
    line.y > page.top - MARGIN * height || line.y < page.bottom + MARGIN * height
}

/// Pages that a number may run ahead of its place in the file: more are years.
const MOST_AHEAD: i64 = 1_500;
/// Places on the page at which one running head is found.
const MOST_PLACES: usize = 3;

/// What runs through the edges of all pages.
struct Edges<'p> {
    pages: &'p [Laid],
    /// Lines of equal text: how many pages have them, and at which heights.
    texts: HashMap<String, (usize, HashSet<i64>)>,
    /// Lines alike but for numbers, and how far those run ahead of the page.
    numbered: HashMap<(String, i64), usize>,
    /// Where heads are, and how large.
    places: HashSet<(i64, i64)>,
    body: f64,
}

/// Lines at the edge of a page: only what has no text beyond it can be a head
/// or a foot.
fn edge_lines(page: &Laid) -> Vec<&TextLine> {
    let ys = || page.columns.iter().flatten().map(|line| line.y);
    let (low, high) = (ys().fold(f64::INFINITY, f64::min), ys().fold(f64::NEG_INFINITY, f64::max));
    let near = |line: &&TextLine| line.y > high - 2.5 * line.size || line.y < low + 2.5 * line.size;
    page.columns.iter().flatten().filter(|line| outer(page, line)).filter(near).collect()
}

/// A line whose number may run with the pages: what is alike on all of them,
/// and how far the number is ahead of the page.
fn numbered(text: &str, page: usize) -> Option<(String, i64)> {
    if let Some((value, _)) = page_number(text) {
        return Some(("#".into(), value - page as i64));
    }
    let mut numbers = text.split(|c: char| !c.is_ascii_digit()).filter(|part| !part.is_empty());
    let only = numbers.next().filter(|_| numbers.next().is_none())?;
    Some((pattern(text), only.parse::<i64>().ok()? - page as i64))
}

impl<'p> Edges<'p> {
    fn of(pages: &'p [Laid], body: f64) -> Edges<'p> {
        let mut edges = Edges { pages, texts: HashMap::new(), numbered: HashMap::new(), places: HashSet::new(), body };
        for (index, page) in pages.iter().enumerate() {
            let mut seen = HashSet::new();
            for line in edge_lines(page) {
                if seen.insert(line.text.as_str()) {
                    let known = edges.texts.entry(line.text.clone()).or_default();
                    known.0 += 1;
                    known.1.insert(height(line));
                }
                if let Some(run) = numbered(&line.text, index) {
                    *edges.numbered.entry(run).or_default() += 1;
                }
            }
        }
        for (index, page) in pages.iter().enumerate() {
            let heads = edge_lines(page).into_iter().filter(|line| edges.repeats(line, index));
            let heads: Vec<(i64, i64)> = heads.map(place).collect();
            edges.places.extend(heads);
        }
        edges
    }

    /// Whether a line is on other pages too, but for the number of the page.
    fn repeats(&self, line: &TextLine, page: usize) -> bool {
        let runs = numbered(&line.text, page).is_some_and(|run| {
            let ahead = run.1;
            let count = self.numbered.get(&run).copied().unwrap_or(0);
            count > 1 && (-(self.pages.len() as i64)..MOST_AHEAD).contains(&ahead)
        });
        if let Some((value, _)) = page_number(&line.text) {
            return runs || value == page as i64 + 1;
        }
        let equal = self.texts.get(&line.text).is_some_and(|(count, at)| *count > 1 && at.len() <= MOST_PLACES);
        // Headings that count, one a page, are no running heads.
        equal || line.size <= HEADING * self.body && runs
    }

    fn is_head(&self, line: &TextLine, page: usize) -> bool {
        let dressed = page_number(&line.text).is_some_and(|(_, dressed)| dressed);
        let alone = page_number(&line.text).is_some();
        dressed || self.repeats(line, page) || !alone && self.places.contains(&place(line))
    }
}

/// Takes out what is at the edge of other pages too, and page numbers.
fn take_out_heads(pages: &mut [Laid], body: f64) {
    let edges = Edges::of(pages, body);
    let several = pages.len() > 1;
    let heads: Vec<HashSet<(String, i64)>> = pages
        .iter()
        .enumerate()
        .map(|(index, page)| {
            let lines = edge_lines(page).into_iter();
            let is_head = |line: &&TextLine| match several {
                true => edges.is_head(line, index),
                false => page_number(&line.text).is_some_and(|(value, dressed)| dressed || value == 1),
            };
            lines.filter(is_head).map(|line| (line.text.clone(), height(line))).collect()
        })
        .collect();
    for (page, heads) in pages.iter_mut().zip(heads) {
        for column in &mut page.columns {
            column.retain(|line| !heads.contains(&(line.text.clone(), height(line))));
        }
        page.columns.retain(|column| !column.is_empty());
    }
}

/// The words of the document that no line end parts, in small letters.
fn vocabulary<'l>(lines: impl Iterator<Item = &'l TextLine>) -> HashSet<String> {
    let mut known = HashSet::new();
    for line in lines {
        let words: Vec<&str> = line.text.split_whitespace().collect();
        let last = words.len().saturating_sub(usize::from(line.text.ends_with(['-', '\u{ad}', '\u{2010}'])));
        for word in &words[..last] {
            known.insert(bare(word));
        }
    }
    known
}

fn bare(word: &str) -> String {
    word.trim_matches(|c: char| !c.is_alphanumeric()).to_lowercase()
}

/// Sizes of headings, the largest first.
fn levels<'l>(lines: impl Iterator<Item = &'l TextLine>, body: f64) -> Vec<i64> {
    let mut sizes: Vec<i64> =
        lines.filter(|line| line.size > HEADING * body).map(|line| (line.size * 2.0).round() as i64).collect();
    sizes.sort_unstable_by(|a, b| b.cmp(a));
    sizes.dedup();
    sizes
}

struct OpenParagraph {
    level: Option<u8>,
    text: String,
    /// The last line of it ended before the edge of its column.
    short: bool,
}

struct ReadingFlow<'f> {
    body: f64,
    known: &'f HashSet<String>,
    levels: &'f [i64],
    /// Hyphens of line ends are distinguished from those of compounds.
    told: bool,
    blocks: Vec<Block>,
    open: Option<OpenParagraph>,
}

impl ReadingFlow<'_> {
    fn level(&self, line: &TextLine) -> Option<u8> {
        let size = (line.size * 2.0).round() as i64;
        let at = self.levels.iter().position(|known| *known == size)?;
        Some(u8::try_from(at + 1).unwrap_or(6).min(6))
    }

    fn end(&mut self) {
        if let Some(OpenParagraph { level, text, .. }) = self.open.take() {
            self.blocks.push(match level {
                Some(level) => Block::Heading { level, text },
                None => Block::Paragraph(text),
            });
        }
    }

    fn column(&mut self, lines: &[TextLine]) {
        let own = |line: &&TextLine| (line.size / self.body - 1.0).abs() < 0.1;
        let left = lines.iter().filter(own).map(|line| line.x).fold(f64::INFINITY, f64::min);
        let edge = lines.iter().filter(own).map(|line| line.right).fold(f64::NEG_INFINITY, f64::max);
        let distance = usual_distance(lines);
        let mut above: Option<&TextLine> = None;
        for line in lines {
            let level = self.level(line);
            let indented = line.x > left + INDENT * line.size && line.x < left + 6.0 * line.size;
            let far = above.is_some_and(|above| above.y - line.y > APART * distance.max(line.size));
            let hanging =
                above.is_some_and(|above| above.x > line.x + INDENT * line.size && above.x > left + INDENT * line.size);
            let begins = match &self.open {
                None => true,
                Some(open) if open.level != level => true,
                Some(open) if level.is_some() => far || open.text.is_empty(),
                // At the head of a column or page a sentence goes on.
                Some(open) => match above {
                    None => ends_sentence(&open.text) && (indented || open.short),
                    Some(above) => {
                        let drawn_in = indented && above.x <= left + INDENT * line.size;
                        far || drawn_in || open.short && ends_sentence(&open.text) && !hanging
                    }
                },
            };
            if begins {
                self.end();
                self.open = Some(OpenParagraph { level, text: String::new(), short: false });
            }
            let short = line.right < edge - SHORT * line.size - 0.1 * (edge - left).max(0.0);
            let text = self.open.as_ref().map(|open| self.joined(&open.text, &line.text)).unwrap_or_default();
            self.open = Some(OpenParagraph { level, text, short });
            above = Some(line);
        }
    }

    /// A line appended to the preceding text.
    fn joined(&self, text: &str, line: &str) -> String {
        if text.is_empty() {
            return line.to_owned();
        }
        let Some(stem) = text.strip_suffix(['-', '\u{ad}', '\u{2010}']) else { return format!("{text} {line}") };
        let before = stem.rsplit(|c: char| c.is_whitespace()).next().unwrap_or_default();
        let after = line.split_whitespace().next().unwrap_or_default();
        let parts = (bare(before), bare(after));
        let goes_on = after.chars().next().is_some_and(char::is_lowercase);
        if !before.chars().last().is_some_and(char::is_alphabetic) || !goes_on {
            return format!("{text}{line}");
        }
        if text.ends_with('-') && self.is_compound(&parts.0, &parts.1) {
            return format!("{text}{line}");
        }
        format!("{stem}{line}")
    }

    /// Whether two words that a hyphen joins are written so within a line too.
    fn is_compound(&self, before: &str, after: &str) -> bool {
        let (whole, compound) = (format!("{before}{after}"), format!("{before}-{after}"));
        let known = |word: &str| self.known.contains(word);
        if known(&whole) || known(&compound) {
            return known(&compound) && !known(&whole);
        }
        let last = before.rsplit('-').next().unwrap_or(before);
        self.told || before.contains('-') || COMPOUNDING.contains(&last) && after.chars().count() > 3
    }
}

fn ends_sentence(text: &str) -> bool {
    let closed = text.trim_end_matches(['"', '”', '»', ')', '’', '\'']);
    closed.ends_with(['.', '!', '?', ':', '…', '。', '！', '？', '؟'])
}

/// The distance between base lines that most lines have.
fn usual_distance(lines: &[TextLine]) -> f64 {
    let pairs = lines.windows(2).map(|pair| pair[0].y - pair[1].y).filter(|distance| *distance > 0.5);
    let mut distances: Vec<f64> = pairs.collect();
    distances.sort_by(f64::total_cmp);
    distances.get(distances.len() / 3).copied().unwrap_or(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(number: usize, texts: &[(&str, f64)]) -> Laid {
        let line =
            |text: &str, y: f64, x: f64, size: f64, right: f64| TextLine { text: text.into(), x, right, y, size };
        let mut column = vec![line(&format!("Saltmarsh Ferries {number}"), 800.0, 50.0, 9.0, 150.0)];
        for (row, (text, right)) in texts.iter().enumerate() {
            let y = 740.0 - row as f64 * 12.0;
            let (text, x, size) = match text.strip_prefix("# ") {
                Some(text) => (text, 50.0, 14.0),
                None if text.starts_with(' ') => (text.trim_start(), 60.0, 10.0),
                None => (*text, 50.0, 10.0),
            };
            column.push(line(text, y, x, size, *right));
        }
        column.push(line(&format!("– {number} –"), 40.0, 250.0, 9.0, 270.0));
        Laid { columns: vec![column], bottom: 0.0, top: 842.0 }
    }

    #[test]
    fn heads_go_hyphens_close_and_paragraphs_run_over_pages() {
        let first = page(
            1,
            &[
                ("# Safety", 120.0),
                ("The mate counts the life jack-", 300.0),
                ("ets and the well-known doors. Life jackets", 300.0),
                ("are counted twice.", 140.0),
                (" A new paragraph begins, and the well-", 300.0),
            ],
        );
        let second =
            page(2, &[("known deck hand reads it at 10-", 300.0), ("20 metres.", 100.0), (" The end.", 100.0)]);
        let found = blocks(vec![first, second]);
        let texts: Vec<&str> = found.iter().map(Block::text).collect();
        assert_eq!(
            texts,
            [
                "Safety",
                "The mate counts the life jackets and the well-known doors. Life jackets are counted twice.",
                "A new paragraph begins, and the well-known deck hand reads it at 10-20 metres.",
                "The end."
            ]
        );
        assert_eq!(found[0], Block::Heading { level: 1, text: "Safety".into() });
    }

    #[test]
    fn a_hyphen_before_a_capital_or_a_number_stays() {
        let head = "Saltmarsh Ferries 1 ";
        let read = |before: &str, after: &str| {
            let page = text(vec![page(1, &[(before, 300.0), (after, 140.0)])]);
            page.strip_prefix(head).expect("of one page the head is text").to_owned()
        };
        assert_eq!(read("Take the Gullsay-", "Reedmouth ferry."), "Take the Gullsay-Reedmouth ferry.");
        assert_eq!(read("The mate counts the jack-", "ets twice."), "The mate counts the jackets twice.");
        assert_eq!(read("Deck plan A-", "4 is new."), "Deck plan A-4 is new.");
    }

    #[test]
    fn page_numbers_of_any_dress_are_known() {
        for (text, number) in [
            ("7", Some((7, false))),
            ("– 12 –", Some((12, true))),
            ("Page 3 of 9", Some((3, true))),
            ("3/9", Some((3, true))),
            ("xii", Some((12, false))),
            ("[4]", Some((4, false))),
            ("1984", Some((1984, false))),
            ("1984 was", None),
            ("civil", None),
            ("mild", None),
            ("door 4", None),
            ("20,000", None),
            ("9/3", None),
        ] {
            assert_eq!(page_number(text), number, "{text}");
        }
    }

    fn text(pages: Vec<Laid>) -> String {
        blocks(pages).iter().map(Block::text).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn a_year_or_a_word_at_the_edge_of_a_page_is_text() {
        let line = |text: &str, y: f64| TextLine { text: text.into(), x: 50.0, right: 300.0, y, size: 10.0 };
        let page = |top: &str, body: &str, foot: &str| Laid {
            columns: vec![vec![line(top, 800.0), line(body, 400.0), line(foot, 40.0)]],
            bottom: 0.0,
            top: 842.0,
        };
        let read = text(vec![page("1984", "The ferry was new.", "1"), page("civil", "It went on.", "2")]);
        assert_eq!(read, "1984 The ferry was new. civil It went on.");
        // One after the other, as years are and page numbers are.
        let years = vec![page("1984", "New.", "i"), page("1985", "Old.", "ii"), page("1986", "Gone.", "iii")];
        assert_eq!(text(years), "1984 New. 1985 Old. 1986 Gone.");
        let single = text(vec![page("Notice", "Berth", "7")]);
        assert_eq!(single, "Notice Berth 7", "a single page has no running number");
        let numbers =
            vec![page("Deck 1", "a.", "Sheet 4"), page("Deck 5", "b.", "Sheet 5"), page("Deck 2", "c.", "Sheet 6")];
        assert_eq!(text(numbers), "Deck 1 a. Deck 5 b. Deck 2 c.");
    }
}
