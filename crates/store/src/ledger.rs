//! Reading the ledger: what was used and what it cost.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text};
use dispatcher_core::{Currency, Money};

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

    /// A column of the ledger `l`, or of the dispatch `d` or the attempt `a` of an entry.
    fn column(self) -> &'static str {
        match self {
            GroupBy::App => "l.app",
            GroupBy::Engine => "l.engine",
            GroupBy::Day => "l.day",
            GroupBy::Hour => "strftime('%Y-%m-%dT%H:00Z', l.at / 1000000, 'unixepoch')",
            GroupBy::Model => "coalesce(l.model, '')",
            GroupBy::Work => "l.work",
            GroupBy::Key => "d.caller",
            GroupBy::Voice => "coalesce(l.engine || '/' || a.voice, '')",
            GroupBy::Route => "d.requested",
            GroupBy::Language => "coalesce(d.language, '')",
        }
    }

    /// What is read beside the ledger for its column.
    fn join(self) -> &'static str {
        match self {
            GroupBy::Key | GroupBy::Route | GroupBy::Language => "JOIN dispatches d ON d.id = l.dispatch",
            GroupBy::Voice => "LEFT JOIN attempts a ON a.dispatch = l.dispatch AND a.number = l.attempt",
            _ => "",
        }
    }
}

/// Settled usage of one group in one currency.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct UsageTotal {
    #[diesel(sql_type = Text)]
    pub first: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub second: Option<String>,
    #[diesel(sql_type = Text, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    #[diesel(sql_type = BigInt)]
    pub requests: i64,
    #[diesel(sql_type = BigInt)]
    pub characters: i64,
    #[diesel(sql_type = BigInt)]
    pub audio_ms: i64,
    #[diesel(sql_type = BigInt)]
    pub nanos: i64,
}

impl UsageTotal {
    /// What it cost.
    pub fn cost(&self) -> Money {
        Money { nanos: self.nanos, currency: self.currency }
    }
}

impl Store {
    /// Settled usage from one day to another, both included (`YYYY-MM-DD`),
    /// grouped by one or two columns. `app` narrows it to one app.
    pub async fn usage(
        &self,
        by: (GroupBy, Option<GroupBy>),
        days: (String, String),
        app: Option<String>,
    ) -> Result<Vec<UsageTotal>, StoreError> {
        self.read(move |c| {
            let first = by.0.column();
            let second = by.1.map_or("NULL", GroupBy::column);
            // Columns come from the closed list above; values are bound.
            let (join, other) = (by.0.join(), by.1.map_or("", GroupBy::join));
            let other = if other == join { "" } else { other };
            let statement = format!(
                "SELECT {first} AS first, {second} AS second, l.currency AS currency, \
                 count(DISTINCT CASE WHEN l.kind = 'settle' THEN l.dispatch END) AS requests, \
                 sum(l.characters) AS characters, sum(l.audio_ms) AS audio_ms, sum(l.nanos) AS nanos \
                 FROM ledger l {join} {other} WHERE l.kind IN ('settle', 'adjust') AND l.day BETWEEN ? AND ? \
                 AND (? IS NULL OR l.app = ?) GROUP BY 1, 2, 3 ORDER BY 1, 2, 3"
            );
            let query = diesel::sql_query(statement)
                .bind::<Text, _>(days.0)
                .bind::<Text, _>(days.1)
                .bind::<Nullable<Text>, _>(app.clone())
                .bind::<Nullable<Text>, _>(app);
            Ok(query.load(c)?)
        })
        .await
    }
}
