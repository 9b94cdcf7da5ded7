//! Taking secrets out of text: the one place where it is done.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use zeroize::Zeroizing;

/// What stands where a secret stood.
pub const REDACTED: &str = "[redacted]";

/// Shorter secrets would blank out ordinary words.
const SHORTEST: usize = 4;

/// Knows some secrets in all the forms in which they could come back.
#[derive(Default)]
pub struct Redactor {
    /// Longest first, so that no form leaves the tail of a longer one behind.
    forms: Vec<Zeroizing<String>>,
}

impl Redactor {
    /// A redactor for the secrets.
    pub fn new<'a>(secrets: impl IntoIterator<Item = &'a str>) -> Self {
        let mut redactor = Redactor::default();
        for secret in secrets.into_iter().filter(|secret| secret.len() >= SHORTEST) {
            redactor.add(secret);
        }
        redactor.forms.sort_by_key(|form| std::cmp::Reverse(form.len()));
        redactor.forms.dedup();
        redactor
    }

    fn add(&mut self, secret: &str) {
        let mut forms = vec![secret.to_owned()];
        let json = serde_json::to_string(secret).unwrap_or_default();
        forms.push(json.trim_matches('"').to_owned());
        forms.push(secret.chars().map(|c| if c.is_ascii() { c.to_string() } else { utf16_escapes(c) }).collect());
        forms.push(utf8_percent_encode(secret, NON_ALPHANUMERIC).to_string());
        const UNRESERVED: &percent_encoding::AsciiSet =
            &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
        forms.push(utf8_percent_encode(secret, UNRESERVED).to_string());
        forms.push(utf8_percent_encode(secret, UNRESERVED).to_string().replace("%20", "+"));
        forms.push(secret.bytes().map(|byte| format!("{byte:02x}")).collect());
        forms.push(secret.bytes().map(|byte| format!("{byte:02X}")).collect());
        forms.extend(base64_cores(secret.as_bytes()));
        forms.retain(|form| form.len() >= SHORTEST);
        self.forms.extend(forms.into_iter().map(Zeroizing::new));
    }

    /// The text without any of the secrets.
    pub fn redact(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for form in &self.forms {
            if text.contains(form.as_str()) {
                text = text.replace(form.as_str(), REDACTED);
            }
        }
        text
    }
}

impl std::fmt::Debug for Redactor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Redactor({} forms)", self.forms.len())
    }
}

fn utf16_escapes(c: char) -> String {
    c.encode_utf16(&mut [0; 2]).iter().map(|unit| format!("\\u{unit:04x}")).collect()
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
            if last > first + SHORTEST {
                cores.push(text[first..last].to_owned());
            }
        }
    }
    cores
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const SECRET: &str = "canary/4711+\"tide\" ω~x";

    #[test]
    fn finds_the_secret_in_every_form() {
        let redactor = Redactor::new([SECRET]);
        let json = serde_json::to_string(SECRET).expect("json");
        let forms = [
            SECRET.to_owned(),
            json.trim_matches('"').to_owned(),
            utf8_percent_encode(SECRET, NON_ALPHANUMERIC).to_string(),
            STANDARD_NO_PAD.encode(SECRET),
            URL_SAFE_NO_PAD.encode(SECRET),
            SECRET.bytes().map(|byte| format!("{byte:02x}")).collect(),
            STANDARD_NO_PAD.encode(format!("user:{SECRET}")),
            STANDARD_NO_PAD.encode(format!("u:{SECRET}:rest")),
        ];
        for form in forms {
            let clean = redactor.redact(&format!("engine said: <{form}> and left"));
            assert!(clean.contains(REDACTED), "{form}: {clean}");
            assert!(!clean.contains("4711"), "{clean}");
            assert!(clean.starts_with("engine said: <") && clean.ends_with("> and left"));
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
        fn no_base64_of_a_secret_survives_whatever_stands_around_it(before in ".{0,9}", secret in "[ -~]{8,40}", after in ".{0,9}") {
            let redactor = Redactor::new([secret.as_str()]);
            let encoded = STANDARD_NO_PAD.encode(format!("{before}{secret}{after}"));
            let clean = redactor.redact(&encoded);
            prop_assert!(clean.contains(REDACTED));
        }
    }
}
