//! Dates and times in words.

use std::borrow::Cow;

use super::Tongue;
use super::numbers::{feminine, nth, whole};

const ENGLISH: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
const PORTUGUESE: [&str; 12] = [
    "janeiro",
    "fevereiro",
    "março",
    "abril",
    "maio",
    "junho",
    "julho",
    "agosto",
    "setembro",
    "outubro",
    "novembro",
    "dezembro",
];
const FRENCH: [&str; 12] = [
    "janvier",
    "février",
    "mars",
    "avril",
    "mai",
    "juin",
    "juillet",
    "août",
    "septembre",
    "octobre",
    "novembre",
    "décembre",
];

fn month_name(month: u64, tongue: Tongue) -> Option<&'static str> {
    let names = match tongue {
        Tongue::Portuguese => &PORTUGUESE,
        Tongue::French => &FRENCH,
        _ => &ENGLISH,
    };
    names.get(usize::try_from(month).ok()?.checked_sub(1)?).copied()
}

fn month_of(text: &str) -> Option<u64> {
    if let Ok(number) = text.parse::<u64>() {
        return (1..=12).contains(&number).then_some(number);
    }
    let folded = text.to_lowercase();
    let found = |names: &[&str; 12]| {
        names.iter().position(|name| {
            let name = name.to_lowercase();
            name == folded || (folded.chars().count() >= 3 && name.starts_with(folded.trim_end_matches('.')))
        })
    };
    [&ENGLISH, &PORTUGUESE, &FRENCH].into_iter().find_map(found).map(|at| at as u64 + 1)
}

/// A year as it is said: in English by halves from 1100 to 1999 and from 2010.
fn year_in_words(year: u64, tongue: Tongue) -> String {
    if !tongue.english() || !((1100..2000).contains(&year) || (2010..2100).contains(&year)) {
        return whole(year, tongue).into_owned();
    }
    let (half, rest) = (year / 100, year % 100);
    match rest {
        0 => format!("{} hundred", whole(half, tongue)),
        1..=9 => format!("{} oh {}", whole(half, tongue), whole(rest, tongue)),
        _ => format!("{} {}", whole(half, tongue), whole(rest, tongue)),
    }
}

fn day_in_words(day: u64, tongue: Tongue) -> Option<String> {
    match tongue {
        Tongue::English | Tongue::American => nth(day, false, tongue),
        Tongue::French if day == 1 => Some("premier".into()),
        Tongue::Portuguese if day == 1 => Some("um".into()),
        _ => Some(whole(day, tongue).into_owned()),
    }
}

/// A date, its parts in the order of the format: `d`, `m`, `y` (W3C note,
/// section 3.1). Without one: ISO 8601, or as the language writes dates.
pub(super) fn date(text: &str, format: Option<&str>, tongue: Tongue) -> Option<String> {
    let parts: Vec<&str> =
        text.split(['-', '/', '.', ' ', ',']).filter(|part| !part.is_empty() && *part != "de").collect();
    let iso = parts.first().is_some_and(|first| first.len() == 4 && first.bytes().all(|b| b.is_ascii_digit()));
    let guess = match (parts.len(), iso, tongue) {
        (3, true, _) => "ymd",
        (2, true, _) => "ym",
        (3, false, Tongue::American) => "mdy",
        (3, false, _) => "dmy",
        (2, false, Tongue::American) => "md",
        (2, false, _) => "dm",
        _ => "y",
    };
    let format = format.unwrap_or(guess);
    if format.len() != parts.len() || !format.bytes().all(|b| matches!(b, b'd' | b'm' | b'y')) {
        return None;
    }
    let (mut day, mut month, mut year) = (None, None, None);
    for (kind, part) in format.bytes().zip(parts) {
        let digits = part.trim_end_matches(|c: char| c.is_alphabetic() || c == 'º');
        match kind {
            b'd' => day = Some(digits.parse::<u64>().ok().filter(|day| (1..=31).contains(day))?),
            b'm' => month = Some(month_of(part)?),
            _ => year = Some(part.parse::<u64>().ok().filter(|year| *year < 10_000)?),
        }
    }
    let day = match day {
        Some(day) => Some(day_in_words(day, tongue)?),
        None => None,
    };
    let month = match month {
        Some(month) => Some(month_name(month, tongue)?),
        None => None,
    };
    let year = year.map(|year| year_in_words(year, tongue));
    Some(assemble(day, month, year, tongue))
}

fn assemble(day: Option<String>, month: Option<&str>, year: Option<String>, tongue: Tongue) -> String {
    let date = match (day, month, tongue) {
        (Some(day), Some(month), Tongue::English) => format!("the {day} of {month}"),
        (Some(day), Some(month), Tongue::American) => format!("{month} {day}"),
        (Some(day), Some(month), Tongue::Portuguese) => format!("{day} de {month}"),
        (Some(day), Some(month), Tongue::French) => format!("{day} {month}"),
        (Some(day), None, Tongue::English | Tongue::American) => format!("the {day}"),
        (Some(day), None, Tongue::French) => format!("le {day}"),
        (Some(day), None, Tongue::Portuguese) => format!("dia {day}"),
        (None, month, _) => month.unwrap_or_default().to_owned(),
    };
    match (date.is_empty(), year, tongue) {
        (true, year, _) => year.unwrap_or_default(),
        (false, None, _) => date,
        (false, Some(year), Tongue::Portuguese) => format!("{date} de {year}"),
        (false, Some(year), Tongue::French) => format!("{date} {year}"),
        (false, Some(year), _) => format!("{date}, {year}"),
    }
}

/// A time without spaces, points and capitals, which most have none of.
fn folded(text: &str) -> Cow<'_, str> {
    if text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b':' | b'a'..=b'z')) {
        return Cow::Borrowed(text);
    }
    let written = text.chars().filter(|c| !matches!(c, '\u{a0}' | '.' | ' '));
    Cow::Owned(written.flat_map(char::to_lowercase).collect())
}

/// A time of day: `18:05`, `6:05pm`, `18h30`, `06:15:20`; `hms12` says it by
/// twelve hours, `hms24` by twenty-four.
pub(super) fn time(text: &str, format: Option<&str>, tongue: Tongue) -> Option<String> {
    let folded = folded(text);
    let (body, half) = match (folded.strip_suffix("pm"), folded.strip_suffix("am")) {
        (Some(body), _) => (body, Some(true)),
        (_, Some(body)) => (body, Some(false)),
        _ => (&*folded, None),
    };
    let mut numbers = [None; 3];
    for (at, part) in body.trim_end_matches(['h', 'm', 's']).split([':', 'h', 'm']).enumerate() {
        *numbers.get_mut(at)? = Some(part.parse::<u64>().ok().filter(|_| part.len() <= 2)?);
    }
    let (hour, minute, second) = (numbers[0]?, numbers[1].unwrap_or(0), numbers[2].filter(|second| *second > 0));
    let spoken_hour_is_wrong = half.is_some() && !(1..=12).contains(&hour);
    if hour > 24 || minute > 59 || second.is_some_and(|second| second > 59) || spoken_hour_is_wrong {
        return None;
    }
    let hour = match half {
        Some(true) if hour < 12 => hour + 12,
        Some(false) if hour == 12 => 0,
        _ => hour,
    };
    let twelve = format == Some("hms12") || (half.is_some() && format != Some("hms24"));
    Some(match tongue {
        Tongue::English | Tongue::American => english_time(hour, minute, second, twelve, tongue),
        Tongue::Portuguese => romance_time((hour, minute, second), tongue),
        Tongue::French => romance_time((hour, minute, second), tongue),
    })
}

fn english_time(hour: u64, minute: u64, second: Option<u64>, twelve: bool, tongue: Tongue) -> String {
    let shown = match (twelve, hour % 12) {
        (true, 0) => 12,
        (true, hour) => hour,
        (false, _) => hour,
    };
    let mut said = String::with_capacity(32);
    said += &whole(shown, tongue);
    match minute {
        0 if !twelve || second.is_some() => said += " o'clock",
        0 => {}
        _ => {
            said += if minute < 10 { " oh " } else { " " };
            said += &whole(minute, tongue);
        }
    }
    if let Some(second) = second {
        let plural = if second == 1 { "second" } else { "seconds" };
        said = format!("{said} and {} {plural}", whole(second, tongue));
    }
    match twelve {
        true if hour % 24 < 12 => format!("{said} a m"),
        true => format!("{said} p m"),
        false => said,
    }
}

fn romance_time((hour, minute, second): (u64, u64, Option<u64>), tongue: Tongue) -> String {
    let portuguese = tongue == Tongue::Portuguese;
    let count = |number: u64, one: &str, many: &str, word: String| {
        format!("{word} {}", if number == 1 || (number == 0 && !portuguese) { one } else { many })
    };
    let hours = if portuguese { ("hora", "horas") } else { ("heure", "heures") };
    let mut said = count(hour, hours.0, hours.1, feminine(hour, tongue));
    if minute > 0 {
        said = match portuguese {
            true => format!("{said} e {}", whole(minute, tongue)),
            false => format!("{said} {}", feminine(minute, tongue)),
        };
    }
    if let Some(second) = second {
        let (joint, unit) =
            if portuguese { (" e ", ("segundo", "segundos")) } else { (" et ", ("seconde", "secondes")) };
        let word = if portuguese { whole(second, tongue).into_owned() } else { feminine(second, tongue) };
        said = format!("{said}{joint}{}", count(second, unit.0, unit.1, word));
    }
    said
}
