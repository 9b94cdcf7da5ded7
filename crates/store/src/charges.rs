//! What an engine was charged, call by call.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Text};
use dispatcher_core::{Currency, LedgerCharge, Money};

use crate::words::Word;
use crate::{Store, StoreError};

/// Charges that are read at once.
const MOST: i64 = 500_000;

#[derive(QueryableByName)]
struct ChargeRow {
    #[diesel(sql_type = Text)]
    dispatch: String,
    #[diesel(sql_type = BigInt)]
    attempt: i64,
    #[diesel(sql_type = BigInt)]
    at: i64,
    #[diesel(sql_type = BigInt)]
    nanos: i64,
    #[diesel(sql_type = Text, deserialize_as = Word<Currency>)]
    currency: Currency,
    #[diesel(sql_type = Bool)]
    failed: bool,
}

impl From<ChargeRow> for LedgerCharge {
    fn from(row: ChargeRow) -> Self {
        let amount = Money { nanos: row.nanos, currency: row.currency };
        LedgerCharge { dispatch: row.dispatch, attempt: row.attempt, at: row.at, amount, failed: row.failed }
    }
}

impl Store {
    /// Calls of an engine that were charged on some days, both included
    /// (`YYYY-MM-DD`), and those that failed, with what was held; by their times.
    ///
    /// # Errors
    /// [`StoreError::ManyGroups`] where there are too many.
    pub async fn engine_charges(
        &self,
        engine: String,
        days: (String, String),
    ) -> Result<Vec<LedgerCharge>, StoreError> {
        self.read(move |c| {
            let rows: Vec<ChargeRow> = diesel::sql_query(
                "SELECT l.dispatch, l.attempt, coalesce(d.started_at + a.offset_us, min(l.at)) / 1000000 AS at, \
                 sum(l.nanos) AS nanos, l.currency, l.kind = 'hold' AS failed FROM ledger l \
                 LEFT JOIN attempts a ON a.dispatch = l.dispatch AND a.number = l.attempt \
                 LEFT JOIN dispatches d ON d.id = l.dispatch \
                 WHERE l.engine = ? AND l.day BETWEEN ? AND ? AND (l.kind IN ('settle', 'adjust') \
                 OR (l.kind = 'hold' AND a.state = 'failed')) \
                 GROUP BY l.dispatch, l.attempt, l.currency, l.kind = 'hold' ORDER BY at LIMIT ?",
            )
            .bind::<Text, _>(engine)
            .bind::<Text, _>(days.0)
            .bind::<Text, _>(days.1)
            .bind::<BigInt, _>(MOST + 1)
            .load(c)?;
            match rows.len() as i64 > MOST {
                true => Err(StoreError::ManyGroups(MOST as usize)),
                false => Ok(rows.into_iter().map(LedgerCharge::from).collect()),
            }
        })
        .await
    }
}
