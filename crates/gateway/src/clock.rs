//! The one clock of the gateway.

use std::time::{SystemTime, UNIX_EPOCH};

use time::format_description::well_known::Rfc3339;

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

/// RFC 3339 in UTC of a time in microseconds.
pub fn rfc3339(micros: i64) -> String {
    let time = time::OffsetDateTime::from_unix_timestamp_nanos(i128::from(micros) * 1_000);
    time.ok().and_then(|time| time.format(&Rfc3339).ok()).unwrap_or_default()
}

/// The minute of the day in UTC of a time in microseconds.
pub(crate) fn minute_of_day(micros: i64) -> u16 {
    u16::try_from(micros.div_euclid(60_000_000).rem_euclid(24 * 60)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

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
