//! Reading a statement: CSV (RFC 4180) by a mapping of its columns.

use serde::{Deserialize, Serialize};

use super::StatementLine;
use crate::{Currency, Money, MoneyError, is_day};

/// Lines of a statement.
const MOST_LINES: usize = 500_000;
/// Seconds between a call and its line, unless the mapping says otherwise.
const TOLERANCE: u32 = 120;
/// No clocks of one zone differ by more.
const LONGEST_TOLERANCE: i64 = 3_600;

/// Which columns of an engine's statements mean what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StatementMapping {
    /// Column of the time of a call, or of the day of a sum: RFC 3339, also
    /// without a zone, or `YYYY-MM-DD`.
    pub time: String,
    /// Column of the amount.
    pub amount: String,
    /// Column of the currency; `currency` where there is none.
    #[serde(default)]
    pub currency_column: Option<String>,
    /// Currency of all amounts.
    #[serde(default)]
    pub currency: Option<Currency>,
    /// Zone of times that name none: `+01:00` (default: UTC).
    #[serde(default)]
    pub zone: Option<String>,
    /// Separates the columns (default: a comma).
    #[serde(default)]
    pub delimiter: Option<char>,
    /// The decimal separator is a comma.
    #[serde(default)]
    pub decimal_comma: bool,
    /// Seconds by which a line and its call may differ (default: 120).
    #[serde(default)]
    pub tolerance: Option<u32>,
}

/// Why a statement or its mapping cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum StatementError {
    /// A column of the mapping is not there.
    #[error("the statement has no column '{wanted}'; it has: {}", .has.join(", "))]
    Column {
        /// The column.
        wanted: String,
        /// The columns of the head.
        has: Vec<String>,
    },
    /// A row that is not CSV.
    #[error("row {row}: {detail}")]
    Row {
        /// From 1, the head included.
        row: usize,
        /// What is wrong.
        detail: String,
    },
    /// No time.
    #[error("row {row}: '{text}' is not a time such as 2026-11-30T06:15:00Z, or a day")]
    Time {
        /// From 1, the head included.
        row: usize,
        /// The cell.
        text: String,
    },
    /// No amount.
    #[error("row {row}: {fault}")]
    Amount {
        /// From 1, the head included.
        row: usize,
        /// What is wrong.
        fault: MoneyError,
    },
    /// The mapping names no currency.
    #[error("the mapping names neither a currency nor its column")]
    NoCurrency,
    /// The zone of the mapping.
    #[error("'{0}' is not a zone such as +01:00")]
    Zone(String),
    /// The separator of the mapping.
    #[error("'{0}' cannot separate columns")]
    Delimiter(char),
    /// The tolerance of the mapping.
    #[error("a tolerance is 0 to {LONGEST_TOLERANCE} seconds, not {0}")]
    Tolerance(i64),
    /// Too many lines.
    #[error("the statement has more than {MOST_LINES} lines; split it by days")]
    Long,
    /// Days and times.
    #[error("row {row}: a statement has times or days, not both")]
    Mixed {
        /// From 1, the head included.
        row: usize,
    },
}

impl StatementMapping {
    /// A mapping of two columns, all amounts in one currency and all times in UTC.
    pub fn of(time: &str, amount: &str, currency: Currency) -> StatementMapping {
        StatementMapping {
            time: time.into(),
            amount: amount.into(),
            currency_column: None,
            currency: Some(currency),
            zone: None,
            delimiter: None,
            decimal_comma: false,
            tolerance: None,
        }
    }

    /// Seconds by which a line and its call may differ.
    pub fn tolerance(&self) -> i64 {
        i64::from(self.tolerance.unwrap_or(TOLERANCE))
    }

    /// Refuses what no statement could be read with.
    ///
    /// # Errors
    /// The first fault.
    pub fn check(&self) -> Result<(), StatementError> {
        self.zone()?;
        self.separator()?;
        if self.tolerance() > LONGEST_TOLERANCE {
            return Err(StatementError::Tolerance(self.tolerance()));
        }
        match self.currency.is_none() && self.currency_column.is_none() {
            true => Err(StatementError::NoCurrency),
            false => Ok(()),
        }
    }

    /// Seconds of the zone.
    fn zone(&self) -> Result<i64, StatementError> {
        let Some(zone) = &self.zone else { return Ok(0) };
        zone_of(zone).ok_or_else(|| StatementError::Zone(zone.clone()))
    }

    fn separator(&self) -> Result<u8, StatementError> {
        let delimiter = self.delimiter.unwrap_or(',');
        let usable = delimiter == '\t' || (delimiter.is_ascii_punctuation() && delimiter != '"');
        u8::try_from(delimiter).ok().filter(|_| usable).ok_or(StatementError::Delimiter(delimiter))
    }

    /// An amount as billionths, and billionths of its last digit.
    fn amount(&self, cell: &str) -> Result<(i64, i64), MoneyError> {
        let plain = match self.decimal_comma {
            true => cell.replace(['.', ' ', '\u{a0}'], "").replace(',', "."),
            false => cell.replace([',', ' ', '\u{a0}'], ""),
        };
        let (negative, digits) = match plain.strip_prefix('-') {
            Some(digits) => (true, digits),
            None => (false, plain.as_str()),
        };
        if digits.starts_with('-') {
            return Err(MoneyError::Amount(cell.to_owned()));
        }
        let nanos = crate::money::parse_nanos(digits).map_err(|_| MoneyError::Amount(cell.to_owned()))?;
        let decimals = digits.split_once('.').map_or(0, |(_, decimals)| decimals.len().min(9));
        Ok((if negative { -nanos } else { nanos }, 10_i64.pow(9 - decimals as u32)))
    }
}

/// Seconds of `+01:00` or `Z`.
fn zone_of(text: &str) -> Option<i64> {
    if text == "Z" || text == "z" {
        return Some(0);
    }
    let sign = match text.as_bytes().first()? {
        b'+' => 1,
        b'-' => -1,
        _ => return None,
    };
    let (hours, minutes) = text.get(1..)?.split_once(':')?;
    let number = |text: &str, most: i64| {
        let digits = text.len() == 2 && text.bytes().all(|byte| byte.is_ascii_digit());
        text.parse::<i64>().ok().filter(|number| digits && *number <= most)
    };
    Some(sign * (number(hours, 14)? * 3_600 + number(minutes, 59)? * 60))
}

/// Days since 1970 of a day of the calendar.
fn days_of(day: &str) -> Option<i64> {
    if !is_day(day) {
        return None;
    }
    let number = |range: std::ops::Range<usize>| day.get(range)?.parse::<i64>().ok();
    let (year, month, day) = (number(0..4)?, number(5..7)?, number(8..10)?);
    // Years begin in March, so that a leap day is their last.
    let year = if month <= 2 { year - 1 } else { year };
    let (era, month) = (year.div_euclid(400), (month + 9) % 12);
    let of_era = year - era * 400;
    let of_year = (153 * month + 2) / 5 + day - 1;
    Some(era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468)
}

/// Seconds since 1970, and whether it is a whole day.
fn time_of(text: &str, zone: i64) -> Option<(i64, bool)> {
    let days = days_of(text.get(..10)?)?;
    let rest = &text[10..];
    if rest.is_empty() {
        return Some((days * 86_400, true));
    }
    let clock = rest.strip_prefix(['T', 't', ' '])?;
    let end = clock.find(['Z', 'z', '+', '-']).unwrap_or(clock.len());
    let (clock, named) = clock.split_at(end);
    let mut parts = clock.trim().split(':');
    let mut part = |most: f64| parts.next()?.parse::<f64>().ok().filter(|part| (0.0..most).contains(part));
    let (hours, minutes) = (part(24.0)?, part(60.0)?);
    let seconds = parts.next().map_or(Some(0.0), |text| text.parse().ok().filter(|it| (0.0..61.0).contains(it)))?;
    let zone = if named.is_empty() { zone } else { zone_of(named)? };
    let of_day = hours * 3_600.0 + minutes * 60.0 + seconds;
    parts.next().is_none().then_some((days * 86_400 + of_day.floor() as i64 - zone, false))
}

/// Reads a statement. Rows without an amount are passed over.
///
/// # Errors
/// The first fault, at its row.
pub fn read_statement(text: &str, mapping: &StatementMapping) -> Result<Vec<StatementLine>, StatementError> {
    mapping.check()?;
    let zone = mapping.zone()?;
    let text = text.trim_start_matches('\u{feff}');
    let mut reader =
        csv::ReaderBuilder::new().delimiter(mapping.separator()?).trim(csv::Trim::All).from_reader(text.as_bytes());
    let fault = |row: usize| move |error: csv::Error| StatementError::Row { row, detail: error.to_string() };
    let head: Vec<String> = reader.headers().map_err(fault(1))?.iter().map(str::to_owned).collect();
    let column = |wanted: &str| {
        let missing = || StatementError::Column { wanted: wanted.to_owned(), has: head.clone() };
        head.iter().position(|name| name == wanted).ok_or_else(missing)
    };
    let (time, amount) = (column(&mapping.time)?, column(&mapping.amount)?);
    let currency = mapping.currency_column.as_deref().map(column).transpose()?;
    let mut lines: Vec<StatementLine> = Vec::new();
    for (number, record) in reader.records().enumerate() {
        let row = number + 2;
        let record = record.map_err(fault(row))?;
        let cell = |at: usize| record.get(at).unwrap_or_default();
        if cell(amount).is_empty() {
            continue;
        }
        if lines.len() >= MOST_LINES {
            return Err(StatementError::Long);
        }
        let wrong_time = || StatementError::Time { row, text: cell(time).to_owned() };
        let (at, whole_day) = time_of(cell(time), zone).ok_or_else(wrong_time)?;
        if lines.first().is_some_and(|first| first.whole_day != whole_day) {
            return Err(StatementError::Mixed { row });
        }
        let wrong_amount = |fault| StatementError::Amount { row, fault };
        let of_row = currency.map(|at| cell(at).parse::<Currency>()).transpose().map_err(wrong_amount)?;
        let currency = of_row.or(mapping.currency).ok_or(StatementError::NoCurrency)?;
        let (nanos, last_digit) = mapping.amount(cell(amount)).map_err(wrong_amount)?;
        lines.push(StatementLine { row, at, whole_day, amount: Money { nanos, currency }, last_digit });
    }
    Ok(lines)
}
