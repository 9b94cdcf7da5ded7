//! Allowances.

use dispatcher_core::{Allowance, AllowanceAmount, AllowancePeriod, Money};
use dispatcher_gateway::AllowanceView;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, rfc3339, thousandths};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// A new allowance: one of `cost`, `characters`, `seconds` and `requests`.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AllowanceRequest {
    /// Id of a key of the app, or a unique beginning of it. Default: the app with all its keys.
    pub(crate) key: Option<String>,
    /// `day`, `week` (from Monday), `month` or `total`, in UTC.
    pub(crate) per: String,
    /// Money that may be charged.
    #[schema(value_type = Option<Amount>)]
    cost: Option<Money>,
    /// Characters of text that may be spoken.
    characters: Option<u64>,
    /// Seconds of audio that may be recognised.
    seconds: Option<f64>,
    /// Number of requests; failed requests are not counted.
    requests: Option<u64>,
}

/// An amount and a period, as a request has them.
pub(super) struct GivenLimit<'a> {
    pub(super) per: &'a str,
    pub(super) cost: Option<Money>,
    pub(super) characters: Option<u64>,
    pub(super) seconds: Option<f64>,
    pub(super) requests: Option<u64>,
}

impl AllowanceRequest {
    /// What it limits.
    pub(crate) fn allowance(&self) -> Result<Allowance, Problem> {
        let AllowanceRequest { cost, characters, seconds, requests, .. } = *self;
        GivenLimit { per: &self.per, cost, characters, seconds, requests }.allowance()
    }
}

impl GivenLimit<'_> {
    /// The limit; one amount must be given.
    pub(super) fn allowance(&self) -> Result<Allowance, Problem> {
        let invalid = |pointer: &str, detail: String| Problem::at(ProblemKind::Invalid, pointer, detail);
        let period = AllowancePeriod::of_name(self.per).ok_or_else(|| {
            let known = AllowancePeriod::ALL.map(AllowancePeriod::name).join(", ");
            invalid("/per", format!("a period is one of {known}, not '{}'", self.per))
        })?;
        if let Some(cost) = self.cost.filter(|cost| cost.nanos < 0) {
            return Err(invalid("/cost", format!("the amount is negative: {cost}")));
        }
        if let Some(seconds) = self.seconds.filter(|seconds| !(0.0..=1e9).contains(seconds)) {
            return Err(invalid("/seconds", format!("seconds are 0 to 1000000000, not {seconds}")));
        }
        let amounts = [
            self.cost.map(AllowanceAmount::Cost),
            self.characters.map(AllowanceAmount::Characters),
            self.seconds.map(|seconds| AllowanceAmount::Milliseconds((seconds * 1_000.0).round() as u64)),
            self.requests.map(AllowanceAmount::Requests),
        ];
        let mut given = amounts.into_iter().flatten();
        match (given.next(), given.next()) {
            (Some(amount), None) => Ok(Allowance { amount, period }),
            _ => Err(invalid("", "give one of cost, characters, seconds and requests".into())),
        }
    }
}

/// An allowance, and what was used of it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AllowanceAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    /// Id of the key that it limits; null for the app with all its keys.
    pub(crate) key: Option<String>,
    /// `day`, `week`, `month` or `total`.
    pub(crate) per: String,
    /// One of its members is not null.
    pub(crate) limit: AllowanceAmounts,
    /// Used in this period, including what running requests may still use.
    pub(crate) used: AllowanceAmounts,
    /// Used share of the limit.
    pub(crate) percent: f64,
    /// When the next period begins; null for `total`.
    pub(crate) renews: Option<String>,
    /// Key or person that added it.
    pub(crate) by: String,
    pub(crate) created: String,
}

/// Amounts of an allowance.
#[derive(Debug, Default, Serialize, ToSchema)]
pub(crate) struct AllowanceAmounts {
    pub(crate) cost: Option<Amount>,
    /// Characters of text.
    pub(crate) characters: Option<u64>,
    /// Seconds of recognised audio.
    pub(crate) seconds: Option<f64>,
    pub(crate) requests: Option<u64>,
}

impl From<AllowanceAmount> for AllowanceAmounts {
    fn from(amount: AllowanceAmount) -> Self {
        let none = AllowanceAmounts::default();
        match amount {
            AllowanceAmount::Cost(money) => AllowanceAmounts { cost: Some(money.into()), ..none },
            AllowanceAmount::Characters(count) => AllowanceAmounts { characters: Some(count), ..none },
            AllowanceAmount::Milliseconds(count) => {
                AllowanceAmounts { seconds: Some(thousandths(count as f64 / 1_000.0)), ..none }
            }
            AllowanceAmount::Requests(count) => AllowanceAmounts { requests: Some(count), ..none },
        }
    }
}

impl From<AllowanceView> for AllowanceAnswer {
    fn from(view: AllowanceView) -> Self {
        let percent = (view.percent() * 10.0).round() / 10.0;
        let AllowanceView { row, used, renews } = view;
        let Allowance { amount, period } = row.allowance();
        AllowanceAnswer {
            id: row.id,
            app: row.app,
            key: row.key,
            per: period.name().into(),
            limit: amount.into(),
            used: used.into(),
            percent,
            renews: renews.map(rfc3339),
            by: row.made_by,
            created: rfc3339(row.made_at),
        }
    }
}
