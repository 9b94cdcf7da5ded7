//! Keys that prove to others that something is this gateway's (Ed25519, RFC
//! 8032): anybody can check a signature with the public key.

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ED25519, Ed25519KeyPair, KeyPair as _, UnparsedPublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use secrecy::{ExposeSecret as _, SecretString};

use crate::VaultError;

/// Bytes of a signature.
pub const SIGNATURE_BYTES: usize = 64;
/// Characters of the public key that name it.
const ID: usize = 16;

/// A private key, and the public key of it.
pub struct SigningKey {
    pair: Ed25519KeyPair,
    public: String,
}

impl SigningKey {
    /// A new key, as PEM (PKCS #8, RFC 8410).
    ///
    /// # Errors
    /// [`VaultError::SigningKey`] when there is no randomness.
    pub fn new_pem() -> Result<SecretString, VaultError> {
        let made = Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).map_err(|_| VaultError::SigningKey)?;
        Ok(pem::encode(&pem::Pem::new("PRIVATE KEY", made.as_ref())).into())
    }

    /// The key in PEM.
    ///
    /// # Errors
    /// [`VaultError::SigningKey`] when it is no key of Ed25519.
    pub fn from_pem(key: &SecretString) -> Result<SigningKey, VaultError> {
        let der = pem::parse(key.expose_secret().trim()).map_err(|_| VaultError::SigningKey)?;
        let pair = Ed25519KeyPair::from_pkcs8_maybe_unchecked(der.contents()).map_err(|_| VaultError::SigningKey)?;
        let public = URL_SAFE_NO_PAD.encode(pair.public_key().as_ref());
        Ok(SigningKey { pair, public })
    }

    /// The public key: `x` of a JSON Web Key (RFC 8037), in base64url.
    pub fn public(&self) -> &str {
        &self.public
    }

    /// The name of the key: the beginning of the public key.
    pub fn id(&self) -> &str {
        self.public.get(..ID).unwrap_or(&self.public)
    }

    /// The signature of a message, in base64url: 86 characters.
    pub fn sign(&self, message: &[u8]) -> String {
        URL_SAFE_NO_PAD.encode(self.pair.sign(message).as_ref())
    }
}

/// Whether a signature of a message is that of the key with this public key;
/// both in base64url.
pub fn verify_signature(public: &str, message: &[u8], signature: &str) -> bool {
    let (Ok(public), Ok(signature)) = (URL_SAFE_NO_PAD.decode(public), URL_SAFE_NO_PAD.decode(signature)) else {
        return false;
    };
    signature.len() == SIGNATURE_BYTES && UnparsedPublicKey::new(&ED25519, public).verify(message, &signature).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signature_is_of_one_message_and_one_key() {
        let pem = SigningKey::new_pem().expect("a key");
        let key = SigningKey::from_pem(&pem).expect("a key");
        let signature = key.sign(b"the tide turns");
        assert_eq!((signature.len(), key.id().len()), (86, 16));
        assert!(verify_signature(key.public(), b"the tide turns", &signature));
        assert!(!verify_signature(key.public(), b"the tide turned", &signature));
        let other = SigningKey::from_pem(&SigningKey::new_pem().expect("a key")).expect("a key");
        assert!(!verify_signature(other.public(), b"the tide turns", &signature));
        assert!(!verify_signature(key.public(), b"the tide turns", &signature[..84]));
        assert!(!verify_signature("no key", b"the tide turns", &signature));
        assert!(SigningKey::from_pem(&"no key".to_owned().into()).is_err());
    }

    #[test]
    fn a_known_key_has_its_known_public_key_and_signature() {
        // RFC 8032, section 7.1, test 1, with the frame of RFC 8410 around the seed.
        let seed = "9d61b19deffd5a60ba844af492ec2cc44449c5697b326919703bac031cae7f60";
        let bytes = |hex: &str| -> Vec<u8> {
            (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).expect("hex")).collect()
        };
        let der = [bytes("302e020100300506032b657004220420"), bytes(seed)].concat();
        let pem = pem::encode(&pem::Pem::new("PRIVATE KEY", der));
        let key = SigningKey::from_pem(&pem.into()).expect("a key");
        let public = "d75a980182b10ab7d54bfed3c964073a0ee172f3daa62325af021a68f707511a";
        assert_eq!(key.public(), URL_SAFE_NO_PAD.encode(bytes(public)));
        let signature = "e5564300c360ac729086e2cc806e828a84877f1eb8e5d974d873e065224901555fb8821590a33bacc61e39701cf9b46bd\
                         25bf5f0595bbe24655141438e7a100b";
        assert_eq!(key.sign(b""), URL_SAFE_NO_PAD.encode(bytes(signature)));
    }
}
