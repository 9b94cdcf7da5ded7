//! What was used and what it cost, in sums by hour that are made of the ledger.

mod sums;

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text};
use dispatcher_core::{Currency, Money};

pub(crate) use sums::add_recalled;

use crate::words::Word;
use crate::{Store, StoreError};

/// What to group by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GroupBy {
    App,
    Engine,
    Day,
    Hour,
    Model,
    Work,
    /// The key, token or person that made the request.
    Key,
    Voice,
    /// What was requested: a route, a voice, an engine or criteria.
    Route,
    Language,
}

impl GroupBy {
    /// All of them.
    pub const ALL: [GroupBy; 10] = [
        GroupBy::App,
        GroupBy::Key,
        GroupBy::Engine,
        GroupBy::Voice,
        GroupBy::Model,
        GroupBy::Route,
        GroupBy::Language,
        GroupBy::Work,
        GroupBy::Day,
        GroupBy::Hour,
    ];

    /// The name in requests.
    pub fn name(self) -> &'static str {
        match self {
            GroupBy::App => "app",
            GroupBy::Key => "key",
            GroupBy::Engine => "engine",
            GroupBy::Voice => "voice",
            GroupBy::Model => "model",
            GroupBy::Route => "route",
            GroupBy::Language => "language",
            GroupBy::Work => "work",
            GroupBy::Day => "day",
            GroupBy::Hour => "hour",
        }
    }

    /// The grouping of a name.
    pub fn from_name(name: &str) -> Option<GroupBy> {
        GroupBy::ALL.into_iter().find(|group| group.name() == name)
    }

    /// Its column of the sums by hour.
    fn column(self) -> &'static str {
        match self {
            GroupBy::Key => "caller",
            other => other.name(),
        }
    }
}

/// A bucket of the latency is longer than the one before it by this factor.
const LONGER: f64 = 1.1;
/// Microseconds of the first bucket.
const SHORTEST: f64 = 1_000.0;
/// Groups of a report.
const MOST_GROUPS: usize = 20_000;

fn bucket_of(micros: i64) -> i64 {
    ((micros as f64).max(SHORTEST) / SHORTEST).log(LONGER).round() as i64
}

/// Microseconds of a bucket.
fn micros_of(bucket: i64) -> i64 {
    (SHORTEST * LONGER.powi(i32::try_from(bucket).unwrap_or(i32::MAX))).round() as i64
}

/// Usage of one group in one currency.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct UsageTotal {
    #[diesel(sql_type = Text)]
    pub first: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub second: Option<String>,
    #[diesel(sql_type = Text, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    /// Requests that were charged; each counts for the engine that was charged first.
    #[diesel(sql_type = BigInt)]
    pub requests: i64,
    /// Attempts that failed.
    #[diesel(sql_type = BigInt)]
    pub failures: i64,
    /// Requests that another engine failed before.
    #[diesel(sql_type = BigInt)]
    pub fallbacks: i64,
    /// Requests that were answered with kept audio.
    #[diesel(sql_type = BigInt)]
    pub recalled: i64,
    #[diesel(sql_type = BigInt)]
    pub characters: i64,
    #[diesel(sql_type = BigInt)]
    pub audio_ms: i64,
    #[diesel(sql_type = BigInt)]
    pub nanos: i64,
    /// What the recalled requests would have cost.
    #[diesel(sql_type = BigInt)]
    pub saved_nanos: i64,
    /// Microseconds until the first audio, or until the transcript, to a
    /// twentieth: half of the group's calls took no longer, in all currencies.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub median_us: Option<i64>,
    /// The same of 95 calls of 100.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub p95_us: Option<i64>,
}

impl UsageTotal {
    /// What it cost.
    pub fn cost(&self) -> Money {
        Money { nanos: self.nanos, currency: self.currency }
    }

    /// What was saved by recall.
    pub fn saved(&self) -> Money {
        Money { nanos: self.saved_nanos, currency: self.currency }
    }
}

#[derive(QueryableByName)]
struct LatencyCount {
    #[diesel(sql_type = Text)]
    first: String,
    #[diesel(sql_type = Nullable<Text>)]
    second: Option<String>,
    #[diesel(sql_type = BigInt)]
    bucket: i64,
    #[diesel(sql_type = BigInt)]
    calls: i64,
}

/// Median and 95th percentile of counts in the order of their buckets.
fn latency_of(counts: &[(i64, i64)]) -> Option<(i64, i64)> {
    let all: i64 = counts.iter().map(|(_, calls)| calls).sum();
    let percentile = |share: i64| {
        let rank = (all * share + 99) / 100;
        let mut passed = 0;
        let reached = counts.iter().find(|(_, calls)| {
            passed += calls;
            passed >= rank
        });
        reached.map_or(0, |(bucket, _)| micros_of(*bucket))
    };
    (all > 0).then(|| (percentile(50), percentile(95)))
}

impl Store {
    /// Usage from one day to another, both included (`YYYY-MM-DD`), grouped by
    /// one or two columns. `apps` narrows it to some apps.
    ///
    /// # Errors
    /// [`StoreError::ManyGroups`] where the report would be too long.
    pub async fn usage(
        &self,
        by: (GroupBy, Option<GroupBy>),
        days: (String, String),
        apps: Option<Vec<String>>,
    ) -> Result<Vec<UsageTotal>, StoreError> {
        self.roll_up_usage().await?;
        self.read(move |c| {
            // Columns come from the closed list above; values are bound.
            let first = by.0.column();
            let second = by.1.map_or("NULL", GroupBy::column);
            let apps = apps.map(serde_json::Value::from).map(|apps| apps.to_string());
            let of = "day BETWEEN ? AND ? AND (? IS NULL OR app IN (SELECT value FROM json_each(?)))";
            let statement = format!(
                "SELECT {first} AS first, {second} AS second, currency, sum(requests) AS requests, \
                 sum(failures) AS failures, sum(fallbacks) AS fallbacks, sum(recalled) AS recalled, \
                 sum(characters) AS characters, sum(audio_ms) AS audio_ms, sum(nanos) AS nanos, \
                 sum(saved_nanos) AS saved_nanos, NULL AS median_us, NULL AS p95_us FROM usage_hours WHERE {of} GROUP BY 1, 2, 3 ORDER BY 1, 2, 3 \
                 LIMIT {}",
                MOST_GROUPS + 1
            );
            let bound = |statement: String| {
                diesel::sql_query(statement)
                    .bind::<Text, _>(days.0.clone())
                    .bind::<Text, _>(days.1.clone())
                    .bind::<Nullable<Text>, _>(apps.clone())
                    .bind::<Nullable<Text>, _>(apps.clone())
            };
            let mut totals: Vec<UsageTotal> = bound(statement).load(c)?;
            if totals.len() > MOST_GROUPS {
                return Err(StoreError::ManyGroups(MOST_GROUPS));
            }
            let by_hour = [Some(by.0), by.1].contains(&Some(GroupBy::Hour));
            let table = if by_hour { "usage_latency_hours" } else { "usage_latency" };
            let statement = format!(
                "SELECT {first} AS first, {second} AS second, bucket, sum(calls) AS calls FROM {table} \
                 WHERE {of} GROUP BY 1, 2, 3 ORDER BY 1, 2, 3"
            );
            let counts: Vec<LatencyCount> = bound(statement).load(c)?;
            add_latency(&mut totals, counts);
            Ok(totals)
        })
        .await
    }
}

fn add_latency(totals: &mut [UsageTotal], counts: Vec<LatencyCount>) {
    type Group = (String, Option<String>);
    let mut of_groups: BTreeMap<Group, Vec<(i64, i64)>> = BTreeMap::new();
    for LatencyCount { first, second, bucket, calls } in counts {
        of_groups.entry((first, second)).or_default().push((bucket, calls));
    }
    for total in totals {
        let counts = of_groups.get(&(total.first.clone(), total.second.clone()));
        (total.median_us, total.p95_us) = counts.and_then(|counts| latency_of(counts)).unzip();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_percentile_is_a_bucket_within_a_twentieth_of_what_was_measured() {
        for micros in [1_000, 1_499, 20_000, 333_333, 9_000_000] {
            let told = micros_of(bucket_of(micros));
            assert!((told - micros).abs() * 20 <= micros, "{micros} is told as {told}");
        }
        assert_eq!(micros_of(bucket_of(3)), 1_000, "shorter times are not told apart");
        let counts = [(10, 50), (20, 44), (30, 1), (40, 5)];
        assert_eq!(latency_of(&counts), Some((micros_of(10), micros_of(30))));
        assert_eq!(latency_of(&[]), None);
    }
}
