//! Keys of apps and operators, and tokens: made here, shown once, stored hashed.

use rand::CryptoRng;
use secrecy::SecretString;
use sha2::{Digest as _, Sha256};

/// Letters and digits that are not mistaken for one another.
const ALPHABET: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
/// 32 symbols of 5 bits: 160 bits.
const SYMBOLS: usize = 32;

/// Whose key it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyKind {
    App,
    Operator,
    /// Of a page or program that has no key of its own.
    Token,
}

impl KeyKind {
    /// What the key begins with.
    pub fn prefix(self) -> &'static str {
        match self {
            KeyKind::App => "dispatch_app_",
            KeyKind::Operator => "dispatch_op_",
            KeyKind::Token => "dispatch_token_",
        }
    }
}

/// A key that was just made: the secret to show once, the hash to keep, and
/// a few characters to tell it by.
pub struct NewKey {
    pub secret: SecretString,
    pub hash: String,
    pub hint: String,
}

/// Makes a key.
pub fn new_key(kind: KeyKind, rng: &mut impl CryptoRng) -> NewKey {
    let body = symbols(SYMBOLS, rng);
    let key = format!("{}{body}{}", kind.prefix(), check_digit(&body));
    let hint = format!("{}{}…{}", kind.prefix(), &body[..4], &key[key.len() - 3..]);
    NewKey { hash: hash_key(&key), hint, secret: SecretString::from(key) }
}

/// An unguessable token for sessions, links and forms: 160 bits.
pub fn random_token(rng: &mut impl CryptoRng) -> String {
    symbols(SYMBOLS, rng)
}

fn symbols(count: usize, rng: &mut impl CryptoRng) -> String {
    let mut bytes = vec![0; count];
    rng.fill_bytes(&mut bytes);
    bytes.into_iter().map(|byte| char::from(ALPHABET[usize::from(byte & 31)])).collect()
}

/// A weighted sum in the alphabet: finds each wrong symbol, and two neighbours
/// that are swapped unless they stand 16 apart in the alphabet.
fn check_digit(body: &str) -> char {
    let value = |byte: u8| ALPHABET.iter().position(|symbol| *symbol == byte).unwrap_or(0);
    // Odd weights are invertible modulo 32, so each single change shows.
    let sum: usize = body.bytes().enumerate().map(|(at, byte)| value(byte) * (2 * at + 1)).sum();
    char::from(ALPHABET[sum % 32])
}

/// Whose key this is by its form; `None` where the prefix, the length or the
/// check digit is wrong, so that slips are told without a look-up.
pub fn key_kind(key: &str) -> Option<KeyKind> {
    [KeyKind::App, KeyKind::Operator, KeyKind::Token].into_iter().find(|kind| {
        key.strip_prefix(kind.prefix()).is_some_and(|rest| {
            rest.len() == SYMBOLS + 1
                && rest.bytes().all(|byte| ALPHABET.contains(&byte))
                && rest.ends_with(check_digit(&rest[..SYMBOLS]))
        })
    })
}

/// The hash that is stored. A key has 160 random bits, so that a plain hash
/// (SHA-256, FIPS 180-4) cannot be searched back.
pub fn hash_key(key: &str) -> String {
    Sha256::digest(key.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use secrecy::ExposeSecret as _;

    use super::*;

    #[test]
    fn a_slip_in_a_key_is_told_by_its_check_digit() {
        let key = new_key(KeyKind::App, &mut rand::rng());
        let key = key.secret.expose_secret();
        assert_eq!(key_kind(key), Some(KeyKind::App));
        for at in 5..key.len() {
            let mut slip = key.as_bytes().to_vec();
            slip[at] = if slip[at] == b'a' { b'b' } else { b'a' };
            assert_eq!(key_kind(std::str::from_utf8(&slip).expect("ascii")), None, "symbol {at}");
        }
        assert_eq!(key_kind(&key[..key.len() - 1]), None);
    }

    #[test]
    fn the_check_digit_is_the_weighted_sum_of_the_symbols() {
        // b is worth 1, c 2, d 3; the weights are 1, 3, 5 …
        let mut body = "a".repeat(SYMBOLS);
        assert_eq!(check_digit(&body), 'a');
        body.replace_range(0..3, "bcd");
        assert_eq!(check_digit(&body), char::from(ALPHABET[1 + 2 * 3 + 3 * 5]));
        body.replace_range(0..3, "cbd");
        assert_eq!(check_digit(&body), char::from(ALPHABET[2 + 3 + 3 * 5]), "swapped neighbours are told");
        body.replace_range(29..32, "9ab");
        assert_eq!(check_digit(&body), char::from(ALPHABET[(2 + 3 + 15 + 31 * 59 + 63) % 32]));
    }

    #[test]
    fn tokens_are_as_long_as_keys_and_no_two_are_alike() {
        let (a, b) = (random_token(&mut rand::rng()), random_token(&mut rand::rng()));
        assert_ne!(a, b);
        assert!(a.len() == SYMBOLS && a.bytes().all(|byte| ALPHABET.contains(&byte)), "{a}");
    }

    #[test]
    fn keys_differ_and_their_hashes_do_not_show_them() {
        let (a, b) = (new_key(KeyKind::Operator, &mut rand::rng()), new_key(KeyKind::Operator, &mut rand::rng()));
        assert_ne!(a.hash, b.hash);
        assert_eq!(a.hash, hash_key(a.secret.expose_secret()));
        assert!(a.secret.expose_secret().starts_with("dispatch_op_") && a.hint.len() < 24);
    }
}
