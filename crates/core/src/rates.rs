//! Rates between currencies, by day. Who sets them, and what is added up, is
//! known elsewhere.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::money::{parse_nanos, scale};
use crate::{Currency, Money, MoneyError, is_day};

/// What a unit of a currency is worth from a day on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DatedRate {
    /// First day, `YYYY-MM-DD` in UTC.
    pub from: String,
    /// A decimal: units of the operator's currency for one of the other.
    pub rate: String,
}

/// Refuses rates that are not positive decimals, and days out of order.
///
/// # Errors
/// The first fault.
pub fn check_rates(rates: &[DatedRate]) -> Result<(), MoneyError> {
    for rate in rates {
        if parse_nanos(&rate.rate)? <= 0 {
            return Err(MoneyError::Amount(rate.rate.clone()));
        }
        if !is_day(&rate.from) {
            return Err(MoneyError::Day(rate.from.clone()));
        }
    }
    match rates.windows(2).find(|pair| pair[0].from >= pair[1].from) {
        Some(pair) => Err(MoneyError::DayOrder(pair[1].from.clone())),
        None => Ok(()),
    }
}

/// The rates to the operator's currency.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RateTable {
    /// The operator's currency.
    pub to: Currency,
    /// By currency, in the order of their days.
    pub rates: BTreeMap<Currency, Vec<DatedRate>>,
}

impl RateTable {
    /// An amount of a day in the operator's currency, rounded to billionths;
    /// `None` if no rate is set for the day.
    ///
    /// # Errors
    /// [`MoneyError::Overflow`] if it exceeds 64 bits.
    pub fn convert(&self, money: Money, day: &str) -> Result<Option<Money>, MoneyError> {
        if money.currency == self.to {
            return Ok(Some(money));
        }
        let of_currency = self.rates.get(&money.currency).map_or(&[][..], Vec::as_slice);
        let Some(rate) = of_currency.iter().rev().find(|rate| rate.from.as_str() <= day) else { return Ok(None) };
        let nanos = scale(money.nanos, 1, parse_nanos(&rate.rate)?)?;
        Ok(Some(Money { nanos, currency: self.to }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn dollars(nanos: i64) -> Money {
        Money { nanos, currency: "USD".parse().expect("a currency") }
    }

    #[test]
    fn an_amount_is_converted_by_the_rate_of_its_day() {
        let rate = |from: &str, rate: &str| DatedRate { from: from.into(), rate: rate.into() };
        let rates = vec![rate("2026-11-01", "0.92"), rate("2026-12-01", "0.9")];
        assert_eq!(check_rates(&rates), Ok(()));
        let table = RateTable { to: Currency::EUR, rates: [(dollars(0).currency, rates)].into() };
        let euros = |money, day| table.convert(money, day).expect("an amount").map(|money| money.nanos);
        assert_eq!(euros(dollars(1_000), "2026-11-30"), Some(920));
        assert_eq!(euros(dollars(1_000), "2026-12-01"), Some(900));
        assert_eq!(euros(dollars(1_000), "2026-10-31"), None, "nothing was set for it");
        assert_eq!(euros(Money { nanos: 5, currency: Currency::EUR }, "2020-01-01"), Some(5));
        assert_eq!(euros(Money { nanos: 5, currency: "GBP".parse().expect("a currency") }, "2026-12-01"), None);
        assert_eq!(check_rates(&[rate("2026-12-01", "0")]), Err(MoneyError::Amount("0".into())));
        assert_eq!(check_rates(&[rate("1.12.", "1")]), Err(MoneyError::Day("1.12.".into())));
        let twice = [rate("2026-12-01", "1"), rate("2026-12-01", "2")];
        assert_eq!(check_rates(&twice), Err(MoneyError::DayOrder("2026-12-01".into())));
    }
}
