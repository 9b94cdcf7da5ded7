//! The check of the ledger.

use dispatcher_gateway::{LedgerCheck, LedgerFault, LedgerRule};
use serde::Serialize;
use utoipa::ToSchema;

use super::Amount;

/// Result of a check of the ledger.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LedgerCheckAnswer {
    /// Whether all rules hold.
    pub(crate) holds: bool,
    /// Number of entries.
    pub(crate) entries: i64,
    /// Settled and adjusted, in each currency.
    pub(crate) settled: Vec<Amount>,
    /// Held by running attempts, in each currency.
    pub(crate) held: Vec<Amount>,
    pub(crate) rules: Vec<LedgerRuleAnswer>,
}

/// A rule of the ledger.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LedgerRuleAnswer {
    /// The rule in words.
    pub(crate) rule: String,
    /// Number of faults; 0 if the rule holds.
    pub(crate) count: i64,
    /// The first 20 faults.
    pub(crate) faults: Vec<LedgerFaultAnswer>,
}

/// A place at which a rule does not hold.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LedgerFaultAnswer {
    /// Id of the dispatch.
    pub(crate) dispatch: String,
    /// Number of the attempt; null for the dispatch as a whole.
    pub(crate) attempt: Option<i64>,
    pub(crate) detail: String,
}

impl From<LedgerCheck> for LedgerCheckAnswer {
    fn from(check: LedgerCheck) -> Self {
        let amounts = |costs: &dispatcher_core::Costs| costs.amounts().iter().copied().map(Amount::from).collect();
        LedgerCheckAnswer {
            holds: check.holds(),
            entries: check.entries,
            settled: amounts(&check.settled),
            held: amounts(&check.held),
            rules: check.rules.into_iter().map(LedgerRuleAnswer::from).collect(),
        }
    }
}

impl From<LedgerRule> for LedgerRuleAnswer {
    fn from(LedgerRule { rule, count, faults }: LedgerRule) -> Self {
        let told = |LedgerFault { dispatch, attempt, detail }| {
            let attempt = (attempt > 0).then_some(attempt);
            LedgerFaultAnswer { dispatch, attempt, detail }
        };
        LedgerRuleAnswer { rule: rule.into(), count, faults: faults.into_iter().map(told).collect() }
    }
}
