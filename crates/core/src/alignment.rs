//! Two rows of words laid beside one another with the fewest differences.

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
/// beside those that are spelt most like them. Nothing where they
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
    fn rows_that_would_take_too_much_memory_are_not_compared() {
        let (long, other) = (vec!["aye"; 20_000], vec!["nay"; 20_000]);
        assert_eq!(align(&long, &other), None);
        assert_eq!(align(&long, &long).map(|steps| steps.len()), Some(20_000), "equal rows cost nothing");
    }
}
