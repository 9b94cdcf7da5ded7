//! Say-as in words, for engines without it: cardinal, ordinal, characters,
//! date, time and telephone of the W3C note of 26 May 2005; currency, unit and
//! fraction of the trade. In English, Portuguese and French.

use std::borrow::Cow;

mod calendar;
mod measures;
mod numbers;

/// The languages whose words are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tongue {
    English,
    /// As the United States write and say dates.
    American,
    Portuguese,
    French,
}

impl Tongue {
    fn of(language: &str) -> Option<Tongue> {
        let (primary, rest) = language.as_bytes().split_first_chunk::<2>()?;
        let region = match rest {
            [] => rest,
            [b'-', region @ ..] => region,
            _ => return None,
        };
        let american = |region: &[u8]| {
            let (region, rest) = region.split_at(region.len().min(2));
            region.eq_ignore_ascii_case(b"us") && matches!(rest, [] | [b'-', ..])
        };
        match primary.map(|byte| byte.to_ascii_lowercase()) {
            [b'e', b'n'] if american(region) => Some(Tongue::American),
            [b'e', b'n'] => Some(Tongue::English),
            [b'p', b't'] => Some(Tongue::Portuguese),
            [b'f', b'r'] => Some(Tongue::French),
            _ => None,
        }
    }

    fn english(self) -> bool {
        matches!(self, Tongue::English | Tongue::American)
    }
}

/// The words for a text, as `interpret-as` asks; `None` where the kind, the
/// language or the text is none that is known, so that it is spoken plainly.
pub(crate) fn spoken(
    text: &str,
    kind: &str,
    format: Option<&str>,
    detail: Option<&str>,
    language: Option<&str>,
) -> Option<String> {
    let tongue = Tongue::of(language?)?;
    let text = text.trim();
    match kind {
        "cardinal" | "number" => numbers::cardinal(text, tongue),
        "ordinal" => numbers::ordinal(text, detail.or(format), tongue),
        "characters" | "spell-out" | "digits" => characters(text, tongue),
        "date" => calendar::date(text, format, tongue),
        "time" => calendar::time(text, format, tongue),
        "telephone" => telephone(text, tongue),
        "currency" => measures::currency(text, format.or(detail), tongue),
        "unit" | "measure" => measures::unit(text, tongue),
        "fraction" => measures::fraction(text, tongue),
        _ => None,
    }
}

/// A sign by its name.
fn sign(c: char, tongue: Tongue) -> Option<&'static str> {
    let names = match c {
        '-' | '–' => ["dash", "traço", "tiret"],
        '.' => ["dot", "ponto", "point"],
        ',' => ["comma", "vírgula", "virgule"],
        '/' => ["slash", "barra", "barre"],
        '@' => ["at", "arroba", "arobase"],
        '_' => ["underscore", "sublinhado", "tiret bas"],
        '+' => ["plus", "mais", "plus"],
        '#' => ["hash", "cardinal", "dièse"],
        '*' => ["star", "asterisco", "étoile"],
        '&' => ["and", "e", "et"],
        ':' => ["colon", "dois pontos", "deux-points"],
        _ => return None,
    };
    Some(match tongue {
        Tongue::English | Tongue::American => names[0],
        Tongue::Portuguese => names[1],
        Tongue::French => names[2],
    })
}

/// One character after the other: letters as they are, digits and signs by name.
fn characters(text: &str, tongue: Tongue) -> Option<String> {
    let said = text.chars().filter(|c| !c.is_whitespace()).map(|c| match c.to_digit(10) {
        Some(digit) => numbers::whole(u64::from(digit), tongue),
        None => sign(c, tongue).map_or_else(|| c.to_string().into(), Cow::Borrowed),
    });
    let said: Vec<_> = said.collect();
    (!said.is_empty()).then(|| said.join(" "))
}

/// Digit by digit, a pause between groups.
fn telephone(text: &str, tongue: Tongue) -> Option<String> {
    let allowed =
        |c: char| c.is_ascii_digit() || matches!(c, '+' | ' ' | '-' | '.' | '(' | ')' | '/' | '\u{a0}' | '#' | '*');
    if !text.chars().all(allowed) {
        return None;
    }
    let groups: Vec<String> = text
        .split(|c: char| !(c.is_ascii_digit() || matches!(c, '+' | '#' | '*')))
        .filter(|group| !group.is_empty())
        .map(|group| characters(group, tongue).unwrap_or_default())
        .collect();
    (!groups.is_empty()).then(|| groups.join(", "))
}

#[cfg(test)]
mod tests;
