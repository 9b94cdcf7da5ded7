//! The price of one call, out of a tariff.

use super::{Cancelled, Measure, Usage};
use crate::money::scale;
use crate::{Currency, Money, MoneyError};

/// How one call is charged: a tariff whose price and factors are decided.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallPrice {
    /// What is charged.
    pub currency: Currency,
    /// The unit that is counted.
    pub per: Measure,
    /// Billionths of the currency for a unit.
    pub(super) nanos: i64,
    /// Billionths.
    pub(super) factor: i64,
    pub(super) step: u64,
    pub(super) minimum: u64,
    pub(super) cancelled: Cancelled,
    /// Units beyond which a factor applies, and the factor in billionths.
    pub(super) tiers: Vec<(u64, i64)>,
    /// Used in the month before the call.
    pub(super) used: Usage,
}

pub(super) const NANOS_A_UNIT: i64 = 1_000_000_000;

impl CallPrice {
    /// What the usage costs.
    ///
    /// # Errors
    /// When the amount is beyond 64 bits.
    pub fn cost(&self, usage: Usage) -> Result<Money, MoneyError> {
        let units = self.units(usage);
        if self.tiers.is_empty() {
            return Ok(Money { nanos: scale(self.nanos, units, self.factor)?, currency: self.currency });
        }
        let first = match self.per {
            Measure::Byte => self.used.characters,
            _ => self.raw_units(self.used),
        };
        let last = first.saturating_add(units);
        let from = [(0, NANOS_A_UNIT)].into_iter().chain(self.tiers.iter().copied());
        let to = self.tiers.iter().map(|(above, _)| *above).chain([u64::MAX]);
        let mut nanos: i64 = 0;
        for ((from, of_tier), to) in from.zip(to) {
            let within = last.min(to).saturating_sub(first.max(from));
            let of_it = scale(self.nanos, within, scale(self.factor, 1, of_tier)?)?;
            nanos = nanos.checked_add(of_it).ok_or(MoneyError::Overflow)?;
        }
        Ok(Money { nanos, currency: self.currency })
    }

    /// The same without what was used before: the price of the list.
    #[must_use]
    pub fn without_tiers(self) -> CallPrice {
        CallPrice { tiers: Vec::new(), ..self }
    }

    /// The price of a call after one that uses so much.
    #[must_use]
    pub fn after(self, usage: Usage) -> CallPrice {
        CallPrice { used: self.used.plus(usage), ..self }
    }

    /// Units of the measure, at least the minimum and rounded up to whole
    /// steps. Audio is counted by started seconds or minutes.
    pub fn units(&self, usage: Usage) -> u64 {
        self.raw_units(usage).max(self.minimum).div_ceil(self.step).saturating_mul(self.step)
    }

    fn raw_units(&self, usage: Usage) -> u64 {
        match self.per {
            Measure::Character => usage.characters,
            Measure::Byte => usage.bytes,
            Measure::Second => usage.milliseconds.div_ceil(1_000),
            Measure::Minute => usage.milliseconds.div_ceil(60_000),
            Measure::Request => 1,
        }
    }

    /// What is charged of a call that was cancelled after some time, and why;
    /// `usage` is that of the whole call, whose audio `heard` milliseconds may
    /// have been worked on.
    pub fn of_cancelled(&self, usage: Usage, heard: u64) -> (Option<Usage>, &'static str) {
        match self.cancelled {
            Cancelled::Whole => (Some(usage), "charged as a whole call"),
            Cancelled::Nothing => (None, "not charged"),
            Cancelled::Started if self.per.is_of_text() => (Some(usage), "the engine has the text, which is charged"),
            Cancelled::Started => {
                let milliseconds = heard.min(usage.milliseconds).max(1);
                (Some(Usage { milliseconds, ..usage }), "charged by the units that were begun")
            }
        }
    }
}
