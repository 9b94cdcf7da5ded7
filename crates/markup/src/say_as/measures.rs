//! Money, units and fractions in words.

use super::Tongue;
use super::numbers::{cardinal, feminine, nth, read, whole};

/// A currency: code, signs, and its names by language: one and many, of the
/// whole and of the hundredth.
struct Currency {
    code: &'static str,
    signs: &'static [&'static str],
    english: [&'static str; 4],
    portuguese: [&'static str; 4],
    french: [&'static str; 4],
}

const CURRENCIES: &[Currency] = &[
    Currency {
        code: "EUR",
        signs: &["€"],
        english: ["euro", "euros", "cent", "cents"],
        portuguese: ["euro", "euros", "cêntimo", "cêntimos"],
        french: ["euro", "euros", "centime", "centimes"],
    },
    Currency {
        code: "GBP",
        signs: &["£"],
        english: ["pound", "pounds", "penny", "pence"],
        portuguese: ["libra", "libras", "péni", "pence"],
        french: ["livre", "livres", "penny", "pence"],
    },
    Currency {
        code: "USD",
        signs: &["US$", "$"],
        english: ["dollar", "dollars", "cent", "cents"],
        portuguese: ["dólar", "dólares", "cêntimo", "cêntimos"],
        french: ["dollar", "dollars", "cent", "cents"],
    },
    Currency {
        code: "BRL",
        signs: &["R$"],
        english: ["real", "reais", "centavo", "centavos"],
        portuguese: ["real", "reais", "centavo", "centavos"],
        french: ["réal", "réaux", "centavo", "centavos"],
    },
    Currency {
        code: "JPY",
        signs: &["¥", "円"],
        english: ["yen", "yen", "sen", "sen"],
        portuguese: ["iene", "ienes", "sen", "sen"],
        french: ["yen", "yens", "sen", "sen"],
    },
];

impl Currency {
    fn names(&self, tongue: Tongue) -> &[&'static str; 4] {
        match tongue {
            Tongue::Portuguese => &self.portuguese,
            Tongue::French => &self.french,
            _ => &self.english,
        }
    }

    /// What is left of a text once the currency is taken off it.
    fn strip<'t>(&self, text: &'t str) -> Option<&'t str> {
        let marks = [&[self.code], self.signs].concat();
        marks.iter().find_map(|mark| text.strip_prefix(mark).or_else(|| text.strip_suffix(mark)).map(str::trim))
    }
}

/// "uma libra", "une livre": the word for one agrees with what is counted.
fn counted(number: u64, noun: &str, tongue: Tongue) -> String {
    let agrees = match tongue {
        Tongue::Portuguese => noun.ends_with('a') || noun.ends_with("as"),
        Tongue::French => matches!(
            noun,
            "livre"
                | "livres"
                | "tonne"
                | "tonnes"
                | "heure"
                | "heures"
                | "minute"
                | "minutes"
                | "seconde"
                | "secondes"
        ),
        _ => false,
    };
    let said = if agrees { feminine(number, tongue) } else { whole(number, tongue).into_owned() };
    // "um milhão de euros", "un million d'euros".
    let million = said.ends_with("lhão")
        || said.ends_with("lhões")
        || said.ends_with("million") && tongue == Tongue::French
        || said.ends_with("millions") && tongue == Tongue::French;
    match (million, tongue) {
        (true, Tongue::Portuguese) => format!("{said} de {noun}"),
        (true, Tongue::French) if noun.starts_with(['a', 'e', 'i', 'o', 'u']) => format!("{said} d'{noun}"),
        (true, Tongue::French) => format!("{said} de {noun}"),
        _ => format!("{said} {noun}"),
    }
}

/// An amount of money: `€12.50`, `12,50 EUR`, `£3`; the format may name the
/// currency (ISO 4217).
pub(super) fn currency(text: &str, format: Option<&str>, tongue: Tongue) -> Option<String> {
    let stripped = CURRENCIES.iter().find_map(|currency| Some((currency, currency.strip(text)?)));
    let named =
        || CURRENCIES.iter().find(|c| format.is_some_and(|f| c.code.eq_ignore_ascii_case(f))).map(|c| (c, text));
    let (currency, amount) = stripped.or_else(named)?;
    let (negative, number, behind) = read(amount, tongue)?;
    let hundredths: u64 = match behind.len() {
        0 => 0,
        1 => behind.parse::<u64>().ok()? * 10,
        2 => behind.parse().ok()?,
        _ => return None,
    };
    let names = currency.names(tongue);
    let name = |count: u64, one: usize| {
        if count == 1 || (count == 0 && tongue == Tongue::French) { names[one] } else { names[one + 1] }
    };
    let and = match tongue {
        Tongue::Portuguese => "e",
        Tongue::French => "et",
        _ => "and",
    };
    let small = counted(hundredths, name(hundredths, 2), tongue);
    let said = match (number, hundredths) {
        (_, 0) => counted(number, name(number, 0), tongue),
        (0, _) => small,
        _ => format!("{} {and} {small}", counted(number, name(number, 0), tongue)),
    };
    let minus = match tongue {
        Tongue::Portuguese => "menos ",
        Tongue::French => "moins ",
        _ => "minus ",
    };
    Some(if negative { format!("{minus}{said}") } else { said })
}

/// Unit, and its names: one and many in English, Portuguese, French.
const UNITS: &[(&str, [&str; 6])] = &[
    (
        "km/h",
        [
            "kilometre an hour",
            "kilometres an hour",
            "quilómetro por hora",
            "quilómetros por hora",
            "kilomètre par heure",
            "kilomètres par heure",
        ],
    ),
    (
        "m/s",
        [
            "metre a second",
            "metres a second",
            "metro por segundo",
            "metros por segundo",
            "mètre par seconde",
            "mètres par seconde",
        ],
    ),
    ("km", ["kilometre", "kilometres", "quilómetro", "quilómetros", "kilomètre", "kilomètres"]),
    ("cm", ["centimetre", "centimetres", "centímetro", "centímetros", "centimètre", "centimètres"]),
    ("mm", ["millimetre", "millimetres", "milímetro", "milímetros", "millimètre", "millimètres"]),
    ("kn", ["knot", "knots", "nó", "nós", "nœud", "nœuds"]),
    ("nmi", ["nautical mile", "nautical miles", "milha náutica", "milhas náuticas", "mille pellin", "milles marins"]),
    ("mi", ["mile", "miles", "milha", "milhas", "mille", "milles"]),
    ("ft", ["foot", "feet", "pé", "pés", "pied", "pieds"]),
    ("kg", ["kilogram", "kilograms", "quilograma", "quilogramas", "kilogramme", "kilogrammes"]),
    ("g", ["gram", "grams", "grama", "gramas", "gramme", "grammes"]),
    ("ml", ["millilitre", "millilitres", "mililitro", "mililitros", "millilitre", "millilitres"]),
    ("l", ["litre", "litres", "litro", "litros", "litre", "litres"]),
    ("hPa", ["hectopascal", "hectopascals", "hectopascal", "hectopascais", "hectopascal", "hectopascals"]),
    ("kW", ["kilowatt", "kilowatts", "quilowatt", "quilowatts", "kilowatt", "kilowatts"]),
    ("kHz", ["kilohertz", "kilohertz", "quilohertz", "quilohertz", "kilohertz", "kilohertz"]),
    ("Hz", ["hertz", "hertz", "hertz", "hertz", "hertz", "hertz"]),
    ("°C", ["degree Celsius", "degrees Celsius", "grau Celsius", "graus Celsius", "degré Celsius", "degrés Celsius"]),
    (
        "°F",
        [
            "degree Fahrenheit",
            "degrees Fahrenheit",
            "grau Fahrenheit",
            "graus Fahrenheit",
            "degré Fahrenheit",
            "degrés Fahrenheit",
        ],
    ),
    ("°", ["degree", "degrees", "grau", "graus", "degré", "degrés"]),
    ("%", ["percent", "percent", "por cento", "por cento", "pour cent", "pour cent"]),
    ("min", ["minute", "minutes", "minuto", "minutos", "minute", "minutes"]),
    ("h", ["hour", "hours", "hora", "horas", "heure", "heures"]),
    ("s", ["second", "seconds", "segundo", "segundos", "seconde", "secondes"]),
    ("m", ["metre", "metres", "metro", "metros", "mètre", "mètres"]),
    ("t", ["tonne", "tonnes", "tonelada", "toneladas", "tonne", "tonnes"]),
];

/// A number with its unit: `12 kn`, `3.5km`, `20 °C`.
pub(super) fn unit(text: &str, tongue: Tongue) -> Option<String> {
    let end = text.find(|c: char| c.is_alphabetic() || matches!(c, '°' | '%'))?;
    let (amount, symbol) = text.split_at(end);
    let amount = amount.trim();
    let (_, names) = UNITS.iter().find(|(known, _)| *known == symbol.trim())?;
    let (negative, number, behind) = read(amount, tongue)?;
    let first = match tongue {
        Tongue::Portuguese => 2,
        Tongue::French => 4,
        _ => 0,
    };
    let idle = behind.bytes().all(|b| b == b'0');
    // In French up to two, in Portuguese below two, the unit stays single.
    let one = match tongue {
        Tongue::French => number < 2,
        Tongue::Portuguese => number == 1 || (number == 0 && !idle),
        _ => number == 1 && behind.is_empty(),
    };
    let noun = names[first + usize::from(!one)];
    if behind.is_empty() && !negative {
        return Some(counted(number, noun, tongue));
    }
    Some(format!("{} {noun}", cardinal(amount, tongue)?))
}

fn part(denominator: u64, many: bool, tongue: Tongue) -> Option<String> {
    let word = match (tongue, denominator) {
        (_, 0 | 1) => return None,
        (Tongue::English | Tongue::American, 2) => if many { "halves" } else { "half" }.to_owned(),
        (Tongue::English | Tongue::American, 4) => if many { "quarters" } else { "quarter" }.to_owned(),
        (Tongue::Portuguese, 2) => if many { "meios" } else { "meio" }.to_owned(),
        (Tongue::Portuguese, 3) => if many { "terços" } else { "terço" }.to_owned(),
        (Tongue::Portuguese, 4..=10) => {
            let ordinal = nth(denominator, false, tongue)?;
            if many { format!("{ordinal}s") } else { ordinal }
        }
        (Tongue::Portuguese, 100) => if many { "centésimos" } else { "centésimo" }.to_owned(),
        (Tongue::Portuguese, other) => format!("{} avos", whole(other, tongue)),
        (Tongue::French, 2) => if many { "demis" } else { "demi" }.to_owned(),
        (Tongue::French, 3) => "tiers".into(),
        (Tongue::French, 4) => if many { "quarts" } else { "quart" }.to_owned(),
        (_, other) => {
            let ordinal = nth(other, false, tongue)?;
            if many { format!("{ordinal}s") } else { ordinal }
        }
    };
    Some(word)
}

/// A fraction: `3/4`, `1 1/2`, `½`.
pub(super) fn fraction(text: &str, tongue: Tongue) -> Option<String> {
    let written = text.replace('½', " 1/2").replace('¼', " 1/4").replace('¾', " 3/4").replace('⁄', "/");
    let (head, below) = written.trim().split_once('/')?;
    let below: u64 = below.trim().parse().ok().filter(|below| *below < 1_000_000)?;
    let (full, above) = match head.trim().rsplit_once([' ', '+']) {
        Some((full, above)) => (Some(full.trim()), above),
        None => (None, head.trim()),
    };
    let above: u64 = above.parse().ok().filter(|above| *above < 1_000_000)?;
    let many = match tongue {
        Tongue::French => above >= 2,
        _ => above != 1,
    };
    let said = format!("{} {}", whole(above, tongue), part(below, many, tongue)?);
    match full {
        None => Some(said),
        Some(full) => {
            let and = match tongue {
                Tongue::Portuguese => "e",
                Tongue::French => "et",
                _ => "and",
            };
            Some(format!("{} {and} {said}", cardinal(full, tongue)?))
        }
    }
}
