//! Rates between currencies that operators set.

use std::collections::BTreeMap;

use dispatcher_core::{Costs, Currency, DatedRate, Money, RateTable, check_rates};
use dispatcher_store::{NewVersion, UsageTotal, VersionedKind};

use crate::{Gateway, GatewayError, now_micros};

/// Rates of a currency: one a day for ten years.
const MOST_RATES: usize = 3_660;

impl Gateway {
    /// All rates to the operator's currency.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn rates(&self) -> Result<RateTable, GatewayError> {
        let mut rates = BTreeMap::new();
        for row in self.inner.store.in_force(VersionedKind::Rate).await? {
            let document = serde_json::from_str(&row.document).map_err(GatewayError::document("a rate"))?;
            rates.insert(row.name.parse::<Currency>()?, document);
        }
        Ok(RateTable { to: self.inner.host.currency, rates })
    }

    /// Sets the rates of a currency, in place of those before.
    ///
    /// # Errors
    /// Where a rate is faulty, or the currency is the operator's own.
    pub async fn put_rates(&self, of: Currency, rates: Vec<DatedRate>, by: &str) -> Result<(), GatewayError> {
        if of == self.inner.host.currency {
            return Err(GatewayError::OwnCurrency(of));
        }
        check_rates(&rates)?;
        if rates.len() > MOST_RATES {
            return Err(GatewayError::ManyRates { given: rates.len(), limit: MOST_RATES });
        }
        let document = serde_json::to_string(&rates).map_err(GatewayError::document("a rate"))?;
        let new = NewVersion::by(by, VersionedKind::Rate, of.code(), document);
        self.inner.store.put_version(new, now_micros()).await?;
        Ok(())
    }

    /// Retires the rates of a currency.
    ///
    /// # Errors
    /// Where there are none.
    pub async fn retire_rates(&self, of: Currency, by: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.retire(VersionedKind::Rate, of.to_string(), by.into(), now_micros()).await?)
    }

    /// Sums of days in the operator's currency; `None` if a rate is missing.
    pub(super) async fn converted(&self, days: &[UsageTotal]) -> Result<Option<Money>, GatewayError> {
        let table = self.rates().await?;
        let mut sum = Costs::default();
        for day in days.iter().filter(|day| day.nanos != 0) {
            match table.convert(day.cost(), &day.first)? {
                Some(money) => sum.add(money)?,
                None => return Ok(None),
            }
        }
        Ok(Some(sum.of(table.to)))
    }
}
