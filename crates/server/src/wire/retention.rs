//! How long records are kept.

use dispatcher_gateway::{Retention, RetentionRun};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;

/// The rule of a kind of records.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RetentionRequest {
    /// Days for which its records are kept, at most 36500.
    pub(crate) days: i64,
}

/// A kind of records, and how long they are kept.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RetentionAnswer {
    /// `dispatches`, `transcripts`, `kept-answers`, `exchanges`, `comparisons`, `uploads` or `audit`.
    pub(crate) kind: &'static str,
    /// Null: they are not removed by their age.
    pub(crate) days: Option<i64>,
    /// The fewest days that it may have.
    pub(crate) fewest_days: i64,
    /// Who set the rule, and when.
    pub(crate) set_by: Option<String>,
    pub(crate) set: Option<String>,
}

impl From<Retention> for RetentionAnswer {
    fn from(retention: Retention) -> Self {
        let Retention { kind, rule, fewest_days } = retention;
        RetentionAnswer {
            kind: kind.name(),
            days: rule.as_ref().map(|rule| rule.days),
            fewest_days,
            set: rule.as_ref().map(|rule| rfc3339(rule.made_at)),
            set_by: rule.map(|rule| rule.made_by),
        }
    }
}

/// What a removal took of a kind that has a rule, or would take.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RemovalAnswer {
    pub(crate) kind: &'static str,
    pub(crate) days: i64,
    pub(crate) records: i64,
}

impl From<RetentionRun> for RemovalAnswer {
    fn from(run: RetentionRun) -> Self {
        RemovalAnswer { kind: run.kind.name(), days: run.days, records: run.records }
    }
}
