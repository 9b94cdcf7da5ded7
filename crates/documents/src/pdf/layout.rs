//! Lines of a page into reading order: columns one after the other, between
//! lines that go across the page.

use super::Page;
use super::lines::{TextLine, joined, lines, middle};

/// The lines of a page in the order in which they are read, by column.
#[derive(Debug, Default)]
pub(super) struct Laid {
    pub(super) columns: Vec<Vec<TextLine>>,
    /// The lowest and the highest line that a page can have.
    pub(super) bottom: f64,
    pub(super) top: f64,
}

/// Number of lines on either side that make a column.
const FEWEST: usize = 4;
/// The narrowest space between columns, in font heights.
const GUTTER: f64 = 0.8;
/// Columns side by side at most.
const MOST: usize = 4;

/// Lays pages out. Where a page has too little text to show its columns, those
/// of the others tell them.
pub(super) fn lay_out(pages: &[Page]) -> Vec<Laid> {
    let read: Vec<Vec<TextLine>> = pages.iter().map(lines).collect();
    let mut hints = Vec::new();
    for lines in &read {
        gutters(lines, MOST, &mut hints);
    }
    let laid = |(page, lines): (&Page, Vec<TextLine>)| Laid {
        columns: columns(lines, MOST, &hints),
        bottom: page.bottom,
        top: page.top,
    };
    pages.iter().zip(read).map(laid).collect()
}

/// The gutters of a page, those within columns too.
fn gutters(lines: &[TextLine], most: usize, found: &mut Vec<f64>) {
    let Some(gutter) = gutter(lines, &[]).filter(|_| most > 1) else { return };
    found.push(gutter);
    let (left, right): (Vec<TextLine>, Vec<TextLine>) =
        lines.iter().filter(|line| line.right <= gutter || line.x >= gutter).cloned().partition(|l| l.x < gutter);
    gutters(&left, most - 1, found);
    gutters(&right, most - 1, found);
}

/// Lines parted into columns, each from above.
fn columns(mut lines: Vec<TextLine>, most: usize, hints: &[f64]) -> Vec<Vec<TextLine>> {
    lines.sort_by(|a, b| b.y.total_cmp(&a.y).then(a.x.total_cmp(&b.x)));
    let Some(gutter) = gutter(&lines, hints).filter(|_| most > 1) else {
        return if lines.is_empty() { Vec::new() } else { vec![joined(lines)] };
    };
    let mut out = Vec::new();
    let (mut left, mut right) = (Vec::new(), Vec::new());
    let mut across: Vec<TextLine> = Vec::new();
    for line in lines {
        match (line.right <= gutter, line.x >= gutter) {
            (true, _) | (_, true) => {
                if !across.is_empty() {
                    out.push(joined(std::mem::take(&mut across)));
                }
                if line.right <= gutter { left.push(line) } else { right.push(line) }
            }
            _ => {
                for side in [&mut left, &mut right] {
                    out.extend(columns(std::mem::take(side), most - 1, hints));
                }
                across.push(line);
            }
        }
    }
    for side in [left, right] {
        out.extend(columns(side, most - 1, hints));
    }
    if !across.is_empty() {
        out.push(joined(across));
    }
    out
}

/// How many lines stand one below the other.
fn rows<'l>(lines: impl Iterator<Item = &'l TextLine>) -> usize {
    let mut ys: Vec<f64> = lines.map(|line| line.y).collect();
    ys.sort_by(f64::total_cmp);
    ys.dedup_by(|a, b| (*a - *b).abs() < 3.0);
    ys.len()
}

/// The middle of the space between two columns, where there are two: few
/// lines go across it, and enough stand on either side, at the same heights.
/// At a hint a single line on either side is enough.
fn gutter(lines: &[TextLine], hints: &[f64]) -> Option<f64> {
    let size = middle(lines.iter().map(|line| line.size));
    let (from, to) = (
        lines.iter().map(|line| line.x).fold(f64::INFINITY, f64::min),
        lines.iter().map(|line| line.right).fold(f64::NEG_INFINITY, f64::max),
    );
    let mut best: Option<(usize, f64, f64)> = None;
    let mut starts: Vec<f64> = lines.iter().map(|line| line.x).filter(|x| *x > from + 0.2 * (to - from)).collect();
    starts.sort_by(f64::total_cmp);
    starts.dedup_by(|a, b| (*a - *b).abs() < 0.5);
    for start in starts {
        let edge = start - 0.01;
        let right: Vec<&TextLine> = lines.iter().filter(|line| line.x >= edge).collect();
        // A page number below says nothing of the columns.
        let low = right.iter().map(|line| line.y).fold(f64::INFINITY, f64::min) - size;
        let high = right.iter().map(|line| line.y).fold(f64::NEG_INFINITY, f64::max) + size;
        let beside = lines.iter().filter(|line| line.x < edge && (low..=high).contains(&line.y));
        let (left, across): (Vec<&TextLine>, Vec<&TextLine>) = beside.partition(|line| line.right <= edge);
        let crossing = across.len();
        // Ragged lines leave room by chance: columns go on beside each other.
        let beside = right.iter().filter(|line| left.iter().any(|other| (other.y - line.y).abs() < 3.0 * size)).count();
        let wide = |side: &[&TextLine]| {
            let from = side.iter().map(|line| line.x).fold(f64::INFINITY, f64::min);
            side.iter().map(|line| line.right).fold(f64::NEG_INFINITY, f64::max) - from > 8.0 * size
        };
        let hinted = hints.iter().any(|hint| (*hint - start).abs() < 2.0 * size && *hint < start);
        let (rows, all) = (|side: &[&TextLine]| rows(side.iter().copied()), rows(lines.iter()));
        let fewest = if hinted { 1 } else { FEWEST.max(all / 4) };
        if rows(&left) < fewest || rows(&right) < fewest || beside * 2 < right.len().min(left.len()) {
            continue;
        }
        let believable = hinted || wide(&left) && wide(&right);
        if crossing * 3 > left.len() + right.len() || !believable {
            continue;
        }
        let inner = left.iter().map(|line| line.right).fold(f64::NEG_INFINITY, f64::max);
        let gap = start - inner;
        if gap < GUTTER * size {
            continue;
        }
        if best.is_none_or(|(least, widest, _)| crossing < least || crossing == least && gap > widest) {
            best = Some((crossing, gap, f64::midpoint(inner, start)));
        }
    }
    best.map(|(.., gutter)| gutter)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(text: &str, x: f64, right: f64, y: f64) -> TextLine {
        TextLine { text: text.into(), x, right, y, size: 10.0 }
    }

    #[test]
    fn columns_are_read_one_after_the_other_between_lines_that_go_across() {
        let mut page = vec![line("title", 50.0, 550.0, 760.0)];
        for row in 0..6 {
            let y = 740.0 - f64::from(row) * 12.0;
            page.push(line(&format!("r{row}"), 310.0, 550.0 - f64::from(row), y + 0.3));
            page.push(line(&format!("l{row}"), 50.0, 290.0 - f64::from(row), y));
        }
        page.push(line("wide", 50.0, 550.0, 600.0));
        let order: Vec<Vec<String>> = columns(page, MOST, &[])
            .iter()
            .map(|column| column.iter().map(|line| line.text.clone()).collect())
            .collect();
        let numbered = |side: &str| (0..6).map(|row| format!("{side}{row}")).collect::<Vec<_>>();
        assert_eq!(order, [vec!["title".to_owned()], numbered("l"), numbered("r"), vec!["wide".to_owned()]]);
    }

    #[test]
    fn one_column_of_ragged_lines_stays_one() {
        let page: Vec<TextLine> = (0..20)
            .map(|row| line("x", 50.0, 300.0 + f64::from(row * 37 % 250), 700.0 - f64::from(row) * 12.0))
            .collect();
        assert_eq!(columns(page, MOST, &[]).len(), 1);
    }
}
