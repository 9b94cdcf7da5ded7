//! How an engine charges.

mod price;

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use price::NANOS_A_UNIT;

pub use price::CallPrice;

use crate::money::{parse_nanos, scale};
use crate::{Currency, MoneyError};

/// The unit that is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Measure {
    /// Unicode characters of the text that is sent.
    Character,
    /// UTF-8 bytes of the text that is sent.
    Byte,
    /// Seconds of audio.
    Second,
    /// Minutes of audio.
    Minute,
    /// Calls.
    Request,
}

impl Measure {
    /// The word in sheets and in the API.
    pub fn name(self) -> &'static str {
        match self {
            Measure::Character => "character",
            Measure::Byte => "byte",
            Measure::Second => "second",
            Measure::Minute => "minute",
            Measure::Request => "request",
        }
    }

    /// Whether it is counted before there is audio.
    fn is_of_text(self) -> bool {
        matches!(self, Measure::Character | Measure::Byte | Measure::Request)
    }
}

/// What one attempt used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Usage {
    /// Unicode characters of text.
    pub characters: u64,
    /// UTF-8 bytes of text.
    pub bytes: u64,
    /// Audio, in milliseconds.
    pub milliseconds: u64,
}

impl Usage {
    /// Both together.
    #[must_use]
    pub fn plus(self, other: Usage) -> Usage {
        Usage {
            characters: self.characters.saturating_add(other.characters),
            bytes: self.bytes.saturating_add(other.bytes),
            milliseconds: self.milliseconds.saturating_add(other.milliseconds),
        }
    }

    /// Without what the other has.
    #[must_use]
    pub fn minus(self, other: Usage) -> Usage {
        Usage {
            characters: self.characters.saturating_sub(other.characters),
            bytes: self.bytes.saturating_sub(other.bytes),
            milliseconds: self.milliseconds.saturating_sub(other.milliseconds),
        }
    }
}

/// What an engine charges for a call that was cancelled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Cancelled {
    /// The part that was started: audio by started units; text in full, since the engine has it.
    #[default]
    Started,
    /// As a complete call.
    Whole,
    /// Nothing is charged.
    Nothing,
}

/// A price that applies from a day on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PriceChange {
    /// First day of the price, `YYYY-MM-DD` in UTC.
    pub from: String,
    /// Price of one unit from then on.
    pub price: String,
}

/// What units cost that come late in a month.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Tier {
    /// Units of the calendar month (UTC) beyond which it applies.
    pub above: u64,
    /// Factor of the price, a decimal; 0 for a free amount.
    pub factor: String,
}

/// A price list: the price of each unit, in steps, times the factors of tier, model, voice class and region.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Tariff {
    /// ISO 4217; EUR unless given.
    #[serde(default = "euro")]
    #[schemars(with = "String")]
    pub currency: Currency,
    /// The unit that is counted.
    pub per: Measure,
    /// Price of one unit, a decimal in the unit of the currency.
    pub price: String,
    /// Later prices, in the order of their days.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<PriceChange>,
    /// Units are charged in whole steps of this size (default: 1).
    #[serde(default = "one")]
    pub step: u64,
    /// Units that a call is charged at least (default: 0).
    #[serde(default, skip_serializing_if = "is_zero")]
    pub minimum: u64,
    /// Factors by what was used in the month, in the order of their units. A call that
    /// reaches a tier is charged by both. Where bytes are charged, the characters of the
    /// month decide the tier.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tiers: Vec<Tier>,
    /// Cost of a call that its caller cancelled.
    #[serde(default)]
    pub cancelled: Cancelled,
    /// Factors by model, decimals (default: 1).
    #[serde(default)]
    pub models: BTreeMap<String, String>,
    /// Factors by the class of the voice, decimals (default: 1).
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub classes: BTreeMap<String, String>,
    /// Factors by the region in which the engine is called, decimals (default: 1).
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub regions: BTreeMap<String, String>,
}

/// What decides the price of a call within a tariff.
#[derive(Debug, Clone, Copy, Default)]
pub struct PriceTerms<'a> {
    /// The model that is called.
    pub model: Option<&'a str>,
    /// The class of the voice.
    pub class: Option<&'a str>,
    /// The region in which the engine is called.
    pub region: Option<&'a str>,
    /// Day of the call, `YYYY-MM-DD` in UTC.
    pub day: &'a str,
    /// What was used of the same work of the engine in the month before it; it
    /// decides the tier.
    pub used: Usage,
}

fn euro() -> Currency {
    Currency::EUR
}

fn one() -> u64 {
    1
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// Whether it is a day of a calendar, `YYYY-MM-DD` (RFC 3339, section 5.6).
pub fn is_day(day: &str) -> bool {
    let number = |range: std::ops::Range<usize>| -> Option<u32> {
        let digits = day.get(range)?;
        digits.bytes().all(|byte| byte.is_ascii_digit()).then(|| digits.parse().ok())?
    };
    let dashes = day.len() == 10 && day.as_bytes()[4] == b'-' && day.as_bytes()[7] == b'-';
    let Some((year, month, day)) = number(0..4).zip(number(5..7)).zip(number(8..10)).map(|((y, m), d)| (y, m, d))
    else {
        return false;
    };
    let leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
    let last = match month {
        2 => 28 + u32::from(leap),
        4 | 6 | 9 | 11 => 30,
        1..=12 => 31,
        _ => 0,
    };
    dashes && (1..=last).contains(&day)
}

impl Tariff {
    /// A tariff that charges nothing.
    pub fn free() -> Self {
        Tariff {
            currency: Currency::EUR,
            per: Measure::Request,
            price: "0".into(),
            changes: Vec::new(),
            step: 1,
            minimum: 0,
            tiers: Vec::new(),
            cancelled: Cancelled::default(),
            models: BTreeMap::new(),
            classes: BTreeMap::new(),
            regions: BTreeMap::new(),
        }
    }

    /// Refuses prices and factors that are not decimals or are below 0, a step of 0,
    /// changes that are not in the order of their days, and tiers that are not in the
    /// order of their units or are of requests.
    pub fn check(&self) -> Result<(), MoneyError> {
        let factors = self.models.values().chain(self.classes.values()).chain(self.regions.values());
        let factors = factors.chain(self.tiers.iter().map(|tier| &tier.factor));
        let prices = self.changes.iter().map(|change| &change.price).chain([&self.price]);
        for decimal in factors.chain(prices) {
            // A price below zero would give back what allowances have counted.
            if parse_nanos(decimal)? < 0 {
                return Err(MoneyError::Amount(decimal.clone()));
            }
        }
        if let Some(change) = self.changes.iter().find(|change| !is_day(&change.from)) {
            return Err(MoneyError::Day(change.from.clone()));
        }
        if let Some(pair) = self.changes.windows(2).find(|pair| pair[0].from >= pair[1].from) {
            return Err(MoneyError::DayOrder(pair[1].from.clone()));
        }
        // Sums of a month have the requests of callers, not the calls of engines.
        if self.per == Measure::Request && !self.tiers.is_empty() {
            return Err(MoneyError::RequestTiers);
        }
        if let Some(pair) = self.tiers.windows(2).find(|pair| pair[0].above >= pair[1].above) {
            return Err(MoneyError::TierOrder(pair[1].above));
        }
        if self.step == 0 { Err(MoneyError::Amount("step is 0".into())) } else { Ok(()) }
    }

    /// Price of a unit on a day, as the tariff states it.
    pub fn price_on(&self, day: &str) -> &str {
        let change = self.changes.iter().rev().find(|change| change.from.as_str() <= day);
        change.map_or(&self.price, |change| &change.price)
    }

    /// Whether the cost is known before the audio is.
    pub fn charges_text(&self) -> bool {
        self.per.is_of_text()
    }

    /// Whether a text costs the same in one call as in several.
    pub fn is_divisible(&self) -> bool {
        let prices = self.changes.iter().map(|change| &change.price).chain([&self.price]);
        let free = prices.into_iter().all(|price| parse_nanos(price).is_ok_and(|nanos| nanos == 0));
        let whole = self.step > 1 || self.minimum > 1;
        free || (matches!(self.per, Measure::Character | Measure::Byte) && !whole)
    }

    fn highest_of_regions(&self) -> Result<i64, MoneyError> {
        let mut highest = NANOS_A_UNIT;
        if let Some(first) = self.regions.values().next() {
            highest = parse_nanos(first)?;
        }
        for factor in self.regions.values() {
            highest = highest.max(parse_nanos(factor)?);
        }
        Ok(highest)
    }

    /// How a call is charged. Its factor is the product of those of the
    /// tariff, rounded to billionths. In an unknown region the highest factor
    /// of all regions counts.
    ///
    /// # Errors
    /// When the tariff was not checked, or the factor is beyond 64 bits.
    pub fn of_call(&self, terms: PriceTerms<'_>) -> Result<CallPrice, MoneyError> {
        let PriceTerms { model, class, region, day, used } = terms;
        let mut factor = NANOS_A_UNIT;
        let named = |factors: &BTreeMap<String, String>, name: Option<&str>| {
            let of_it = name.and_then(|name| factors.get(name));
            of_it.map_or(Ok(NANOS_A_UNIT), |decimal| parse_nanos(decimal))
        };
        let in_region = match region {
            None => self.highest_of_regions()?,
            Some(_) => named(&self.regions, region)?,
        };
        for of_it in [named(&self.models, model)?, named(&self.classes, class)?, in_region] {
            factor = scale(factor, 1, of_it)?;
        }
        let tiers = self.tiers.iter().map(|tier| Ok((tier.above, parse_nanos(&tier.factor)?)));
        Ok(CallPrice {
            tiers: tiers.collect::<Result<_, MoneyError>>()?,
            used,
            currency: self.currency,
            per: self.per,
            nanos: parse_nanos(self.price_on(day))?,
            factor,
            step: self.step.max(1),
            minimum: self.minimum,
            cancelled: self.cancelled,
        })
    }
}

#[cfg(test)]
mod tests;
