//! Taking secrets out of text: the one place where it is done.
//!
//! An engine that repeats a secret may escape it, encode it, change its case
//! or wrap it over lines. So the text is decoded layer by layer ([`view`]),
//! each layer is searched, and what is found is blanked in the source.

mod view;

use std::ops::Range;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use zeroize::Zeroizing;

use view::View;

/// Replacement of a secret.
pub const REDACTED: &str = "[redacted]";

/// Shorter secrets would blank out ordinary words.
const SHORTEST: usize = 4;
/// Encodings within one another that are undone.
const LAYERS: usize = 4;

/// Knows some secrets in the forms in which they could come back. All forms
/// are in lower case and without white space, as the views are searched.
#[derive(Default)]
pub struct Redactor {
    /// The secrets, and what all base64 texts of each have in common.
    plain: Vec<Zeroizing<String>>,
    /// The secrets without `+`, which means a space in forms.
    spaced: Vec<Zeroizing<String>>,
    /// Their bytes in hexadecimal.
    hexadecimal: Vec<Zeroizing<String>>,
}

impl Redactor {
    /// A redactor for the secrets.
    pub fn new<'a>(secrets: impl IntoIterator<Item = &'a str>) -> Self {
        let mut redactor = Redactor::default();
        for secret in secrets.into_iter().filter(|secret| secret.len() >= SHORTEST) {
            redactor.add(secret);
        }
        redactor
    }

    fn add(&mut self, secret: &str) {
        let keep = |forms: &mut Vec<Zeroizing<String>>, form: String| {
            if form.chars().count() >= SHORTEST {
                forms.push(Zeroizing::new(form));
            }
        };
        keep(&mut self.plain, view::fold(secret));
        for core in base64_cores(secret.as_bytes()) {
            keep(&mut self.plain, view::fold(&core));
        }
        if secret.contains(char::is_whitespace) {
            keep(&mut self.spaced, view::fold(secret).replace('+', ""));
        }
        keep(&mut self.hexadecimal, secret.bytes().map(|byte| format!("{byte:02x}")).collect());
    }

    /// The text without any of the secrets.
    pub fn redact(&self, text: &str) -> String {
        let mut found = Vec::new();
        let mut view = View::of(text);
        found.extend(self.search(&view.quoted_printable()));
        for _ in 0..LAYERS {
            found.extend(self.search(&view));
            match view.decoded() {
                Some(decoded) => view = decoded,
                None => break,
            }
        }
        blank(text, found)
    }

    /// Where the secrets stand in the source of a view.
    fn search(&self, view: &View) -> Vec<Range<usize>> {
        let mut found = Vec::new();
        view.find(&self.plain, |c| c.is_whitespace(), &mut found);
        view.find(&self.spaced, |c| c.is_whitespace() || c == '+', &mut found);
        // Dumps of bytes have marks between them.
        view.find(&self.hexadecimal, |c| !c.is_ascii_hexdigit() && !c.is_alphabetic(), &mut found);
        found
    }
}

/// Blanks stretches of a text; those that touch become one.
fn blank(text: &str, mut found: Vec<Range<usize>>) -> String {
    found.sort_by_key(|range| range.start);
    let mut out = String::with_capacity(text.len());
    let mut at = 0;
    for range in found {
        if range.end <= at {
            continue;
        }
        if range.start >= at && (range.start > at || at == 0) {
            out.push_str(&text[at..range.start]);
            out.push_str(REDACTED);
        }
        at = range.end;
    }
    out.push_str(&text[at..]);
    out
}

impl std::fmt::Debug for Redactor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Redactor({} forms)", self.plain.len() + self.spaced.len() + self.hexadecimal.len())
    }
}

/// What every base64 text that holds the secret has in common, for each of
/// the three ways in which its bytes can lie on the 6-bit grid.
fn base64_cores(secret: &[u8]) -> Vec<String> {
    let mut cores = Vec::new();
    for shift in 0..3usize {
        let padded = [&vec![0; shift], secret].concat();
        // Symbols that also carry bits of neighbours are left off both ends.
        let first = (shift * 8).div_ceil(6);
        let last = padded.len() * 8 / 6;
        for text in [STANDARD_NO_PAD.encode(&padded), URL_SAFE_NO_PAD.encode(&padded)] {
            if last >= first + SHORTEST {
                cores.push(text[first..last].to_owned());
            }
        }
    }
    cores
}

#[cfg(test)]
mod tests {
    use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
    use proptest::prelude::*;

    use super::*;

    const SECRET: &str = "canary/4711+\"tide\" ω~x&y";

    fn utf16_escapes(text: &str) -> String {
        text.encode_utf16().map(|unit| format!("\\u{unit:04X}")).collect()
    }

    fn percent(text: &str) -> String {
        text.bytes().map(|byte| format!("%{byte:02x}")).collect()
    }

    /// The secret as an engine may repeat it, each by its name.
    fn forms(secret: &str) -> Vec<(&'static str, String)> {
        let json = serde_json::to_string(secret).expect("json").trim_matches('"').to_owned();
        let wrapped: Vec<String> = secret.chars().collect::<Vec<_>>().chunks(5).map(|c| c.iter().collect()).collect();
        let base64 = STANDARD_NO_PAD.encode(secret);
        vec![
            ("plain", secret.to_owned()),
            ("JSON", json.clone()),
            ("JSON with escaped slashes", json.replace('/', "\\/")),
            ("JSON in JSON", json.replace('\\', "\\\\").replace('"', "\\\"").replace('/', "\\\\/")),
            ("UTF-16 escapes", utf16_escapes(secret)),
            ("one escape", secret.replace('&', "\\u0026")),
            ("percent, lower case", percent(secret)),
            ("percent, upper case", utf8_percent_encode(secret, NON_ALPHANUMERIC).to_string()),
            ("percent, of one character", secret.replace('/', "%2f")),
            ("percent, twice", percent(secret).replace('%', "%25")),
            ("form", utf8_percent_encode(secret, NON_ALPHANUMERIC).to_string().replace("%20", "+")),
            ("entities", secret.replace('&', "&amp;").replace('"', "&quot;")),
            ("numbers as entities", secret.chars().map(|c| format!("&#{};", u32::from(c))).collect()),
            ("hexadecimal entities", secret.chars().map(|c| format!("&#x{:x};", u32::from(c))).collect()),
            ("upper case", secret.to_uppercase()),
            ("lower case", secret.to_lowercase()),
            ("wrapped", wrapped.join("\r\n  ")),
            ("quoted-printable", wrapped.join("=\r\n").replace('+', "=2B")),
            ("base64", base64.clone()),
            ("base64url", URL_SAFE_NO_PAD.encode(secret)),
            (
                "base64, wrapped",
                base64
                    .chars()
                    .collect::<Vec<_>>()
                    .chunks(8)
                    .map(|c| c.iter().collect::<String>())
                    .collect::<Vec<_>>()
                    .join("\n"),
            ),
            ("base64 within another", STANDARD_NO_PAD.encode(format!("u:{secret}:rest"))),
            ("hexadecimal", secret.bytes().map(|byte| format!("{byte:02x}")).collect()),
            ("hexadecimal with colons", secret.bytes().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":")),
        ]
    }

    #[test]
    fn finds_the_secret_in_every_form() {
        for secret in [SECRET, "plain-token-8843", "a b+c d/é"] {
            let redactor = Redactor::new([secret]);
            for (name, form) in forms(secret) {
                let clean = redactor.redact(&format!("engine said: <{form}> and left"));
                assert_eq!(clean.matches(REDACTED).count(), 1, "{name}: {form}: {clean}");
                assert!(clean.starts_with("engine said: <"), "{name}: {clean}");
                assert!(clean.ends_with("> and left"), "{name}: {clean}");
                let left = &clean["engine said: <".len()..clean.len() - "> and left".len()];
                if name != "base64 within another" {
                    // Of base64 the symbols that also carry bits of neighbours may stay.
                    assert!(left.len() <= REDACTED.len() + 8, "{name}: {left}");
                }
            }
        }
    }

    #[test]
    fn each_place_of_a_text_is_blanked_and_what_is_between_stays() {
        let redactor = Redactor::new(["quay-4711", "ebb-0815"]);
        let told = "first quay-4711, then ebb-0815 and quay-4711 again";
        assert_eq!(redactor.redact(told), "first [redacted], then [redacted] and [redacted] again");
    }

    /// Six bits of base64 do not end where bytes end: a short secret has few
    /// symbols of its own.
    #[test]
    fn the_shortest_secrets_are_found_in_base64_wherever_they_lie() {
        for secret in ["ebb7", "quay7", "slack8"] {
            for before in ["", "u", "u:"] {
                let clean = Redactor::new([secret]).redact(&STANDARD_NO_PAD.encode(format!("{before}{secret}:rest")));
                assert!(clean.contains(REDACTED), "{secret} behind '{before}': {clean}");
            }
        }
    }

    #[test]
    fn a_text_of_nothing_but_escapes_is_read_to_its_last_layer() {
        let redactor = Redactor::new(["quay-4711"]);
        assert_eq!(redactor.redact(&percent(&percent("quay-4711"))), REDACTED);
        assert_eq!(redactor.redact(&utf16_escapes("quay-4711")), REDACTED);
    }

    #[test]
    fn only_what_stands_for_the_secret_is_blanked() {
        let redactor = Redactor::new(["quay-4711", "\u{1f6a2}-\u{10302}-47"]);
        for (told, clean) in [
            // A pair of code units is one character; half a pair is none.
            (r"<\ud83d\udea2-\uD800\uDF02-47>", "<[redacted]>"),
            (r"<\ud83d\udea2-\uD800\uD802-47>", r"<\ud83d\udea2-\uD800\uD802-47>"),
            (r"<\ud83dxxdea2-\uD800\uDF02-47>", r"<\ud83dxxdea2-\uD800\uDF02-47>"),
            // Space within is passed over, and no letter is an escape.
            (r"<quay\n-\t47\r11>", "<[redacted]>"),
            (r"<\quay-4711>", r"<\[redacted]>"),
            (r"<quay\-4711>", "<[redacted]>"),
            // Bytes that are no UTF-8 are one character each.
            ("<%ff%71uay%2d4711%fe%41>", "<%ff[redacted]%fe%41>"),
            ("<%41%ff%fe%c3%a9%71uay-4711%ff%fe>", "<%41%ff%fe%c3%a9[redacted]%ff%fe>"),
            // A reference may be the first or the last of it.
            ("<&amp;&#x71;uay&#45;471&#49;&amp;>", "<&amp;[redacted]&amp;>"),
            ("<&#x00000071;uay-4711>", "<[redacted]>"),
            ("<&nonsense;quay&#45;4711&>", "<&nonsense;[redacted]&>"),
            ("<%c3%a9%71uay%2d4711%c3%a9>", "<%c3%a9[redacted]%c3%a9>"),
        ] {
            assert_eq!(redactor.redact(told), clean, "{told}");
        }
    }

    /// Bytes of Latin 1, which are no UTF-8, stand for a character each.
    #[test]
    fn a_secret_may_begin_and_end_with_a_byte_that_is_no_utf_8() {
        let redactor = Redactor::new(["\u{e9}-quai-\u{e0}"]);
        assert_eq!(redactor.redact("<%41%ff%e9-quai-%e0%fe%41>"), "<%41%ff[redacted]%fe%41>");
    }

    #[test]
    fn quoted_printable_breaks_lines_by_either_end_and_escapes_any_byte() {
        let redactor = Redactor::new(["quay-4711"]);
        for told in ["qua=\ny-4711", "qua=\r\ny-4711", "qu=61y-4711", "qu=61y=\n-4711", "qu=61y=\r\n-47=31=31"] {
            assert_eq!(redactor.redact(told), REDACTED, "{told:?}");
        }
        assert_eq!(redactor.redact("qua=\ry-4711"), "qua=\ry-4711", "a lone return ends no line");
        assert_eq!(redactor.redact("qua==\ny-4711"), "qua==\ny-4711");
    }

    #[test]
    fn of_two_secrets_the_longer_leaves_no_tail_behind() {
        for order in [["quay-4711", "quay-4711-tide"], ["quay-4711-tide", "quay-4711"]] {
            let redactor = Redactor::new(order);
            assert_eq!(redactor.redact("key quay-4711-tide!"), "key [redacted]!");
            assert_eq!(redactor.redact("key quay-4711!"), "key [redacted]!");
            assert_eq!(redactor.redact("quay-4711quay-4711-tide"), "[redacted]");
        }
    }

    #[test]
    fn ordinary_text_stays_and_debug_shows_nothing() {
        let redactor = Redactor::new([SECRET, "abc"]);
        assert_eq!(redactor.redact("abc, the tide is out"), "abc, the tide is out");
        assert!(!format!("{redactor:?}").contains("canary"));
    }

    proptest! {
        #[test]
        fn no_base64_of_a_secret_survives_whatever_stands_around_it(before in ".{0,9}", secret in "[ -~]{4,40}", after in ".{0,9}") {
            let redactor = Redactor::new([secret.as_str()]);
            let encoded = STANDARD_NO_PAD.encode(format!("{before}{secret}{after}"));
            let clean = redactor.redact(&encoded);
            prop_assert!(clean.contains(REDACTED));
        }
    }

    proptest! {
        #[test]
        fn any_text_is_read_and_one_without_the_secret_stays(text in "\\PC{0,80}") {
            let redactor = Redactor::new(["zq7-canary-zq7-canary"]);
            prop_assert_eq!(redactor.redact(&text), text);
        }
    }
}
