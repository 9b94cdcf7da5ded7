//! Numbers in words.

use std::borrow::Cow;

use super::Tongue;

const ENGLISH: [&str; 20] = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
];
const ENGLISH_TENS: [&str; 10] = ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];
const PORTUGUESE: [&str; 20] = [
    "zero",
    "um",
    "dois",
    "três",
    "quatro",
    "cinco",
    "seis",
    "sete",
    "oito",
    "nove",
    "dez",
    "onze",
    "doze",
    "treze",
    "catorze",
    "quinze",
    "dezasseis",
    "dezassete",
    "dezoito",
    "dezanove",
];
const PORTUGUESE_TENS: [&str; 10] =
    ["", "", "vinte", "trinta", "quarenta", "cinquenta", "sessenta", "setenta", "oitenta", "noventa"];
const PORTUGUESE_HUNDREDS: [&str; 10] = [
    "",
    "cento",
    "duzentos",
    "trezentos",
    "quatrocentos",
    "quinhentos",
    "seiscentos",
    "setecentos",
    "oitocentos",
    "novecentos",
];
const FRENCH: [&str; 20] = [
    "zéro", "un", "deux", "trois", "quatre", "cinq", "six", "sept", "huit", "neuf", "dix", "onze", "douze", "treize",
    "quatorze", "quinze", "seize", "dix-sept", "dix-huit", "dix-neuf",
];
const FRENCH_TENS: [&str; 7] = ["", "", "vingt", "trente", "quarante", "cinquante", "soixante"];

/// The largest number that is put into words, and one more.
const LIMIT: u64 = 1_000_000_000_000;

/// A whole number below 10¹².
pub(super) fn whole(number: u64, tongue: Tongue) -> Cow<'static, str> {
    match tongue {
        Tongue::English | Tongue::American => english(number, tongue),
        Tongue::Portuguese => portuguese(number).into(),
        Tongue::French => french(number, true).into(),
    }
}

/// Likewise, of what is feminine, as "uma hora" and "une heure" are.
pub(super) fn feminine(number: u64, tongue: Tongue) -> String {
    let said = whole(number, tongue);
    let ending = match tongue {
        Tongue::Portuguese => [("um", "uma"), ("dois", "duas")].as_slice(),
        Tongue::French => &[("un", "une")],
        Tongue::English | Tongue::American => &[],
    };
    let changed = ending.iter().find_map(|(of_man, of_woman)| Some(said.strip_suffix(of_man)?.to_owned() + of_woman));
    changed.unwrap_or_else(|| said.into_owned())
}

fn english(number: u64, tongue: Tongue) -> Cow<'static, str> {
    let and = if tongue == Tongue::American { " " } else { " and " };
    let index = usize::try_from(number).unwrap_or(usize::MAX);
    match number {
        0..=19 => ENGLISH[index].into(),
        20..=99 => match number % 10 {
            0 => ENGLISH_TENS[index / 10].into(),
            one => format!("{}-{}", ENGLISH_TENS[index / 10], ENGLISH[usize::try_from(one).unwrap_or(0)]).into(),
        },
        100..=999 => match number % 100 {
            0 => format!("{} hundred", ENGLISH[index / 100]).into(),
            rest => format!("{} hundred{and}{}", ENGLISH[index / 100], english(rest, tongue)).into(),
        },
        _ => {
            let (size, name) = match number {
                ..1_000_000 => (1_000, "thousand"),
                1_000_000..1_000_000_000 => (1_000_000, "million"),
                _ => (1_000_000_000, "billion"),
            };
            let head = format!("{} {name}", english(number / size, tongue));
            match number % size {
                0 => head.into(),
                rest @ 1..=99 => format!("{head}{and}{}", english(rest, tongue)).into(),
                rest => format!("{head} {}", english(rest, tongue)).into(),
            }
        }
    }
}

fn portuguese(number: u64) -> String {
    let index = usize::try_from(number).unwrap_or(usize::MAX);
    match number {
        0..=19 => PORTUGUESE[index].into(),
        20..=99 => match index % 10 {
            0 => PORTUGUESE_TENS[index / 10].into(),
            one => format!("{} e {}", PORTUGUESE_TENS[index / 10], PORTUGUESE[one]),
        },
        100 => "cem".into(),
        101..=999 => match number % 100 {
            0 => PORTUGUESE_HUNDREDS[index / 100].into(),
            rest => format!("{} e {}", PORTUGUESE_HUNDREDS[index / 100], portuguese(rest)),
        },
        _ => {
            let (size, one, many) = match number {
                ..1_000_000 => (1_000, "mil", "mil"),
                1_000_000..1_000_000_000 => (1_000_000, "um milhão", "milhões"),
                _ => (1_000_000_000, "mil milhões", "mil milhões"),
            };
            let head = match number / size {
                1 => one.to_owned(),
                count => format!("{} {many}", portuguese(count)),
            };
            match number % size {
                0 => head,
                // "e" joins what is below a hundred or whole hundreds.
                rest if rest < 100 || (rest < 1_000 && rest % 100 == 0) => format!("{head} e {}", portuguese(rest)),
                rest => format!("{head} {}", portuguese(rest)),
            }
        }
    }
}

/// `last`: nothing of the number follows, so that plural marks stand.
fn french(number: u64, last: bool) -> String {
    let index = usize::try_from(number).unwrap_or(usize::MAX);
    match number {
        0..=19 => FRENCH[index].into(),
        20..=69 => match index % 10 {
            0 => FRENCH_TENS[index / 10].into(),
            1 => format!("{} et un", FRENCH_TENS[index / 10]),
            one => format!("{}-{}", FRENCH_TENS[index / 10], FRENCH[one]),
        },
        71 => "soixante et onze".into(),
        70..=79 => format!("soixante-{}", FRENCH[index - 60]),
        80 => if last { "quatre-vingts" } else { "quatre-vingt" }.into(),
        81..=99 => format!("quatre-vingt-{}", FRENCH[index - 80]),
        100..=999 => {
            let head = match index / 100 {
                1 => "cent".to_owned(),
                count => format!("{} cent", FRENCH[count]),
            };
            match number % 100 {
                0 if index / 100 > 1 && last => format!("{head}s"),
                0 => head,
                rest => format!("{head} {}", french(rest, last)),
            }
        }
        _ => {
            let (size, name) = match number {
                ..1_000_000 => (1_000, "mille"),
                1_000_000..1_000_000_000 => (1_000_000, "million"),
                _ => (1_000_000_000, "milliard"),
            };
            let count = number / size;
            let head = match (size, count) {
                (1_000, 1) => "mille".to_owned(),
                (1_000, _) => format!("{} mille", french(count, false)),
                (_, 1) => format!("un {name}"),
                _ => format!("{} {name}s", french(count, true)),
            };
            match number % size {
                0 => head,
                rest => format!("{head} {}", french(rest, last)),
            }
        }
    }
}

/// A number as it is written in a language: grouped or not, with decimals.
/// Gives its sign, whole part, and digits behind the point.
pub(super) fn read(text: &str, tongue: Tongue) -> Option<(bool, u64, String)> {
    let (negative, body) = match text.strip_prefix(['-', '−']) {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let body: String = body.chars().filter(|c| !matches!(c, ' ' | '\u{a0}' | '\u{202f}' | '\'')).collect();
    let (group, point) = if tongue.english() { (',', '.') } else { ('.', ',') };
    // The other point is taken where it can only be one: 3.5 in Portuguese.
    let other = body.matches(group).count() == 1
        && !body.contains(point)
        && body.rsplit(group).next().is_some_and(|behind| behind.len() != 3);
    let point = if other { group } else { point };
    let (whole, behind) = body.split_once(point).unwrap_or((&body, ""));
    let grouped: Vec<&str> = whole.split(group).collect();
    let well_grouped = grouped.len() == 1 || other || grouped.iter().skip(1).all(|part| part.len() == 3);
    let digits: String = grouped.concat();
    let plain = |text: &str| text.bytes().all(|b| b.is_ascii_digit());
    if digits.is_empty() || !plain(&digits) || !plain(behind) || !well_grouped || behind.len() > 12 {
        return None;
    }
    let number: u64 = digits.parse().ok().filter(|number| *number < LIMIT)?;
    Some((negative, number, behind.to_owned()))
}

/// A number with sign and decimals.
pub(super) fn cardinal(text: &str, tongue: Tongue) -> Option<String> {
    let (negative, number, behind) = read(text, tongue)?;
    let minus = match tongue {
        Tongue::Portuguese => "menos",
        Tongue::French => "moins",
        _ => "minus",
    };
    let point = match tongue {
        Tongue::Portuguese | Tongue::French => {
            if tongue == Tongue::French {
                "virgule"
            } else {
                "vírgula"
            }
        }
        _ => "point",
    };
    let mut said = whole(number, tongue).into_owned();
    if !behind.is_empty() {
        let digits: Vec<_> = behind.bytes().map(|digit| whole(u64::from(digit - b'0'), tongue)).collect();
        said = format!("{said} {point} {}", digits.join(" "));
    }
    Some(if negative { format!("{minus} {said}") } else { said })
}

const PORTUGUESE_ORDINALS: [&str; 10] =
    ["", "primeiro", "segundo", "terceiro", "quarto", "quinto", "sexto", "sétimo", "oitavo", "nono"];
const PORTUGUESE_TENTHS: [&str; 10] = [
    "",
    "décimo",
    "vigésimo",
    "trigésimo",
    "quadragésimo",
    "quinquagésimo",
    "sexagésimo",
    "septuagésimo",
    "octogésimo",
    "nonagésimo",
];
const PORTUGUESE_HUNDREDTHS: [&str; 10] = [
    "",
    "centésimo",
    "ducentésimo",
    "tricentésimo",
    "quadringentésimo",
    "quingentésimo",
    "sexcentésimo",
    "septingentésimo",
    "octingentésimo",
    "nongentésimo",
];

/// The ordinal of a whole number: 1 and up, below 1000 in Portuguese.
pub(super) fn nth(number: u64, feminine: bool, tongue: Tongue) -> Option<String> {
    match tongue {
        Tongue::English | Tongue::American => {
            let said = english(number, tongue);
            let at = said.rfind([' ', '-']).map_or(0, |at| at + 1);
            let (head, last) = said.split_at(at);
            let last = match last {
                "one" => "first".to_owned(),
                "two" => "second".into(),
                "three" => "third".into(),
                "five" => "fifth".into(),
                "eight" => "eighth".into(),
                "nine" => "ninth".into(),
                "twelve" => "twelfth".into(),
                other => match other.strip_suffix('y') {
                    Some(stem) => format!("{stem}ieth"),
                    None => format!("{other}th"),
                },
            };
            Some(format!("{head}{last}"))
        }
        Tongue::Portuguese => {
            let number = usize::try_from(number).ok().filter(|number| (1..1_000).contains(number))?;
            let parts = [
                PORTUGUESE_HUNDREDTHS[number / 100],
                PORTUGUESE_TENTHS[number / 10 % 10],
                PORTUGUESE_ORDINALS[number % 10],
            ];
            let gendered = |part: &&str| match (feminine, part.strip_suffix('o')) {
                (true, Some(stem)) => format!("{stem}a"),
                _ => (*part).to_owned(),
            };
            let said: Vec<String> = parts.iter().filter(|part| !part.is_empty()).map(gendered).collect();
            Some(said.join(" "))
        }
        Tongue::French if number == 1 => Some(if feminine { "première" } else { "premier" }.into()),
        Tongue::French => {
            let said = french(number, false);
            let stem = match said.as_str() {
                stem if stem.ends_with("cinq") => format!("{stem}u"),
                stem if stem.ends_with("neuf") => format!("{}v", &stem[..stem.len() - 1]),
                stem => stem.trim_end_matches('e').to_owned(),
            };
            Some(format!("{stem}ième"))
        }
    }
}

/// An ordinal as it is written: `3`, `3rd`, `3.º`, `3.ª`, `3e`, `1re`.
pub(super) fn ordinal(text: &str, gender: Option<&str>, tongue: Tongue) -> Option<String> {
    let end = text.find(|c: char| !c.is_ascii_digit() && !matches!(c, ',' | ' ')).unwrap_or(text.len());
    let (digits, mark) = text.split_at(end);
    let mark = mark.trim_start_matches('.').trim();
    let known = ["", "st", "nd", "rd", "th", "º", "ª", "o", "a", "e", "er", "re", "ère", "ème", "nde"];
    if !known.contains(&mark) {
        return None;
    }
    let feminine = matches!(mark, "ª" | "a" | "re" | "ère" | "nde") || gender.is_some_and(|g| g.starts_with('f'));
    let (_, number, _) = read(digits.trim(), Tongue::English)?;
    (number > 0).then(|| nth(number, feminine, tongue)).flatten()
}
