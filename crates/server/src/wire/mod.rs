//! The JSON of the API: what goes in and what comes out. This module has what all
//! parts of it share.

mod alerts;
mod allowances;
mod canaries;
mod comparisons;
mod credentials;
mod credits;
mod engine_details;
mod engines;
mod exchanges;
mod formats;
mod health;
mod jobs;
mod ledger;
mod lexicons;
mod links;
mod live;
mod narration;
mod people;
mod presets;
mod prompts;
mod records;
mod retention;
mod routing;
mod speech;
mod statements;
mod tariffs;
mod tokens;
mod transcripts;

use dispatcher_core::Money;
use serde::Serialize;
use utoipa::ToSchema;

pub(crate) use alerts::*;
pub(crate) use allowances::*;
pub(crate) use canaries::*;
pub(crate) use comparisons::*;
pub(crate) use credentials::*;
pub(crate) use credits::*;
pub(crate) use engines::*;
pub(crate) use exchanges::*;
pub(crate) use formats::*;
pub(crate) use health::*;
pub(crate) use jobs::*;
pub(crate) use ledger::*;
pub(crate) use lexicons::*;
pub(crate) use links::*;
pub(crate) use live::*;
pub(crate) use narration::*;
pub(crate) use people::*;
pub(crate) use presets::*;
pub(crate) use prompts::*;
pub(crate) use records::*;
pub(crate) use retention::*;
pub(crate) use routing::*;
pub(crate) use speech::*;
pub(crate) use statements::*;
pub(crate) use tariffs::*;
pub(crate) use tokens::*;
pub(crate) use transcripts::*;

pub(crate) use dispatcher_gateway::rfc3339;

/// Seconds, to the millisecond.
pub(crate) fn thousandths(seconds: f64) -> f64 {
    (seconds * 1_000.0).round() / 1_000.0
}

fn milliseconds(micros: i64) -> f64 {
    (micros as f64 / 10.0).round() / 100.0
}

/// A page of a list, and where the next page begins.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct List<T> {
    pub(crate) items: Vec<T>,
    /// Send it as `cursor` for the next page; null at the end.
    pub(crate) next: Option<String>,
}

impl<T> List<T> {
    pub(crate) fn whole(items: Vec<T>) -> Self {
        List { items, next: None }
    }
}

/// An amount of money.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Amount {
    #[schema(example = "0.001250")]
    pub(crate) amount: String,
    #[schema(example = "EUR")]
    pub(crate) currency: String,
}

impl From<Money> for Amount {
    fn from(money: Money) -> Self {
        Amount { amount: money.amount(), currency: money.currency.to_string() }
    }
}
