//! Envelope encryption: each credential under a data key of its own, the data
//! key under the root key. Both with XChaCha20-Poly1305 (the extended-nonce
//! form of RFC 8439, draft-irtf-cfrg-xchacha), with the credential's name and
//! version as associated data.

use std::collections::BTreeMap;
use std::path::PathBuf;

use chacha20poly1305::aead::{Aead as _, KeyInit as _, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use rand::CryptoRng;
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::RootKey;

/// The named parts of a credential.
pub type Parts = BTreeMap<String, SecretString>;

const NONCE: usize = 24;

/// What can go wrong with secrets. No variant carries one.
#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    #[error("the key file {path} cannot be used")]
    KeyFile { path: PathBuf, source: std::io::Error },
    #[error("the key file {path} is readable by others (mode {mode:o}); run: chmod 600 {path}")]
    KeyFileMode { path: PathBuf, mode: u32 },
    #[error("the root key is not 32 bytes in base64")]
    NotAKeyText,
    #[error("the passphrase has less than {0} characters")]
    ShortPassphrase(usize),
    #[error("{0} is not a key file: it must hold 32 bytes in base64")]
    NotAKey(PathBuf),
    #[error(
        "the credential '{name}' version {version} cannot be opened: it was sealed under another root key, or was altered"
    )]
    CannotOpen { name: String, version: u32 },
    #[error("encryption failed")]
    CannotSeal,
    #[error("not an Ed25519 key in PEM (PKCS #8)")]
    SigningKey,
    #[error("the password cannot be hashed")]
    Password,
}

/// A sealed credential, as it is stored. Each member is nonce, then ciphertext.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sealed {
    pub wrapped_key: Vec<u8>,
    pub ciphertext: Vec<u8>,
}

fn associated(name: &str, version: u32) -> Vec<u8> {
    // The length keeps "a" version 11 apart from "a1" version 1.
    let mut data = (name.len() as u32).to_be_bytes().to_vec();
    data.extend_from_slice(name.as_bytes());
    data.extend_from_slice(&version.to_be_bytes());
    data
}

fn encrypt(key: &[u8; 32], plain: &[u8], aad: &[u8], rng: &mut impl CryptoRng) -> Result<Vec<u8>, VaultError> {
    let mut nonce = [0; NONCE];
    rng.fill_bytes(&mut nonce);
    let cipher = XChaCha20Poly1305::new(key.into());
    let sealed =
        cipher.encrypt(&XNonce::from(nonce), Payload { msg: plain, aad }).map_err(|_| VaultError::CannotSeal)?;
    Ok([&nonce[..], &sealed].concat())
}

fn decrypt(key: &[u8; 32], sealed: &[u8], aad: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
    let (nonce, ciphertext) = sealed.split_first_chunk::<NONCE>()?;
    let cipher = XChaCha20Poly1305::new(key.into());
    cipher.decrypt(&XNonce::from(*nonce), Payload { msg: ciphertext, aad }).ok().map(Zeroizing::new)
}

/// Seals the parts of a credential under its name and version.
///
/// # Errors
/// [`VaultError::CannotSeal`] when the parts are beyond what the cipher takes.
pub fn seal(
    root: &RootKey,
    name: &str,
    version: u32,
    parts: &Parts,
    rng: &mut impl CryptoRng,
) -> Result<Sealed, VaultError> {
    let aad = associated(name, version);
    let mut key = Zeroizing::new([0; 32]);
    rng.fill_bytes(key.as_mut());
    let exposed: BTreeMap<&str, &str> =
        parts.iter().map(|(name, part)| (name.as_str(), part.expose_secret())).collect();
    let plain = Zeroizing::new(serde_json::to_vec(&exposed).map_err(|_| VaultError::CannotSeal)?);
    Ok(Sealed {
        wrapped_key: encrypt(&root.0, key.as_slice(), &aad, rng)?,
        ciphertext: encrypt(&key, &plain, &aad, rng)?,
    })
}

/// Opens what [`seal`] made with the same root key, name and version.
///
/// # Errors
/// [`VaultError::CannotOpen`] when anything differs.
pub fn open(root: &RootKey, name: &str, version: u32, sealed: &Sealed) -> Result<Parts, VaultError> {
    let aad = associated(name, version);
    let opened = || {
        let key = decrypt(&root.0, &sealed.wrapped_key, &aad)?;
        let key: Zeroizing<[u8; 32]> = Zeroizing::new(key.as_slice().try_into().ok()?);
        let plain = decrypt(&key, &sealed.ciphertext, &aad)?;
        serde_json::from_slice::<BTreeMap<String, SecretString>>(&plain).ok()
    };
    opened().ok_or_else(|| VaultError::CannotOpen { name: name.into(), version })
}

/// Wraps the data key of what [`seal`] made anew, under another root key. What
/// it seals stays as it is.
///
/// # Errors
/// [`VaultError::CannotOpen`] where it was not wrapped under the first key.
pub fn rewrap(
    from: &RootKey,
    to: &RootKey,
    name: &str,
    version: u32,
    sealed: &Sealed,
    rng: &mut impl CryptoRng,
) -> Result<Sealed, VaultError> {
    let aad = associated(name, version);
    let key = decrypt(&from.0, &sealed.wrapped_key, &aad);
    let key = key.ok_or_else(|| VaultError::CannotOpen { name: name.into(), version })?;
    Ok(Sealed { wrapped_key: encrypt(&to.0, &key, &aad, rng)?, ciphertext: sealed.ciphertext.clone() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rewrapped_credential_opens_under_the_new_root_alone() {
        let mut rng = rand::rng();
        let (old, new) = (RootKey::generate(&mut rng), RootKey::generate(&mut rng));
        let sealed = seal(&old, "heron", 2, &parts(), &mut rng).expect("sealed");
        let moved = rewrap(&old, &new, "heron", 2, &sealed, &mut rng).expect("moved");
        assert_eq!(moved.ciphertext, sealed.ciphertext);
        assert_eq!(open(&new, "heron", 2, &moved).expect("opens")["token"].expose_secret(), "canary-4711-ω");
        assert!(open(&old, "heron", 2, &moved).is_err());
        assert!(rewrap(&old, &new, "heron", 2, &moved, &mut rng).is_err(), "it is wrapped under the new one already");
    }

    fn parts() -> Parts {
        BTreeMap::from([("token".to_owned(), SecretString::from("canary-4711-ω"))])
    }

    #[test]
    fn what_is_sealed_opens_only_as_itself() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let sealed = seal(&root, "heron", 3, &parts(), &mut rng).expect("sealed");
        assert_eq!(open(&root, "heron", 3, &sealed).expect("opens")["token"].expose_secret(), "canary-4711-ω");
        assert!(open(&root, "heron", 4, &sealed).is_err(), "another version");
        assert!(open(&root, "bittern", 3, &sealed).is_err(), "another name");
        assert!(open(&RootKey::generate(&mut rng), "heron", 3, &sealed).is_err(), "another root");
    }

    #[test]
    fn a_flipped_bit_anywhere_is_noticed() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let sealed = seal(&root, "heron", 1, &parts(), &mut rng).expect("sealed");
        for at in 0..sealed.wrapped_key.len() {
            let mut altered = sealed.clone();
            altered.wrapped_key[at] ^= 1;
            assert!(open(&root, "heron", 1, &altered).is_err(), "wrapped key, byte {at}");
        }
        for at in 0..sealed.ciphertext.len() {
            let mut altered = sealed.clone();
            altered.ciphertext[at] ^= 1;
            assert!(open(&root, "heron", 1, &altered).is_err(), "ciphertext, byte {at}");
        }
    }

    #[test]
    fn sealing_twice_gives_nothing_to_compare() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (a, b) = (seal(&root, "h", 1, &parts(), &mut rng), seal(&root, "h", 1, &parts(), &mut rng));
        let (a, b) = (a.expect("sealed"), b.expect("sealed"));
        assert_ne!(a.ciphertext, b.ciphertext);
        assert_ne!(a.wrapped_key, b.wrapped_key);
        assert!(!a.ciphertext.windows(6).any(|w| w == b"canary"));
        // One root key wraps them both: a nonce that comes twice would open both.
        let nonces =
            [&a.wrapped_key, &b.wrapped_key, &a.ciphertext, &b.ciphertext].map(|sealed| sealed[..NONCE].to_vec());
        for (at, nonce) in nonces.iter().enumerate() {
            assert!(nonce.iter().any(|byte| *byte != 0), "a nonce is random");
            assert!(!nonces[..at].contains(nonce), "a nonce is used once");
        }
        let (next, root) = (RootKey::generate(&mut rng), root);
        let moved = rewrap(&root, &next, "h", 1, &a, &mut rng).expect("moved");
        assert_ne!(moved.wrapped_key[..NONCE], a.wrapped_key[..NONCE], "nor when it is wrapped anew");
    }
}
