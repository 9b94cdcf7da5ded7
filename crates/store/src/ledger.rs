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
    Model,
}

impl GroupBy {
    /// The grouping of a name.
    pub fn from_name(name: &str) -> Option<GroupBy> {
        Some(match name {
            "app" => GroupBy::App,
            "engine" => GroupBy::Engine,
            "day" => GroupBy::Day,
            "model" => GroupBy::Model,
            _ => return None,
        })
    }

    fn column(self) -> &'static str {
        match self {
            GroupBy::App => "app",
            GroupBy::Engine => "engine",
            GroupBy::Day => "day",
            GroupBy::Model => "coalesce(model, '')",
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
            let statement = format!(
                "SELECT {first} AS first, {second} AS second, currency, \
                 count(DISTINCT CASE WHEN kind = 'settle' THEN dispatch END) AS requests, \
                 sum(characters) AS characters, sum(audio_ms) AS audio_ms, sum(nanos) AS nanos \
                 FROM ledger WHERE kind IN ('settle', 'adjust') AND day BETWEEN ? AND ? AND (? IS NULL OR app = ?) \
                 GROUP BY 1, 2, 3 ORDER BY 1, 2, 3"
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
