//! Two rows of words laid beside one another with the fewest differences.

use crate::comparison::ErrorCounts;

/// A place where two rows are alike or differ, with the places in both.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Aligned {
    /// The same in both.
    Same(usize, usize),
    /// Another in the second.
    Substituted(usize, usize),
    /// In the first alone.
    Missing(usize),
    /// In the second alone.
    Inserted(usize),
}

/// Places that are compared at most: a byte each.
const MOST_CELLS: usize = 100_000_000;

/// The alignment of two rows with the fewest differences (Wagner and Fischer
/// 1974), of equal ones the one in which the most is the same and words are
/// beside those that are spelt most like them. `None` if they
/// are too long to be compared.
pub fn align<T: AsRef<str>>(first: &[T], second: &[T]) -> Option<Vec<Aligned>> {
    align_by(first.len(), second.len(), |i, j| unlikeness(first[i].as_ref(), second[j].as_ref()))
}

/// The same, of rows whose items are compared by their places: 0 where they
/// are the same, up to [`MOST_UNLIKE`] where nothing is alike.
pub(crate) fn align_by(first: usize, second: usize, unlike: impl Fn(usize, usize) -> u64) -> Option<Vec<Aligned>> {
    let same = |i: usize, j: usize| unlike(i, j) == 0;
    let head = (0..first.min(second)).take_while(|at| same(*at, *at)).count();
    let most = first.min(second) - head;
    let tail = (0..most).take_while(|at| same(first - 1 - at, second - 1 - at)).count();
    let (rows, columns) = (first - head - tail, second - head - tail);
    if (rows + 1).checked_mul(columns + 1)? > MOST_CELLS {
        return None;
    }
    let mut steps: Vec<Aligned> = (0..head).map(|at| Aligned::Same(at, at)).collect();
    let middle = within(rows, columns, |i, j| unlike(head + i, head + j));
    steps.extend(middle.into_iter().map(|step| match step {
        Aligned::Same(i, j) => Aligned::Same(head + i, head + j),
        Aligned::Substituted(i, j) => Aligned::Substituted(head + i, head + j),
        Aligned::Missing(i) => Aligned::Missing(head + i),
        Aligned::Inserted(j) => Aligned::Inserted(head + j),
    }));
    steps.extend((0..tail).rev().map(|at| Aligned::Same(first - 1 - at, second - 1 - at)));
    Some(steps)
}

/// A difference counts so much; a substitution counts a little more, which
/// decides between ways with equally many differences.
const DIFFERENCE: u64 = 1 << 24;
/// What two words count that have nothing in common.
pub(crate) const MOST_UNLIKE: u64 = 16;

/// How unlike two words are: by their common beginning and end.
pub(crate) fn unlikeness(one: &str, other: &str) -> u64 {
    if one == other {
        return 0;
    }
    let longest = one.len().max(other.len()).max(1);
    let shortest = one.len().min(other.len());
    let start = one.bytes().zip(other.bytes()).take_while(|(a, b)| a == b).count();
    let end = one.bytes().rev().zip(other.bytes().rev()).take_while(|(a, b)| a == b).count();
    let common = (start + end).min(shortest);
    1 + (MOST_UNLIKE - 1) * (longest - common) as u64 / longest as u64
}

/// Where the cheapest way to a cell comes from.
const BOTH: u8 = 0;
const FIRST: u8 = 1;
const SECOND: u8 = 2;

/// How often each difference stands in the alignment of two rows, without the
/// memory that the alignment itself takes.
pub(crate) fn count_by(first: usize, second: usize, unlike: impl Fn(usize, usize) -> u64) -> ErrorCounts {
    let counted = |counts: ErrorCounts, (substituted, missing, inserted): (usize, usize, usize)| ErrorCounts {
        substituted: counts.substituted + substituted,
        missing: counts.missing + missing,
        inserted: counts.inserted + inserted,
        of: first,
    };
    let start = ErrorCounts { of: first, ..ErrorCounts::default() };
    let mut row: Vec<(u64, ErrorCounts)> =
        (0..=second).map(|count| (count as u64 * DIFFERENCE, counted(start, (0, 0, count)))).collect();
    for i in 0..first {
        let mut diagonal = row[0];
        row[0] = (diagonal.0 + DIFFERENCE, counted(diagonal.1, (0, 1, 0)));
        for j in 0..second {
            let (above, before) = (row[j + 1], row[j]);
            let both = match unlike(i, j) {
                0 => diagonal,
                unlike => (diagonal.0 + DIFFERENCE + unlike, counted(diagonal.1, (1, 0, 0))),
            };
            row[j + 1] = match both.0 <= above.0.min(before.0) + DIFFERENCE {
                true => both,
                false if above.0 <= before.0 => (above.0 + DIFFERENCE, counted(above.1, (0, 1, 0))),
                false => (before.0 + DIFFERENCE, counted(before.1, (0, 0, 1))),
            };
            diagonal = above;
        }
    }
    row.last().map_or(start, |last| last.1)
}

/// Words of a block of long rows.
const BLOCK: usize = 2_000;
/// Number of equal ones in a row that belong together.
const ANCHOR: usize = 4;

/// The alignment of rows of any length: block by block, each from where the
/// one before is sure on. Where nothing is sure, a block is laid beside the next.
pub(crate) fn align_blocks<T: AsRef<str>>(first: &[T], second: &[T]) -> Vec<Aligned> {
    let mut steps: Vec<Aligned> = Vec::new();
    let (mut i, mut j) = (0, 0);
    loop {
        let (to_i, to_j) = ((i + BLOCK).min(first.len()), (j + BLOCK).min(second.len()));
        let block = align(&first[i..to_i], &second[j..to_j]).unwrap_or_default();
        let last = to_i == first.len() && to_j == second.len();
        let sure = match last {
            true => block.len(),
            false => {
                let anchors =
                    block.windows(ANCHOR).rposition(|run| run.iter().all(|it| matches!(it, Aligned::Same(..))));
                anchors.map_or(block.len(), |at| at + ANCHOR)
            }
        };
        let (mut next_i, mut next_j) = (i, j);
        for step in &block[..sure] {
            let (moved_i, moved_j) = (!matches!(step, Aligned::Inserted(_)), !matches!(step, Aligned::Missing(_)));
            steps.push(match step {
                Aligned::Same(..) => Aligned::Same(next_i, next_j),
                Aligned::Substituted(..) => Aligned::Substituted(next_i, next_j),
                Aligned::Missing(_) => Aligned::Missing(next_i),
                Aligned::Inserted(_) => Aligned::Inserted(next_j),
            });
            next_i += usize::from(moved_i);
            next_j += usize::from(moved_j);
        }
        (i, j) = (next_i, next_j);
        if last {
            return steps;
        }
    }
}

fn within(rows: usize, columns: usize, unlike: impl Fn(usize, usize) -> u64) -> Vec<Aligned> {
    let width = columns + 1;
    let mut from = vec![BOTH; (rows + 1) * width];
    from[..width].fill(SECOND);
    let mut costs: Vec<u64> = (0_u64..).map(|count| count * DIFFERENCE).take(width).collect();
    for i in 0..rows {
        let mut diagonal = costs[0];
        costs[0] += DIFFERENCE;
        from[(i + 1) * width] = FIRST;
        for j in 0..columns {
            let both = diagonal
                + match unlike(i, j) {
                    0 => 0,
                    unlike => DIFFERENCE + unlike,
                };
            diagonal = costs[j + 1];
            let (missing, inserted) = (costs[j + 1] + DIFFERENCE, costs[j] + DIFFERENCE);
            let (cost, way) = match both <= missing.min(inserted) {
                true => (both, BOTH),
                false if missing <= inserted => (missing, FIRST),
                false => (inserted, SECOND),
            };
            costs[j + 1] = cost;
            from[(i + 1) * width + j + 1] = way;
        }
    }
    let (mut i, mut j) = (rows, columns);
    let mut steps = Vec::with_capacity(rows.max(columns));
    while i > 0 || j > 0 {
        let step = match from[i * width + j] {
            FIRST => Aligned::Missing(i - 1),
            SECOND => Aligned::Inserted(j - 1),
            _ if unlike(i - 1, j - 1) == 0 => Aligned::Same(i - 1, j - 1),
            _ => Aligned::Substituted(i - 1, j - 1),
        };
        i -= usize::from(!matches!(step, Aligned::Inserted(_)));
        j -= usize::from(!matches!(step, Aligned::Missing(_)));
        steps.push(step);
    }
    steps.reverse();
    steps
}

#[cfg(test)]
mod tests {
    use Aligned::{Inserted, Missing, Same, Substituted};

    use super::*;

    fn words(text: &str) -> Vec<&str> {
        text.split(' ').filter(|word| !word.is_empty()).collect()
    }

    #[test]
    fn the_fewest_differences_are_found() {
        let aligned = |one: &str, other: &str| align(&words(one), &words(other)).expect("short rows");
        assert_eq!(aligned("a b c", "a b c"), [Same(0, 0), Same(1, 1), Same(2, 2)]);
        assert_eq!(aligned("a b c", "a x c"), [Same(0, 0), Substituted(1, 1), Same(2, 2)]);
        assert_eq!(aligned("a b c d", "a c d"), [Same(0, 0), Missing(1), Same(2, 1), Same(3, 2)]);
        assert_eq!(aligned("a c", "a b b c"), [Same(0, 0), Inserted(1), Inserted(2), Same(1, 3)]);
        assert_eq!(aligned("", "a"), [Inserted(0)]);
        assert_eq!(aligned("a", ""), [Missing(0)]);
        assert_eq!(aligned("", ""), []);
        assert_eq!(aligned("a a", "a"), [Same(0, 0), Missing(1)]);
        assert_eq!(
            aligned("x a b y", "p a q b r"),
            [Substituted(0, 0), Same(1, 1), Inserted(2), Same(2, 3), Substituted(3, 4)]
        );
    }

    #[test]
    fn differences_are_counted_as_the_alignment_has_them() {
        for (one, other) in [
            ("a b c d", "a x c"),
            ("x a b y", "p a q b r"),
            ("", "a b"),
            ("a b", ""),
            ("leaves at six", "leave six o'clock"),
        ] {
            let (first, second) = (words(one), words(other));
            let counted = count_by(first.len(), second.len(), |i, j| unlikeness(first[i], second[j]));
            assert_eq!(counted, ErrorCounts::of_steps(&align(&first, &second).expect("short")), "{one} | {other}");
        }
    }

    #[test]
    fn long_rows_are_laid_beside_one_another_block_by_block() {
        let first: Vec<String> = (0..9_000).map(|at| format!("w{at}")).collect();
        // Every hundredth word is another, every thousandth is gone, one is new.
        let mut second: Vec<String> = Vec::new();
        for (at, word) in first.iter().enumerate() {
            match at {
                _ if at % 1_000 == 500 => {}
                _ if at % 100 == 7 => second.push(format!("x{at}")),
                _ => second.push(word.clone()),
            }
        }
        second.insert(4_321, "new".into());
        let steps = align_blocks(&first, &second);
        let counts = ErrorCounts::of_steps(&steps);
        assert_eq!(counts, ErrorCounts { substituted: 90, missing: 9, inserted: 1, of: 9_000 });
        assert!(steps.iter().all(|step| match step {
            Same(i, j) => first[*i] == second[*j],
            _ => true,
        }));
        // Texts that have nothing in common come to an end too.
        let other: Vec<String> = (0..5_000).map(|at| format!("y{at}")).collect();
        assert_eq!(ErrorCounts::of_steps(&align_blocks(&first, &other)).errors(), 9_000);
        assert_eq!(align_blocks::<&str>(&[], &[]), []);
    }

    #[test]
    fn rows_that_would_take_too_much_memory_are_not_compared() {
        let (long, other) = (vec!["aye"; 20_000], vec!["nay"; 20_000]);
        assert_eq!(align(&long, &other), None);
        assert_eq!(align(&long, &long).map(|steps| steps.len()), Some(20_000), "equal rows cost nothing");
    }
}
