//! How an engine charges.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::money::{parse_nanos, scale};
use crate::{Currency, Money, MoneyError};

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

/// How one call is charged: a tariff whose price and factors are decided.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallPrice {
    /// What is charged.
    pub currency: Currency,
    /// The unit that is counted.
    pub per: Measure,
    /// Billionths of the currency for a unit.
    nanos: i64,
    /// Billionths.
    factor: i64,
    step: u64,
    minimum: u64,
    cancelled: Cancelled,
    /// Units beyond which a factor applies, and the factor in billionths.
    tiers: Vec<(u64, i64)>,
    /// Used in the month before the call.
    used: Usage,
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

const NANOS_A_UNIT: i64 = 1_000_000_000;

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

#[cfg(test)]
mod tests {
    use super::*;

    fn tariff(per: Measure, price: &str, step: u64) -> Tariff {
        let models = BTreeMap::from([("fine".to_owned(), "1.7".to_owned())]);
        Tariff { price: price.into(), per, step, models, ..Tariff::free() }
    }

    const DAY: &str = "2026-11-30";

    fn of_model(tariff: &Tariff, model: Option<&str>) -> CallPrice {
        tariff.of_call(PriceTerms { model, day: DAY, ..PriceTerms::default() }).expect("a price")
    }

    fn cost(tariff: &Tariff, usage: Usage, model: Option<&str>) -> Money {
        of_model(tariff, model).cost(usage).expect("a cost")
    }

    fn units_of(tariff: &Tariff, usage: Usage) -> u64 {
        of_model(tariff, None).units(usage)
    }

    #[test]
    fn characters_are_counted_and_models_multiply() {
        let tariff = tariff(Measure::Character, "0.000016", 1);
        let usage = Usage { characters: 50, bytes: 60, milliseconds: 0 };
        assert_eq!(cost(&tariff, usage, None).amount(), "0.000800");
        assert_eq!(cost(&tariff, usage, Some("fine")).amount(), "0.001360");
        assert_eq!(cost(&tariff, usage, Some("unknown")).amount(), "0.000800");
    }

    #[test]
    fn audio_is_charged_by_started_steps() {
        let tariff = tariff(Measure::Second, "0.0004", 15);
        for (milliseconds, units) in [(1, 15), (15_000, 15), (15_001, 30), (0, 0)] {
            assert_eq!(units_of(&tariff, Usage { milliseconds, ..Usage::default() }), units, "{milliseconds} ms");
        }
    }

    #[test]
    fn a_minute_that_was_started_is_charged() {
        let tariff = tariff(Measure::Minute, "0.02", 1);
        for (milliseconds, minutes) in [(0, 0), (1, 1), (60_000, 1), (60_001, 2), (119_999, 2), (120_001, 3)] {
            assert_eq!(units_of(&tariff, Usage { milliseconds, ..Usage::default() }), minutes, "{milliseconds} ms");
        }
        let usage = Usage { milliseconds: 60_001, ..Usage::default() };
        assert_eq!(cost(&tariff, usage, None).amount(), "0.040000");
    }

    #[test]
    fn a_cancelled_call_is_charged_as_the_tariff_says() {
        let minute = Usage { milliseconds: 60_000, characters: 40, bytes: 40 };
        let units = |tariff: &Tariff, heard| {
            let price = of_model(tariff, None);
            price.of_cancelled(minute, heard).0.map(|usage| price.units(usage))
        };
        let by_second = tariff(Measure::Second, "0.0004", 15);
        assert_eq!(
            (units(&by_second, 4), units(&by_second, 20_000), units(&by_second, 90_000)),
            (Some(15), Some(30), Some(60))
        );
        let whole = Tariff { cancelled: Cancelled::Whole, ..by_second.clone() };
        let nothing = Tariff { cancelled: Cancelled::Nothing, ..by_second };
        assert_eq!((units(&whole, 4), units(&nothing, 4)), (Some(60), None));
        assert_eq!(units(&tariff(Measure::Character, "0.1", 1), 4), Some(40));
    }

    #[test]
    fn each_measure_counts_its_own_and_only_text_is_known_before() {
        let usage = Usage { characters: 7, bytes: 9, milliseconds: 61_000 };
        for (per, units, word, of_text) in [
            (Measure::Character, 7, "character", true),
            (Measure::Byte, 9, "byte", true),
            (Measure::Second, 61, "second", false),
            (Measure::Minute, 2, "minute", false),
            (Measure::Request, 1, "request", true),
        ] {
            let tariff = tariff(per, "0.5", 1);
            assert_eq!((units_of(&tariff, usage), per.name(), tariff.charges_text()), (units, word, of_text));
            assert_eq!(cost(&tariff, usage, None).nanos, units as i64 * 500_000_000);
        }
        let divisible = |per, price, step| tariff(per, price, step).is_divisible();
        assert!(divisible(Measure::Character, "0.5", 1) && divisible(Measure::Byte, "0.5", 1));
        assert!(!divisible(Measure::Character, "0.5", 100) && !divisible(Measure::Second, "0.5", 1));
        assert!(!divisible(Measure::Request, "0.5", 1) && divisible(Measure::Request, "0.00", 15));
        // A step that nobody checked is one.
        assert_eq!(units_of(&tariff(Measure::Character, "0.5", 0), usage), 7);
        let pounds = Tariff { currency: "GBP".parse().expect("a currency"), ..tariff(Measure::Request, "0.5", 1) };
        assert_eq!(cost(&pounds, usage, None).to_string(), "0.500000 GBP");
        assert_eq!(cost(&Tariff::free(), usage, Some("fine")), Money::zero(Currency::EUR));
    }

    #[test]
    fn a_call_of_no_length_that_is_cancelled_still_began_a_unit() {
        let by_second = tariff(Measure::Second, "0.0004", 1);
        let usage = Usage { milliseconds: 0, ..Usage::default() };
        let (charged, why) = of_model(&by_second, None).of_cancelled(usage, 5_000);
        assert_eq!(charged.map(|usage| usage.milliseconds), Some(1));
        assert_eq!(why, "charged by the units that were begun");
    }

    #[test]
    fn faults_in_a_tariff_are_found_when_it_is_checked() {
        assert!(tariff(Measure::Byte, "0,1", 1).check().is_err());
        assert!(tariff(Measure::Byte, "0.1", 0).check().is_err());
        assert!(tariff(Measure::Byte, "0.1", 1).check().is_ok());
        let mut odd = tariff(Measure::Byte, "0.1", 1);
        odd.models.insert("fine".into(), "1,7".into());
        assert_eq!(odd.check(), Err(MoneyError::Amount("1,7".into())));
        odd.models.insert("fine".into(), "-1.7".into());
        assert_eq!(odd.check(), Err(MoneyError::Amount("-1.7".into())));
        assert_eq!(tariff(Measure::Byte, "-0.1", 1).check(), Err(MoneyError::Amount("-0.1".into())));
        let falling = Tariff { changes: vec![change("2026-12-01", "-1")], ..tariff(Measure::Byte, "0.1", 1) };
        assert_eq!(falling.check(), Err(MoneyError::Amount("-1".into())));
    }

    fn change(from: &str, price: &str) -> PriceChange {
        PriceChange { from: from.into(), price: price.into() }
    }

    #[test]
    fn a_price_applies_from_its_day_and_does_not_rewrite_the_past() {
        let changes = vec![change("2026-12-01", "0.3"), change("2027-01-01", "0.2")];
        let tariff = Tariff { changes, ..tariff(Measure::Request, "0.5", 1) };
        assert_eq!(tariff.check(), Ok(()));
        for (day, price) in [
            ("2026-11-30", "0.5"),
            ("2026-12-01", "0.3"),
            ("2026-12-31", "0.3"),
            ("2027-01-01", "0.2"),
            ("2030-06-01", "0.2"),
        ] {
            assert_eq!(tariff.price_on(day), price, "{day}");
            let terms = PriceTerms { day, ..PriceTerms::default() };
            let nanos = tariff.of_call(terms).expect("a price").cost(Usage::default()).expect("a cost").nanos;
            assert_eq!(nanos, parse_nanos(price).expect("an amount"), "{day}");
        }
        let out_of_order = Tariff { changes: vec![change("2027-01-01", "1"), change("2027-01-01", "2")], ..tariff };
        assert_eq!(out_of_order.check(), Err(MoneyError::DayOrder("2027-01-01".into())));
        for odd in ["2026-02-29", "2026-13-01", "2026-1-01", "tomorrow", "2026-12-00", "2026/12/01", "２026-12-0"] {
            let tariff = Tariff { changes: vec![change(odd, "1")], ..Tariff::free() };
            assert_eq!(tariff.check(), Err(MoneyError::Day(odd.into())));
        }
        assert!(is_day("2028-02-29") && !is_day("2100-02-29") && is_day("2000-02-29"));
    }

    #[test]
    fn classes_and_regions_multiply_and_an_unknown_region_counts_as_the_dearest() {
        let factors =
            |of: &[(&str, &str)]| of.iter().map(|(name, factor)| (name.to_string(), factor.to_string())).collect();
        let tariff = Tariff {
            classes: factors(&[("natural", "4")]),
            regions: factors(&[("north", "1.25"), ("south", "0.8")]),
            ..tariff(Measure::Character, "0.01", 1)
        };
        let usage = Usage { characters: 3, ..Usage::default() };
        let amount = |model, class, region| {
            let price = tariff.of_call(PriceTerms { model, class, region, day: DAY }).expect("a price");
            price.cost(usage).expect("a cost").amount()
        };
        assert_eq!(amount(None, None, Some("south")), "0.024000");
        assert_eq!(amount(Some("fine"), Some("natural"), Some("south")), "0.163200");
        assert_eq!(amount(None, Some("plain"), Some("north")), "0.037500");
        assert_eq!(amount(None, Some("natural"), None), "0.150000");
        assert_eq!(amount(None, None, Some("west")), "0.030000");
    }

    #[test]
    fn a_short_call_costs_the_minimum_in_whole_steps() {
        let tariff = Tariff { minimum: 20, ..tariff(Measure::Second, "0.1", 15) };
        let seconds = |milliseconds| units_of(&tariff, Usage { milliseconds, ..Usage::default() });
        assert_eq!((seconds(1), seconds(20_000), seconds(30_001)), (30, 30, 45));
        assert!(!Tariff { minimum: 20, ..self::tariff(Measure::Character, "0.1", 1) }.is_divisible());
        assert!(Tariff { minimum: 1, ..self::tariff(Measure::Character, "0.1", 1) }.is_divisible());
    }

    #[test]
    fn a_call_that_reaches_a_tier_is_charged_by_both() {
        let tier = |above, factor: &str| Tier { above, factor: factor.into() };
        let free_and_cheaper = vec![tier(0, "0"), tier(100, "1"), tier(1_000, "0.5")];
        let tariff = Tariff { tiers: free_and_cheaper, ..tariff(Measure::Character, "0.01", 1) };
        tariff.check().expect("a tariff");
        let amount = |used: u64, characters: u64, model| {
            let used = Usage { characters: used, ..Usage::default() };
            let price = tariff.of_call(PriceTerms { model, day: DAY, used, ..PriceTerms::default() }).expect("a price");
            price.cost(Usage { characters, ..Usage::default() }).expect("a cost").amount()
        };
        assert_eq!(amount(0, 100, None), "0.000000", "all of it is free");
        assert_eq!(amount(60, 50, None), "0.100000", "ten of them are beyond the free ones");
        assert_eq!(amount(990, 30, None), "0.200000", "ten in full, twenty at a half");
        assert_eq!(amount(990, 30, Some("fine")), "0.340000");
        assert_eq!(amount(50, 1_050, None), "9.500000", "50 free, 900 in full, 100 at a half");
        let price = tariff.of_call(PriceTerms { day: DAY, ..PriceTerms::default() }).expect("a price");
        let calls = [60, 50, 880, 30].map(|characters| Usage { characters, ..Usage::default() });
        let mut at = price;
        let mut nanos = 0;
        for usage in calls {
            nanos += at.cost(usage).expect("a cost").nanos;
            at = at.after(usage);
        }
        assert_eq!(nanos, 9_100_000_000, "one after the other as all in one: 900 in full, 20 at a half");
    }

    #[test]
    fn tiers_are_in_the_order_of_their_units_and_not_of_requests() {
        let tier = |above, factor: &str| Tier { above, factor: factor.into() };
        let of = |per, tiers| Tariff { tiers, ..tariff(per, "0.01", 1) }.check();
        assert_eq!(of(Measure::Second, vec![tier(5, "0.5"), tier(5, "0.4")]), Err(MoneyError::TierOrder(5)));
        assert_eq!(of(Measure::Request, vec![tier(5, "0.5")]), Err(MoneyError::RequestTiers));
        assert_eq!(of(Measure::Minute, vec![tier(5, "-1")]), Err(MoneyError::Amount("-1".into())));
        assert_eq!(of(Measure::Byte, vec![tier(0, "0"), tier(9, "1.5")]), Ok(()));
    }
}
