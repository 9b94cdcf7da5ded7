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

/// A price list: the price of each unit, in steps, times the factor of the model.
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
    /// Units are charged in whole steps of this size (default: 1).
    #[serde(default = "one")]
    pub step: u64,
    /// Cost of a call that its caller cancelled.
    #[serde(default)]
    pub cancelled: Cancelled,
    /// Factors by model, decimals (default: 1).
    #[serde(default)]
    pub models: BTreeMap<String, String>,
}

fn euro() -> Currency {
    Currency::EUR
}

fn one() -> u64 {
    1
}

impl Tariff {
    /// A tariff that charges nothing.
    pub fn free() -> Self {
        Tariff {
            currency: Currency::EUR,
            per: Measure::Request,
            price: "0".into(),
            step: 1,
            cancelled: Cancelled::default(),
            models: BTreeMap::new(),
        }
    }

    /// Refuses prices and factors that are not decimals, and a step of 0.
    pub fn check(&self) -> Result<(), MoneyError> {
        parse_nanos(&self.price)?;
        self.models.values().try_for_each(|factor| parse_nanos(factor).map(drop))?;
        if self.step == 0 { Err(MoneyError::Amount("step is 0".into())) } else { Ok(()) }
    }

    /// What is charged of a call that was cancelled after some time, and why;
    /// `usage` is that of the whole call, whose audio `heard` milliseconds may
    /// have been worked on.
    pub fn of_cancelled(&self, usage: Usage, heard: u64) -> (Option<Usage>, &'static str) {
        match self.cancelled {
            Cancelled::Whole => (Some(usage), "charged as a whole call"),
            Cancelled::Nothing => (None, "not charged"),
            Cancelled::Started if self.charges_text() => (Some(usage), "the engine has the text, which is charged"),
            Cancelled::Started => {
                let milliseconds = heard.min(usage.milliseconds).max(1);
                (Some(Usage { milliseconds, ..usage }), "charged by the units that were begun")
            }
        }
    }

    /// Whether the cost is known before the audio is.
    pub fn charges_text(&self) -> bool {
        matches!(self.per, Measure::Character | Measure::Byte | Measure::Request)
    }

    /// Units of the tariff's measure, rounded up to whole steps. Audio is
    /// counted by started seconds or minutes.
    pub fn units(&self, usage: Usage) -> u64 {
        let units = match self.per {
            Measure::Character => usage.characters,
            Measure::Byte => usage.bytes,
            Measure::Second => usage.milliseconds.div_ceil(1_000),
            Measure::Minute => usage.milliseconds.div_ceil(60_000),
            Measure::Request => 1,
        };
        units.div_ceil(self.step.max(1)) * self.step.max(1)
    }

    /// Whether a text costs the same in one call as in several.
    pub fn is_divisible(&self) -> bool {
        let free = parse_nanos(&self.price).is_ok_and(|nanos| nanos == 0);
        free || (matches!(self.per, Measure::Character | Measure::Byte) && self.step <= 1)
    }

    /// What the usage costs with the model.
    ///
    /// # Errors
    /// When the tariff was not checked, or the amount is beyond 64 bits.
    pub fn cost(&self, usage: Usage, model: Option<&str>) -> Result<Money, MoneyError> {
        let factor = model.and_then(|model| self.models.get(model)).map_or("1", String::as_str);
        let nanos = scale(parse_nanos(&self.price)?, self.units(usage), parse_nanos(factor)?)?;
        Ok(Money { nanos, currency: self.currency })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tariff(per: Measure, price: &str, step: u64) -> Tariff {
        let models = BTreeMap::from([("fine".to_owned(), "1.7".to_owned())]);
        Tariff { price: price.into(), per, step, models, ..Tariff::free() }
    }

    #[test]
    fn characters_are_counted_and_models_multiply() {
        let tariff = tariff(Measure::Character, "0.000016", 1);
        let usage = Usage { characters: 50, bytes: 60, milliseconds: 0 };
        assert_eq!(tariff.cost(usage, None).expect("cost").amount(), "0.000800");
        assert_eq!(tariff.cost(usage, Some("fine")).expect("cost").amount(), "0.001360");
        assert_eq!(tariff.cost(usage, Some("unknown")).expect("cost").amount(), "0.000800");
    }

    #[test]
    fn audio_is_charged_by_started_steps() {
        let tariff = tariff(Measure::Second, "0.0004", 15);
        for (milliseconds, units) in [(1, 15), (15_000, 15), (15_001, 30), (0, 0)] {
            assert_eq!(tariff.units(Usage { milliseconds, ..Usage::default() }), units, "{milliseconds} ms");
        }
    }

    #[test]
    fn a_minute_that_was_started_is_charged() {
        let tariff = tariff(Measure::Minute, "0.02", 1);
        for (milliseconds, minutes) in [(0, 0), (1, 1), (60_000, 1), (60_001, 2), (119_999, 2), (120_001, 3)] {
            assert_eq!(tariff.units(Usage { milliseconds, ..Usage::default() }), minutes, "{milliseconds} ms");
        }
        let usage = Usage { milliseconds: 60_001, ..Usage::default() };
        assert_eq!(tariff.cost(usage, None).expect("cost").amount(), "0.040000");
    }

    #[test]
    fn a_cancelled_call_is_charged_as_the_tariff_says() {
        let minute = Usage { milliseconds: 60_000, characters: 40, bytes: 40 };
        let units = |tariff: &Tariff, heard| tariff.of_cancelled(minute, heard).0.map(|usage| tariff.units(usage));
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
            assert_eq!((tariff.units(usage), per.name(), tariff.charges_text()), (units, word, of_text));
            assert_eq!(tariff.cost(usage, None).expect("cost").nanos, units as i64 * 500_000_000);
        }
        let divisible = |per, price, step| tariff(per, price, step).is_divisible();
        assert!(divisible(Measure::Character, "0.5", 1) && divisible(Measure::Byte, "0.5", 1));
        assert!(!divisible(Measure::Character, "0.5", 100) && !divisible(Measure::Second, "0.5", 1));
        assert!(!divisible(Measure::Request, "0.5", 1) && divisible(Measure::Request, "0.00", 15));
        // A step that nobody checked is one.
        assert_eq!(tariff(Measure::Character, "0.5", 0).units(usage), 7);
        let pounds = Tariff { currency: "GBP".parse().expect("a currency"), ..tariff(Measure::Request, "0.5", 1) };
        assert_eq!(pounds.cost(usage, None).expect("cost").to_string(), "0.500000 GBP");
        assert_eq!(Tariff::free().cost(usage, Some("fine")).expect("cost"), Money::zero(Currency::EUR));
    }

    #[test]
    fn a_call_of_no_length_that_is_cancelled_still_began_a_unit() {
        let by_second = tariff(Measure::Second, "0.0004", 1);
        let usage = Usage { milliseconds: 0, ..Usage::default() };
        let (charged, why) = by_second.of_cancelled(usage, 5_000);
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
    }
}
