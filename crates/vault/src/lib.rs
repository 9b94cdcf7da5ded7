//! Secrets: sealed envelopes, the root key, app and operator keys, passwords,
//! and the one place where secrets are removed from text.
//!
//! What does not live here: the database (the store keeps what is sealed) and
//! any decision on who may use what. Nonces and keys are made inside from a
//! generator that is given by type; no function takes a nonce.

mod envelope;
mod keys;
mod mac;
mod password;
mod redact;
mod root;
mod signing;

pub use envelope::{Parts, Sealed, VaultError, open, rewrap, seal};
pub use keys::{KeyKind, NewKey, hash_key, key_kind, new_key, random_token};
pub use mac::MacKey;
pub use password::{hash_password, verify_password};
pub use redact::{REDACTED, Redactor};
pub use root::RootKey;
pub use signing::{SIGNATURE_BYTES, SigningKey, verify_signature};
