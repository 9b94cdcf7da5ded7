//! The one clock of the gateway.

use std::time::{SystemTime, UNIX_EPOCH};

use dispatcher_core::{AllowancePeriod, PeriodSpan};
use time::format_description::well_known::Rfc3339;

/// Microseconds of a day.
pub(crate) const MICROS_OF_DAY: i64 = 86_400_000_000;

/// Microseconds since 1970 in UTC.
pub fn now_micros() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
}

/// `YYYY-MM-DD` in UTC of a time in microseconds.
pub fn day_of(micros: i64) -> String {
    let date = time::OffsetDateTime::from_unix_timestamp(micros.div_euclid(1_000_000)).map(time::OffsetDateTime::date);
    let date = date.unwrap_or(time::Date::MIN);
    format!("{:04}-{:02}-{:02}", date.year(), u8::from(date.month()), date.day())
}

/// Midnight in UTC of a day `YYYY-MM-DD`, in microseconds; `None` if it is none.
pub fn micros_of_day(day: &str) -> Option<i64> {
    if !dispatcher_core::is_day(day) {
        return None;
    }
    let midnight = time::OffsetDateTime::parse(&format!("{day}T00:00:00Z"), &Rfc3339).ok()?;
    Some(midnight.unix_timestamp() * 1_000_000)
}

/// The day of now, as [`day_of`] writes it.
pub(crate) fn today() -> String {
    day_of(now_micros())
}

/// RFC 3339 in UTC of a time in microseconds.
pub fn rfc3339(micros: i64) -> String {
    let time = time::OffsetDateTime::from_unix_timestamp_nanos(i128::from(micros) * 1_000);
    time.ok().and_then(|time| time.format(&Rfc3339).ok()).unwrap_or_default()
}

/// The period of an allowance that contains a time in microseconds.
pub(crate) fn period_span(period: AllowancePeriod, micros: i64) -> PeriodSpan {
    let now = time::OffsetDateTime::from_unix_timestamp(micros.div_euclid(1_000_000));
    let today = now.map_or(time::Date::MIN, time::OffsetDateTime::date);
    let micros_of = |date: time::Date| date.midnight().assume_utc().unix_timestamp() * 1_000_000;
    let days = |date: time::Date, days: i64| date.saturating_add(time::Duration::days(days));
    let (start, end) = match period {
        AllowancePeriod::Total => return PeriodSpan { start: 0, end: None },
        AllowancePeriod::Day => (today, days(today, 1)),
        AllowancePeriod::Week => {
            let monday = days(today, -i64::from(today.weekday().number_days_from_monday()));
            (monday, days(monday, 7))
        }
        AllowancePeriod::Month => {
            let first = today.replace_day(1).unwrap_or(today);
            let length = i64::from(first.month().length(first.year()));
            (first, days(first, length))
        }
    };
    PeriodSpan { start: micros_of(start), end: Some(micros_of(end)) }
}

/// The minute of the day in UTC of a time in microseconds.
pub(crate) fn minute_of_day(micros: i64) -> u16 {
    u16::try_from(micros.div_euclid(60_000_000).rem_euclid(24 * 60)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn periods_begin_at_midnight_on_monday_and_on_the_first() {
        // Thursday, 26 November 2026, 12:00.
        let noon = 1_795_694_400_000_000;
        let span = |period| {
            let span = period_span(period, noon);
            (day_of(span.start), span.end.map(day_of))
        };
        assert_eq!(span(AllowancePeriod::Day), ("2026-11-26".into(), Some("2026-11-27".into())));
        assert_eq!(span(AllowancePeriod::Week), ("2026-11-23".into(), Some("2026-11-30".into())));
        assert_eq!(span(AllowancePeriod::Month), ("2026-11-01".into(), Some("2026-12-01".into())));
        assert_eq!(span(AllowancePeriod::Total), ("1970-01-01".into(), None));
        let leap = period_span(AllowancePeriod::Month, 1_835_000_000_000_000);
        assert_eq!((day_of(leap.start), leap.end.map(day_of)), ("2028-02-01".into(), Some("2028-03-01".into())));
        assert_eq!(period_span(AllowancePeriod::Day, 0), PeriodSpan { start: 0, end: Some(86_400_000_000) });
    }

    #[test]
    fn days_turn_at_midnight_in_utc() {
        assert_eq!(day_of(1_795_651_199_999_999), "2026-11-25");
        assert_eq!(day_of(1_795_651_200_000_000), "2026-11-26");
        assert_eq!(day_of(-1), "1969-12-31");
        assert_eq!(rfc3339(1_795_651_200_000_000), "2026-11-26T00:00:00Z");
        assert_eq!(rfc3339(1_795_651_200_250_000), "2026-11-26T00:00:00.25Z");
        assert_eq!(minute_of_day(1_795_651_199_999_999), 24 * 60 - 1);
        assert_eq!((minute_of_day(1_795_651_200_000_000), minute_of_day(-1)), (0, 24 * 60 - 1));
    }
}
