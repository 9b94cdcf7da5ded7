//! Statements of engines: the mapping of their columns, and their comparison
//! with the ledger.

use dispatcher_core::{LedgerCharge, Reconciliation, StatementMapping, read_statement, reconcile};
use dispatcher_store::{NewVersion, StoreError, VersionedKind};

use crate::{Gateway, GatewayError, day_of, now_micros};

const SECOND: i64 = 1_000_000;
const DAY: i64 = 86_400 * SECOND;

/// A statement compared with the ledger.
#[derive(Debug, Clone)]
pub struct ReconciledStatement {
    /// First and last day, `YYYY-MM-DD` in UTC.
    pub days: (String, String),
    /// Number of lines of the statement.
    pub lines: usize,
    pub found: Reconciliation,
}

impl Gateway {
    /// The mapping of an engine's statements.
    ///
    /// # Errors
    /// Where it has none.
    pub async fn statement_mapping(&self, engine: &str) -> Result<StatementMapping, GatewayError> {
        self.registry().engine(engine)?;
        let kept = self.inner.store.version_in_force(VersionedKind::StatementMapping, engine.to_owned()).await?;
        serde_json::from_str(&kept.document).map_err(GatewayError::document("a statement mapping"))
    }

    /// Sets the mapping of an engine's statements.
    ///
    /// # Errors
    /// Where no statement could be read with it.
    pub async fn put_statement_mapping(
        &self,
        engine: &str,
        mapping: &StatementMapping,
        by: &str,
    ) -> Result<(), GatewayError> {
        self.registry().engine(engine)?;
        mapping.check()?;
        let document = serde_json::to_string(mapping).map_err(GatewayError::document("a statement mapping"))?;
        let new = NewVersion::by(by, VersionedKind::StatementMapping, engine, document);
        self.inner.store.put_version(new, now_micros()).await?;
        Ok(())
    }

    /// Calls of an engine that were charged or failed on some days, both
    /// included (`YYYY-MM-DD` in UTC), by their times.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn engine_charges(
        &self,
        engine: &str,
        days: (String, String),
    ) -> Result<Vec<LedgerCharge>, GatewayError> {
        Ok(self.inner.store.engine_charges(engine.to_owned(), days).await?)
    }

    /// Compares a statement of an engine with the ledger, over the days of its
    /// lines. It changes nothing.
    ///
    /// # Errors
    /// Where the engine has no mapping, or the statement cannot be read with it.
    pub async fn reconcile(&self, engine: &str, statement: String) -> Result<ReconciledStatement, GatewayError> {
        let mapping = match self.statement_mapping(engine).await {
            Err(GatewayError::Store(StoreError::Missing { .. })) => {
                return Err(GatewayError::NoMapping(engine.to_owned()));
            }
            found => found?,
        };
        let tolerance = mapping.tolerance();
        let lines = self.in_turn(move || read_statement(&statement, &mapping)).await??;
        let times = || lines.iter().map(|line| line.at);
        let Some((first, last)) = times().min().zip(times().max()) else {
            return Err(GatewayError::EmptyStatement);
        };
        // A day around it: its times may be of another zone.
        let days = (day_of(first * SECOND - DAY), day_of(last * SECOND + DAY));
        let charges = self.engine_charges(engine, days).await?;
        let (days, count) = ((day_of(first * SECOND), day_of(last * SECOND)), lines.len());
        let compared = move || {
            let mut found = reconcile(&lines, &charges, tolerance)?;
            let whole_days = lines.iter().any(|line| line.whole_day);
            let ends = if whole_days { last + DAY / SECOND - 1 } else { last + tolerance };
            let begins = if whole_days { first } else { first - tolerance };
            found.not_billed.retain(|difference| (begins..=ends).contains(&difference.at));
            Ok::<_, dispatcher_core::MoneyError>(found)
        };
        let found = self.in_turn(compared).await??;
        Ok(ReconciledStatement { days, lines: count, found })
    }
}
