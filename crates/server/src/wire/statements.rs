//! Statements of engines.

use std::collections::BTreeMap;

use dispatcher_core::{Costs, DifferenceCause, MoneyError, StatementDifference};
use dispatcher_gateway::{ReconciledStatement, rfc3339};
use serde::Serialize;
use utoipa::ToSchema;

use super::Amount;

/// Differences of each kind in one answer.
const LISTED: usize = 500;

/// Which columns of an engine's statements mean what.
#[derive(ToSchema)]
#[schema(as = StatementMapping)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct StatementMappingSchema {
    /// Column of the time of a call (RFC 3339, also without a zone), or of the day of a sum (`YYYY-MM-DD`).
    time: String,
    /// Column of the amount.
    amount: String,
    /// Column of the currency; `currency` if there is none.
    currency_column: Option<String>,
    /// Currency of all amounts (ISO 4217).
    currency: Option<String>,
    /// Zone of times that name none, such as `+01:00` (default: UTC).
    zone: Option<String>,
    /// Separates the columns (default: a comma).
    delimiter: Option<String>,
    /// The decimal separator is a comma.
    decimal_comma: Option<bool>,
    /// Seconds by which a line and its call may differ (default: 120).
    tolerance: Option<u32>,
}

/// A statement compared with the ledger.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ReconciliationAnswer {
    pub(crate) engine: String,
    /// First day of the statement in UTC.
    pub(crate) from: String,
    /// Last day.
    pub(crate) to: String,
    /// Number of lines.
    pub(crate) lines: usize,
    /// Whether every line matches a charge, and every charge a line.
    pub(crate) clean: bool,
    /// Lines that match a charge of the ledger.
    pub(crate) matched: MatchedLines,
    /// Lines whose charge has another amount or time.
    pub(crate) differing: DifferenceList,
    /// Lines without a charge.
    pub(crate) not_charged: DifferenceList,
    /// Charges without a line.
    pub(crate) not_billed: DifferenceList,
}

/// Lines that match.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct MatchedLines {
    pub(crate) count: usize,
    /// One amount per currency.
    pub(crate) sum: Vec<Amount>,
}

/// Differences of one kind.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DifferenceList {
    pub(crate) count: usize,
    /// By the statement; one amount per currency.
    pub(crate) billed: Vec<Amount>,
    /// By the ledger.
    pub(crate) charged: Vec<Amount>,
    /// How many have which likely cause.
    pub(crate) causes: BTreeMap<String, usize>,
    /// The first 500.
    pub(crate) items: Vec<DifferenceAnswer>,
}

/// A line, a charge, or both.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DifferenceAnswer {
    /// Row of the statement, from 1, the head included; null if it has no such line.
    pub(crate) row: Option<usize>,
    /// Id of the dispatch; null if the ledger has no such charge.
    pub(crate) dispatch: Option<String>,
    /// Number of the attempt.
    pub(crate) attempt: Option<i64>,
    pub(crate) at: String,
    /// By the statement.
    pub(crate) billed: Option<Amount>,
    /// By the ledger.
    pub(crate) charged: Option<Amount>,
    /// The likely cause: `time zone`, `rounding`, `billed twice`, `failed call`, `price` or `unknown`.
    pub(crate) cause: &'static str,
    /// The cause in words.
    pub(crate) detail: String,
}

fn cause_name(cause: DifferenceCause) -> &'static str {
    match cause {
        DifferenceCause::TimeZone(_) => "time zone",
        DifferenceCause::Rounding => "rounding",
        DifferenceCause::BilledTwice => "billed twice",
        DifferenceCause::FailedCall => "failed call",
        DifferenceCause::Price => "price",
        DifferenceCause::Unknown => "unknown",
    }
}

fn amounts(costs: &Costs) -> Vec<Amount> {
    costs.amounts().iter().copied().map(Amount::from).collect()
}

impl From<StatementDifference> for DifferenceAnswer {
    fn from(difference: StatementDifference) -> Self {
        let StatementDifference { row, charge, at, billed, charged, cause } = difference;
        let (dispatch, attempt) = charge.unzip();
        DifferenceAnswer {
            row,
            dispatch,
            attempt,
            at: rfc3339(at.saturating_mul(1_000_000)),
            billed: billed.map(Amount::from),
            charged: charged.map(Amount::from),
            cause: cause_name(cause),
            detail: cause.describe(),
        }
    }
}

impl DifferenceList {
    fn of(differences: Vec<StatementDifference>) -> Result<Self, MoneyError> {
        let (mut billed, mut charged, mut causes) = (Costs::default(), Costs::default(), BTreeMap::new());
        for difference in &differences {
            difference.billed.map_or(Ok(()), |money| billed.add(money))?;
            difference.charged.map_or(Ok(()), |money| charged.add(money))?;
            *causes.entry(cause_name(difference.cause).to_owned()).or_default() += 1;
        }
        Ok(DifferenceList {
            count: differences.len(),
            billed: amounts(&billed),
            charged: amounts(&charged),
            causes,
            items: differences.into_iter().take(LISTED).map(DifferenceAnswer::from).collect(),
        })
    }
}

impl ReconciliationAnswer {
    pub(crate) fn of(engine: &str, statement: ReconciledStatement) -> Result<Self, MoneyError> {
        let ReconciledStatement { days, lines, found } = statement;
        Ok(ReconciliationAnswer {
            engine: engine.to_owned(),
            from: days.0,
            to: days.1,
            lines,
            clean: found.is_clean(),
            matched: MatchedLines { count: found.matched, sum: amounts(&found.matched_sum) },
            differing: DifferenceList::of(found.differing)?,
            not_charged: DifferenceList::of(found.not_charged)?,
            not_billed: DifferenceList::of(found.not_billed)?,
        })
    }
}
