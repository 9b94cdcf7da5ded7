//! Codes that prove that a text is ours and unchanged (HMAC with SHA-256, RFC 2104).

use hmac::{Hmac, KeyInit as _, Mac as _};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::Sha256;

/// The key of such codes.
pub struct MacKey(SecretString);

impl MacKey {
    /// The key of a secret; white space around it is not part of it.
    pub fn new(secret: &SecretString) -> MacKey {
        MacKey(secret.expose_secret().trim().to_owned().into())
    }

    /// The code of a text, 32 bytes.
    pub fn sign(&self, text: &str) -> Vec<u8> {
        self.over(text).map(|mac| mac.finalize().into_bytes().to_vec()).unwrap_or_default()
    }

    /// Whether a code is that of a text; compared in constant time.
    pub fn verifies(&self, text: &str, code: &[u8]) -> bool {
        self.over(text).is_some_and(|mac| mac.verify_slice(code).is_ok())
    }

    /// Keys of this code may have any length, so that there always is one.
    fn over(&self, text: &str) -> Option<Hmac<Sha256>> {
        let mut mac = Hmac::<Sha256>::new_from_slice(self.0.expose_secret().as_bytes()).ok()?;
        mac.update(text.as_bytes());
        Some(mac)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_is_of_one_text_and_one_key() {
        // RFC 4231, section 4.3.
        let key = MacKey::new(&"Jefe".to_owned().into());
        let code = key.sign("what do ya want for nothing?");
        let hex: String = code.iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(hex, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
        assert!(key.verifies("what do ya want for nothing?", &code));
        assert!(!key.verifies("what do ya want for something?", &code));
        assert!(!key.verifies("what do ya want for nothing?", &code[..31]));
        assert!(!MacKey::new(&"Jeff".to_owned().into()).verifies("what do ya want for nothing?", &code));
    }
}
