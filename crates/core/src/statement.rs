//! Statements: what an engine bills, line by line, compared with what the
//! ledger has. How charges are read, and where statements come from, is known
//! elsewhere.

mod read;

use std::collections::{BTreeMap, BTreeSet, HashMap};

use crate::{Costs, Currency, Money, MoneyError};

pub use read::{StatementError, StatementMapping, read_statement};

const HOUR: i64 = 3_600;
/// Charges on each side of a line's time that are looked at: more calls at once
/// would make the comparison of a busy hour quadratic.
const NEAREST: usize = 100;
/// Hours by which two clocks of the world differ at the most.
const ZONES: std::ops::RangeInclusive<i64> = -14..=14;
/// A difference is rounding if it is at most this part of the charge.
const ROUNDING_PART: i64 = 10_000;

/// A line of a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatementLine {
    /// Row in the file, from 1, its head included.
    pub row: usize,
    /// Seconds since 1970 in UTC; of a day, its midnight.
    pub at: i64,
    /// Whether it is the sum of a whole day.
    pub whole_day: bool,
    /// What is billed.
    pub amount: Money,
    /// Billionths of the last digit that the statement shows.
    pub last_digit: i64,
}

/// A call of the engine, as the ledger has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LedgerCharge {
    /// Id of the dispatch.
    pub dispatch: String,
    /// Number of the attempt.
    pub attempt: i64,
    /// When the engine was called: seconds since 1970.
    pub at: i64,
    /// What was charged; of a call that failed, what was held.
    pub amount: Money,
    /// The call failed, and was not charged.
    pub failed: bool,
}

/// Why a line and the ledger differ, most likely.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum DifferenceCause {
    /// The statement is in another time zone: hours to be subtracted from its times.
    TimeZone(i64),
    /// The statement rounds.
    Rounding,
    /// The same call is billed again.
    BilledTwice,
    /// A call that failed is billed.
    FailedCall,
    /// The price is another one.
    Price,
    /// Nothing fits.
    Unknown,
}

impl DifferenceCause {
    /// In words.
    pub fn describe(self) -> String {
        match self {
            DifferenceCause::TimeZone(hours) => format!("the statement's times are {hours:+} h from UTC"),
            DifferenceCause::Rounding => "the statement rounds".into(),
            DifferenceCause::BilledTwice => "the call is billed twice".into(),
            DifferenceCause::FailedCall => "a call that failed is billed".into(),
            DifferenceCause::Price => "the price is another one".into(),
            DifferenceCause::Unknown => "unknown".into(),
        }
    }
}

/// A line of the statement, a charge of the ledger, or both, where they are not the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatementDifference {
    /// Row of the statement; `None` if it has no such line.
    pub row: Option<usize>,
    /// Dispatch and attempt; `None` if the ledger has no such charge.
    pub charge: Option<(String, i64)>,
    /// Seconds since 1970, by the ledger if it has the charge.
    pub at: i64,
    /// By the statement.
    pub billed: Option<Money>,
    /// By the ledger.
    pub charged: Option<Money>,
    /// Why, most likely.
    pub cause: DifferenceCause,
}

/// A statement compared with the ledger.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reconciliation {
    /// Number of lines that match a charge.
    pub matched: usize,
    /// Their sum.
    pub matched_sum: Costs,
    /// Lines whose charge has another amount or time.
    pub differing: Vec<StatementDifference>,
    /// Lines without a charge.
    pub not_charged: Vec<StatementDifference>,
    /// Charges without a line.
    pub not_billed: Vec<StatementDifference>,
}

impl Reconciliation {
    /// Whether everything matches.
    pub fn is_clean(&self) -> bool {
        self.differing.is_empty() && self.not_charged.is_empty() && self.not_billed.is_empty()
    }
}

/// Compares the lines of a statement with the charges of its period. A line
/// and a charge belong together if their times differ by at most `tolerance`
/// seconds; lines of whole days are compared with the sums of their days.
///
/// # Errors
/// [`MoneyError::Overflow`] if a sum exceeds 64 bits.
pub fn reconcile(
    lines: &[StatementLine],
    charges: &[LedgerCharge],
    tolerance: i64,
) -> Result<Reconciliation, MoneyError> {
    if lines.iter().any(|line| line.whole_day) {
        return by_day(lines, charges);
    }
    let mut matching = Matching::new(lines, charges, tolerance);
    matching.exact()?;
    matching.other_amount();
    matching.other_zone();
    Ok(matching.rest())
}

/// Sums of the statement and the ledger, day by day.
fn by_day(lines: &[StatementLine], charges: &[LedgerCharge]) -> Result<Reconciliation, MoneyError> {
    type DaySums = (Option<usize>, i64, i64, i64, i64);
    let mut days: BTreeMap<(i64, Currency), DaySums> = BTreeMap::new();
    for line in lines {
        let sums = days.entry((line.at.div_euclid(24 * HOUR), line.amount.currency)).or_default();
        sums.0.get_or_insert(line.row);
        sums.1 = sums.1.checked_add(line.amount.nanos).ok_or(MoneyError::Overflow)?;
        sums.3 = sums.3.max(line.last_digit);
    }
    for charge in charges.iter().filter(|charge| !charge.failed) {
        let sums = days.entry((charge.at.div_euclid(24 * HOUR), charge.amount.currency)).or_default();
        sums.2 = sums.2.checked_add(charge.amount.nanos).ok_or(MoneyError::Overflow)?;
        sums.4 += 1;
    }
    let mut found = Reconciliation::default();
    for ((day, currency), (row, billed, charged, last_digit, calls)) in days {
        let money = |nanos| Money { nanos, currency };
        let difference = |cause| StatementDifference {
            row,
            charge: None,
            at: day * 24 * HOUR,
            billed: row.map(|_| money(billed)),
            charged: (calls > 0).then(|| money(charged)),
            cause,
        };
        match (row, calls) {
            (Some(_), _) if billed == charged => {
                found.matched += 1;
                found.matched_sum.add(money(billed))?;
            }
            (Some(_), 0) => found.not_charged.push(difference(DifferenceCause::Unknown)),
            (Some(_), calls) => {
                let rounding = (billed - charged).abs() <= last_digit.saturating_mul(calls);
                let cause = if rounding { DifferenceCause::Rounding } else { DifferenceCause::Unknown };
                found.differing.push(difference(cause));
            }
            (None, _) => found.not_billed.push(difference(DifferenceCause::Unknown)),
        }
    }
    Ok(found)
}

struct Matching<'a> {
    lines: &'a [StatementLine],
    charges: &'a [LedgerCharge],
    tolerance: i64,
    /// The charge of each line, and the line of each charge.
    line_has: Vec<Option<usize>>,
    charge_has: Vec<Option<usize>>,
    /// Charges by their times, those that failed included.
    by_time: BTreeMap<i64, Vec<usize>>,
    found: Reconciliation,
}

impl<'a> Matching<'a> {
    fn new(lines: &'a [StatementLine], charges: &'a [LedgerCharge], tolerance: i64) -> Self {
        let mut by_time: BTreeMap<i64, Vec<usize>> = BTreeMap::new();
        for (at, charge) in charges.iter().enumerate() {
            by_time.entry(charge.at).or_default().push(at);
        }
        let (line_has, charge_has) = (vec![None; lines.len()], vec![None; charges.len()]);
        Matching { lines, charges, tolerance, line_has, charge_has, by_time, found: Reconciliation::default() }
    }

    /// The charges nearest to a time, at most [`NEAREST`] before and behind it, the
    /// nearest first.
    fn near(&self, at: i64) -> Vec<usize> {
        let (first, last) = (at.saturating_sub(self.tolerance), at.saturating_add(self.tolerance));
        let before = self.by_time.range(first..at).rev().flat_map(|(_, charges)| charges).take(NEAREST);
        let behind = self.by_time.range(at..=last).flat_map(|(_, charges)| charges).take(NEAREST);
        let mut near: Vec<usize> = before.chain(behind).copied().collect();
        near.sort_by_key(|charge| (self.charges[*charge].at - at).abs());
        near
    }

    fn is_open(&self, charge: usize) -> bool {
        self.charge_has[charge].is_none() && !self.charges[charge].failed
    }

    fn join(&mut self, line: usize, charge: usize) {
        self.line_has[line] = Some(charge);
        self.charge_has[charge] = Some(line);
    }

    fn difference(&self, line: usize, charge: usize, cause: DifferenceCause) -> StatementDifference {
        let (line, charge) = (&self.lines[line], &self.charges[charge]);
        StatementDifference {
            row: Some(line.row),
            charge: Some((charge.dispatch.clone(), charge.attempt)),
            at: charge.at,
            billed: Some(line.amount),
            charged: (!charge.failed).then_some(charge.amount),
            cause,
        }
    }

    /// Lines whose charge has the same amount.
    fn exact(&mut self) -> Result<(), MoneyError> {
        let mut open: HashMap<Money, BTreeSet<(i64, usize)>> = HashMap::new();
        for (number, charge) in self.charges.iter().enumerate().filter(|(_, charge)| !charge.failed) {
            open.entry(charge.amount).or_default().insert((charge.at, number));
        }
        for line in 0..self.lines.len() {
            let StatementLine { at, amount, .. } = self.lines[line];
            let Some(of_amount) = open.get_mut(&amount) else { continue };
            let before = of_amount.range(..(at, 0)).next_back().copied();
            let behind = of_amount.range((at, 0)..).next().copied();
            let nearest = before.into_iter().chain(behind).min_by_key(|(time, _)| (time - at).abs());
            if let Some((time, charge)) = nearest.filter(|(time, _)| (time - at).abs() <= self.tolerance) {
                of_amount.remove(&(time, charge));
                self.join(line, charge);
                self.found.matched += 1;
                self.found.matched_sum.add(amount)?;
            }
        }
        Ok(())
    }

    /// Lines whose charge has nearly the same amount, then any other one.
    fn other_amount(&mut self) {
        for rounded in [true, false] {
            for line in (0..self.lines.len()).filter(|line| self.line_has[*line].is_none()).collect::<Vec<_>>() {
                let StatementLine { amount, last_digit, at, .. } = self.lines[line];
                let fits = |charge: &usize| {
                    let of_it = self.charges[*charge].amount;
                    let off = (of_it.nanos - amount.nanos).abs();
                    let near = off <= last_digit.max(of_it.nanos / ROUNDING_PART);
                    self.is_open(*charge) && of_it.currency == amount.currency && (near || !rounded)
                };
                // What is billed twice would take the charge of another line.
                let twice = !rounded && self.twice(line).is_some();
                if let Some(charge) = self.near(at).into_iter().find(fits).filter(|_| !twice) {
                    self.join(line, charge);
                    let cause = if rounded { DifferenceCause::Rounding } else { DifferenceCause::Price };
                    let difference = self.difference(line, charge, cause);
                    self.found.differing.push(difference);
                }
            }
        }
    }

    /// Lines whose charge is hours away: all by the same number of hours.
    fn other_zone(&mut self) {
        let open: Vec<usize> = (0..self.lines.len()).filter(|line| self.line_has[*line].is_none()).collect();
        let mut by_amount: HashMap<Money, Vec<usize>> = HashMap::new();
        for charge in (0..self.charges.len()).filter(|charge| self.is_open(*charge)) {
            by_amount.entry(self.charges[charge].amount).or_default().push(charge);
        }
        let mut votes: BTreeMap<i64, usize> = BTreeMap::new();
        let hours = |line: usize, charge: usize| {
            let off = self.lines[line].at - self.charges[charge].at;
            let hours = (off as f64 / HOUR as f64).round() as i64;
            let near = (off - hours * HOUR).abs() <= self.tolerance;
            (near && hours != 0 && ZONES.contains(&hours)).then_some(hours)
        };
        let candidates = |line: usize| by_amount.get(&self.lines[line].amount).into_iter().flatten().copied();
        for line in &open {
            let mut own: Vec<i64> = candidates(*line).filter_map(|charge| hours(*line, charge)).collect();
            own.sort_unstable();
            own.dedup();
            own.into_iter().for_each(|hours| *votes.entry(hours).or_default() += 1);
        }
        let Some((zone, _)) = votes.into_iter().max_by_key(|(hours, votes)| (*votes, -hours.abs())) else { return };
        let pairs: Vec<(usize, Vec<usize>)> = open
            .into_iter()
            .map(|line| (line, candidates(line).filter(|charge| hours(line, *charge) == Some(zone)).collect()))
            .collect();
        for (line, charges) in pairs {
            if let Some(charge) = charges.into_iter().find(|charge| self.is_open(*charge)) {
                self.join(line, charge);
                let difference = self.difference(line, charge, DifferenceCause::TimeZone(zone));
                self.found.differing.push(difference);
            }
        }
    }

    /// The charge of another line that this line bills again.
    fn twice(&self, line: usize) -> Option<usize> {
        let amount = self.lines[line].amount;
        let taken = |charge: &usize| self.charge_has[*charge].is_some() && self.charges[*charge].amount == amount;
        self.near(self.lines[line].at).into_iter().find(taken)
    }

    /// What is left on both sides.
    fn rest(mut self) -> Reconciliation {
        let open: Vec<usize> = (0..self.lines.len()).filter(|line| self.line_has[*line].is_none()).collect();
        for line in open {
            let StatementLine { row, at, amount, .. } = self.lines[line];
            let failed = self
                .near(at)
                .into_iter()
                .find(|charge| self.charges[*charge].failed && self.charge_has[*charge].is_none());
            let difference = match (failed, self.twice(line)) {
                (_, Some(charge)) => {
                    let told = self.difference(line, charge, DifferenceCause::BilledTwice);
                    StatementDifference { charged: None, ..told }
                }
                (Some(charge), None) => {
                    self.charge_has[charge] = Some(line);
                    self.difference(line, charge, DifferenceCause::FailedCall)
                }
                (None, None) => StatementDifference {
                    row: Some(row),
                    charge: None,
                    at,
                    billed: Some(amount),
                    charged: None,
                    cause: DifferenceCause::Unknown,
                },
            };
            self.found.not_charged.push(difference);
        }
        for charge in 0..self.charges.len() {
            let LedgerCharge { dispatch, attempt, at, amount, .. } = &self.charges[charge];
            if self.is_open(charge) && amount.nanos != 0 {
                self.found.not_billed.push(StatementDifference {
                    row: None,
                    charge: Some((dispatch.clone(), *attempt)),
                    at: *at,
                    billed: None,
                    charged: Some(*amount),
                    cause: DifferenceCause::Unknown,
                });
            }
        }
        self.found
    }
}

#[cfg(test)]
mod tests;
