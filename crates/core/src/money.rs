//! Money as integers of 10⁻⁹ of a currency's unit, with its currency.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

const NANOS: i128 = 1_000_000_000;

/// A currency code of three capital letters (ISO 4217).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Currency([u8; 3]);

impl Currency {
    /// The currency of a ledger that has none yet.
    pub const EUR: Currency = Currency(*b"EUR");

    /// The three letters.
    pub fn code(&self) -> &str {
        std::str::from_utf8(&self.0).unwrap_or("???")
    }
}

impl FromStr for Currency {
    type Err = MoneyError;

    fn from_str(text: &str) -> Result<Self, MoneyError> {
        match text.as_bytes().first_chunk::<3>() {
            Some(code) if text.len() == 3 && code.iter().all(u8::is_ascii_uppercase) => Ok(Currency(*code)),
            _ => Err(MoneyError::Currency(text.into())),
        }
    }
}

impl fmt::Display for Currency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.code())
    }
}

impl Serialize for Currency {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.code())
    }
}

impl<'de> Deserialize<'de> for Currency {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// What something cost, an amount for each currency.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Costs(Vec<Money>);

impl Costs {
    /// Adds an amount to those of its currency.
    ///
    /// # Errors
    /// [`MoneyError::Overflow`] if the sum exceeds 64 bits.
    pub fn add(&mut self, money: Money) -> Result<(), MoneyError> {
        match self.0.iter_mut().find(|known| known.currency == money.currency) {
            Some(known) => *known = known.plus(money)?,
            None => self.0.push(money),
        }
        Ok(())
    }

    /// The amount in one currency; zero if there is none.
    pub fn of(&self, currency: Currency) -> Money {
        self.0.iter().copied().find(|known| known.currency == currency).unwrap_or(Money::zero(currency))
    }

    /// The amounts, in the order in which their currencies were added.
    pub fn amounts(&self) -> &[Money] {
        &self.0
    }
}

impl From<Money> for Costs {
    fn from(money: Money) -> Costs {
        Costs(vec![money])
    }
}

/// What can be wrong with an amount.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum MoneyError {
    /// Not three capital letters (ISO 4217).
    #[error("'{0}' is not a currency: three capital letters, such as EUR")]
    Currency(String),
    /// Not a decimal that can be counted.
    #[error("'{0}' is not a decimal amount with at most nine decimals")]
    Amount(String),
    /// Not a day of the calendar.
    #[error("'{0}' is not a day: YYYY-MM-DD, such as 2026-11-30")]
    Day(String),
    /// Price changes are listed in the order of their days.
    #[error("the price change of {0} is not after the one before it")]
    DayOrder(String),
    /// Tiers are listed in the order of their units.
    #[error("the tier above {0} units is not above the one before it")]
    TierOrder(u64),
    /// Tiers count units of a month.
    #[error("tiers are for characters, bytes, seconds and minutes, not for requests")]
    RequestTiers,
    /// More than 64 bits of billionths.
    #[error("the amount is too large")]
    Overflow,
    /// Two currencies have no sum.
    #[error("{0} and {1} cannot be added")]
    Mixed(Currency, Currency),
}

/// An amount: 10⁻⁹ of the unit, and the currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Money {
    /// Billionths of the currency's unit.
    pub nanos: i64,
    /// What they are billionths of.
    pub currency: Currency,
}

impl Money {
    /// Nothing.
    pub fn zero(currency: Currency) -> Self {
        Money { nanos: 0, currency }
    }

    /// The sum, where both are of one currency and it fits.
    pub fn plus(self, other: Money) -> Result<Money, MoneyError> {
        if self.currency != other.currency {
            return Err(MoneyError::Mixed(self.currency, other.currency));
        }
        let nanos = self.nanos.checked_add(other.nanos).ok_or(MoneyError::Overflow)?;
        Ok(Money { nanos, ..self })
    }

    /// The amount as a decimal with at least six places and no more than are needed.
    pub fn amount(&self) -> String {
        let sign = if self.nanos < 0 { "-" } else { "" };
        let (whole, rest) = (self.nanos.unsigned_abs() / NANOS as u64, self.nanos.unsigned_abs() % NANOS as u64);
        let digits = format!("{rest:09}");
        let kept = digits.trim_end_matches('0').len().max(6);
        format!("{sign}{whole}.{}", &digits[..kept])
    }

    /// Decimals that count for a reader: two, and beyond the cents as many as
    /// show two significant digits. 0.001250 has four, 1.500000 two.
    pub fn decimals(&self) -> usize {
        let digits = format!("{:09}", self.nanos.unsigned_abs() % NANOS as u64);
        let beyond = &digits[2..];
        match beyond.find(|digit| digit != '0') {
            None => 2,
            Some(first) => {
                // Zeros are left out only once it is rounded: 0.00208 is 0.0021, not 0.002.
                let shown = self.rounded(2 + (first + 2).min(beyond.len()));
                let digits = shown.rsplit_once('.').map_or("", |(_, digits)| digits);
                digits.trim_end_matches('0').len().max(2)
            }
        }
    }

    /// The amount with this many decimals (0 to 9), rounded half away from zero.
    pub fn rounded(&self, decimals: usize) -> String {
        let decimals = decimals.min(9);
        let step = 10_u64.pow(9 - decimals as u32);
        let units = (self.nanos.unsigned_abs() + step / 2) / step;
        let sign = if self.nanos < 0 && units > 0 { "-" } else { "" };
        let one = 10_u64.pow(decimals as u32);
        match decimals {
            0 => format!("{sign}{units}"),
            _ => format!("{sign}{}.{:0decimals$}", units / one, units % one),
        }
    }
}

impl fmt::Display for Money {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.amount(), self.currency)
    }
}

#[derive(Serialize, Deserialize)]
struct MoneyText {
    amount: String,
    currency: Currency,
}

impl Serialize for Money {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        MoneyText { amount: self.amount(), currency: self.currency }.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Money {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let written = MoneyText::deserialize(deserializer)?;
        let nanos = parse_nanos(&written.amount).map_err(serde::de::Error::custom)?;
        Ok(Money { nanos, currency: written.currency })
    }
}

/// Reads a decimal such as `0.000016` into 10⁻⁹ units, exactly.
pub(crate) fn parse_nanos(text: &str) -> Result<i64, MoneyError> {
    let wrong = || MoneyError::Amount(text.into());
    let (negative, digits) = text.strip_prefix('-').map_or((false, text), |rest| (true, rest));
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let all_digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    if whole.is_empty() || fraction.len() > 9 || !all_digits(whole) || !all_digits(fraction) {
        return Err(wrong());
    }
    let whole: i128 = whole.parse().map_err(|_| wrong())?;
    let fraction: i128 = format!("{fraction:0<9}").parse().map_err(|_| wrong())?;
    let nanos = whole.checked_mul(NANOS).and_then(|nanos| nanos.checked_add(fraction)).ok_or(MoneyError::Overflow)?;
    i64::try_from(if negative { -nanos } else { nanos }).map_err(|_| MoneyError::Overflow)
}

/// `nanos × units × factor ÷ 10⁹`, rounded half up, exactly.
pub(crate) fn scale(nanos: i64, units: u64, factor: i64) -> Result<i64, MoneyError> {
    let product = i128::from(nanos)
        .checked_mul(i128::from(units))
        .and_then(|product| product.checked_mul(i128::from(factor)))
        .ok_or(MoneyError::Overflow)?;
    i64::try_from((product + NANOS / 2).div_euclid(NANOS)).map_err(|_| MoneyError::Overflow)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reader_is_shown_the_digits_that_count() {
        let shown = |amount: &str| {
            let money = Money { nanos: parse_nanos(amount).expect("an amount"), currency: Currency::EUR };
            money.rounded(money.decimals())
        };
        for (amount, short) in [
            ("0.001250", "0.0013"),
            ("0.000800", "0.0008"),
            ("0.002080", "0.0021"),
            ("0.001999", "0.002"),
            ("0.056656", "0.0567"),
            ("0.4", "0.40"),
            ("12.345678", "12.3457"),
            ("0.000000001", "0.000000001"),
            ("0", "0.00"),
            ("1.999999", "2.00"),
            ("-0.001250", "-0.0013"),
        ] {
            assert_eq!(shown(amount), short, "{amount}");
        }
    }

    #[test]
    fn amounts_are_exact_both_ways() {
        for (text, nanos, written) in [
            ("0.000016", 16_000, "0.000016"),
            ("0.0000272", 27_200, "0.0000272"),
            ("12", 12_000_000_000, "12.000000"),
            ("-0.5", -500_000_000, "-0.500000"),
            ("0.000000001", 1, "0.000000001"),
        ] {
            assert_eq!(parse_nanos(text), Ok(nanos), "{text}");
            assert_eq!(Money { nanos, currency: Currency::EUR }.amount(), written);
        }
        for wrong in ["", ".5", "1e3", "0.0000000001", "1,5", "9999999999999999999999", "- 1"] {
            assert!(parse_nanos(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn scaling_rounds_half_up_and_refuses_overflow() {
        assert_eq!(scale(16_000, 50, 1_700_000_000), Ok(1_360_000));
        assert_eq!(scale(1, 1, 500_000_000), Ok(1));
        assert_eq!(scale(1, 1, 499_999_999), Ok(0));
        assert_eq!(scale(i64::MAX, u64::MAX, i64::MAX), Err(MoneyError::Overflow));
    }

    #[test]
    fn currencies_do_not_mix() {
        let pound: Currency = "GBP".parse().expect("a currency");
        let sum = Money::zero(Currency::EUR).plus(Money::zero(pound));
        assert_eq!(sum, Err(MoneyError::Mixed(Currency::EUR, pound)));
        assert!("eur".parse::<Currency>().is_err());
    }

    #[test]
    fn costs_add_up_in_each_currency_for_itself() {
        let pound: Currency = "GBP".parse().expect("a currency");
        let euros = |nanos| Money { nanos, currency: Currency::EUR };
        let pounds = |nanos| Money { nanos, currency: pound };
        let mut costs = Costs::from(euros(5));
        for money in [pounds(70), euros(20), pounds(-1)] {
            costs.add(money).expect("fits");
        }
        assert_eq!(costs.amounts(), [euros(25), pounds(69)]);
        assert_eq!((costs.of(Currency::EUR), costs.of(pound)), (euros(25), pounds(69)));
        let none: Currency = "SEK".parse().expect("a currency");
        assert_eq!(costs.of(none), Money::zero(none));
        assert_eq!(costs.add(euros(i64::MAX)), Err(MoneyError::Overflow));
        assert_eq!(costs.of(Currency::EUR), euros(25), "a sum that does not fit changes nothing");
        assert_eq!(Costs::default().amounts(), []);
    }

    #[test]
    fn sums_carry_signs_and_end_at_64_bits() {
        let euros = |nanos| Money { nanos, currency: Currency::EUR };
        assert_eq!(euros(2).plus(euros(-5)), Ok(euros(-3)));
        assert_eq!(euros(i64::MAX - 1).plus(euros(1)), Ok(euros(i64::MAX)));
        assert_eq!(euros(i64::MAX).plus(euros(1)), Err(MoneyError::Overflow));
        assert_eq!(euros(i64::MIN).amount(), "-9223372036.854775808");
        assert_eq!(parse_nanos("9223372036.854775807"), Ok(i64::MAX));
        assert_eq!(parse_nanos("9223372036.854775808"), Err(MoneyError::Overflow));
        assert_eq!(parse_nanos("-9223372036.854775808"), Ok(i64::MIN));
        assert_eq!(scale(-1, 1, 500_000_000), Ok(0), "half of a negative is rounded up, too");
        assert_eq!(scale(-3, 1, 500_000_000), Ok(-1));
        assert_eq!(scale(i64::MAX, 1, 1_000_000_000), Ok(i64::MAX));
        assert_eq!(scale(i64::MAX, 2, 1_000_000_000), Err(MoneyError::Overflow));
    }

    #[test]
    fn rounding_goes_away_from_zero_at_a_half_and_keeps_the_sign() {
        let money = |nanos| Money { nanos, currency: Currency::EUR };
        for (nanos, decimals, shown) in [
            (1_500_000_000, 0, "2"),
            (1_499_999_999, 0, "1"),
            (-1_500_000_000, 0, "-2"),
            (-499_999_999, 0, "0"),
            (1_050_000_000, 1, "1.1"),
            (1_234_567_891, 9, "1.234567891"),
            (1_234_567_891, 20, "1.234567891"),
            (50_000_000, 2, "0.05"),
        ] {
            assert_eq!(money(nanos).rounded(decimals), shown, "{nanos} to {decimals}");
        }
        assert_eq!(money(1).to_string(), "0.000000001 EUR");
    }

    #[test]
    fn json_is_as_documented() {
        let money = Money { nanos: 1_250_000, currency: Currency::EUR };
        let json = serde_json::to_string(&money).expect("serialises");
        assert_eq!(json, r#"{"amount":"0.001250","currency":"EUR"}"#);
        assert_eq!(serde_json::from_str::<Money>(&json).expect("reads"), money);
    }
}
