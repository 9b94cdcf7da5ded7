//! Credits of engines, and rates between currencies.

use dispatcher_core::{DatedRate, Money, Work};
use dispatcher_gateway::{Credit, CreditView};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::allowances::{AllowanceAmounts, GivenLimit};
use super::{Amount, rfc3339};
use crate::headers::one_of;
use crate::problem::Problem;

/// What an engine includes: one of `cost`, `characters`, `seconds` and `requests`.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CreditRequest {
    /// `synthesis` or `recognition` (default: both).
    work: Option<String>,
    /// `day`, `week` (from Monday), `month` or `total`, in UTC.
    per: String,
    /// Money.
    #[schema(value_type = Option<Amount>)]
    cost: Option<Money>,
    /// Characters of text.
    characters: Option<u64>,
    /// Seconds of audio.
    seconds: Option<f64>,
    /// Number of requests.
    requests: Option<u64>,
    /// First day in UTC.
    #[schema(example = "2026-12-01")]
    from: Option<String>,
    /// Last day in UTC.
    until: Option<String>,
}

impl CreditRequest {
    pub(crate) fn into_credit(self, engine: &str, name: &str) -> Result<Credit, Problem> {
        let work = self.work.map(|word| one_of("work", &word, &Work::ALL, Work::name)).transpose()?;
        let (cost, characters, seconds, requests) = (self.cost, self.characters, self.seconds, self.requests);
        let limit = GivenLimit { per: &self.per, cost, characters, seconds, requests }.allowance()?;
        Ok(Credit {
            engine: engine.into(),
            name: name.into(),
            work,
            amount: limit.amount,
            period: limit.period,
            from: self.from,
            until: self.until,
        })
    }
}

/// A credit, and what was used of it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CreditAnswer {
    pub(crate) engine: String,
    pub(crate) name: String,
    /// `synthesis` or `recognition`; null for both.
    pub(crate) work: Option<&'static str>,
    /// `day`, `week`, `month` or `total`.
    pub(crate) per: &'static str,
    /// One of its members is not null.
    pub(crate) credit: AllowanceAmounts,
    /// Used in this period.
    pub(crate) used: AllowanceAmounts,
    pub(crate) left: AllowanceAmounts,
    /// Used share.
    pub(crate) percent: f64,
    pub(crate) from: Option<String>,
    /// Last day.
    pub(crate) until: Option<String>,
    /// When the next period begins; null for `total`.
    pub(crate) renews: Option<String>,
    /// Day on which it will be used at the pace of the last seven days; null if it renews or ends before.
    pub(crate) used_on: Option<String>,
    /// Days until it is used or ends, whichever is earlier; null if neither is near.
    pub(crate) days_left: Option<f64>,
}

impl From<CreditView> for CreditAnswer {
    fn from(view: CreditView) -> Self {
        let tenth = |number: f64| (number * 10.0).round() / 10.0;
        CreditAnswer {
            percent: tenth(view.percent()),
            left: view.left().into(),
            used: view.used.into(),
            renews: view.renews.map(rfc3339),
            days_left: view.days_left.map(tenth),
            used_on: view.used_on,
            work: view.credit.work.map(Work::name),
            per: view.credit.period.name(),
            credit: view.credit.amount.into(),
            engine: view.credit.engine,
            name: view.credit.name,
            from: view.credit.from,
            until: view.credit.until,
        }
    }
}

/// The rates of a currency to the operator's.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RatesRequest {
    /// In the order of their days.
    #[schema(value_type = Vec<DatedRateSchema>)]
    pub(crate) rates: Vec<DatedRate>,
}

/// What a unit of a currency is worth from a day on.
#[derive(ToSchema)]
#[schema(as = DatedRate)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct DatedRateSchema {
    /// First day in UTC.
    #[schema(example = "2026-12-01")]
    from: String,
    /// Units of the operator's currency for one of the other, a decimal.
    #[schema(example = "0.92")]
    rate: String,
}

/// The rates of a currency.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RatesAnswer {
    pub(crate) currency: String,
    /// The operator's currency.
    pub(crate) to: String,
    #[schema(value_type = Vec<DatedRateSchema>)]
    pub(crate) rates: Vec<DatedRate>,
}
