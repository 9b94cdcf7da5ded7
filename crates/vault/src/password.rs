//! Operators' passwords: Argon2id (RFC 9106).

use argon2::{Algorithm, Argon2, Params, Version};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use rand::CryptoRng;
use subtle::ConstantTimeEq as _;
use zeroize::Zeroizing;

use crate::VaultError;

/// The second recommended setting of RFC 9106, section 4, with one lane:
/// 64 MiB, three passes.
fn hasher() -> Result<Argon2<'static>, VaultError> {
    let params = Params::new(64 << 10, 3, 1, Some(32)).map_err(|_| VaultError::Password)?;
    Ok(Argon2::new(Algorithm::Argon2id, Version::V0x13, params))
}

/// Hashes with a salt of its own; the result holds both.
///
/// # Errors
/// When the password is beyond what the function takes.
pub fn hash_password(password: &str, rng: &mut impl CryptoRng) -> Result<String, VaultError> {
    let mut salt = [0; 16];
    rng.fill_bytes(&mut salt);
    let mut hash = Zeroizing::new([0; 32]);
    hasher()?.hash_password_into(password.as_bytes(), &salt, hash.as_mut()).map_err(|_| VaultError::Password)?;
    Ok(format!("argon2id${}${}", STANDARD_NO_PAD.encode(salt), STANDARD_NO_PAD.encode(hash.as_slice())))
}

/// Whether the password is the one that was hashed; compares in constant time.
pub fn verify_password(password: &str, stored: &str) -> bool {
    let read = || {
        let (salt, hash) = stored.strip_prefix("argon2id$")?.split_once('$')?;
        let (salt, hash) = (STANDARD_NO_PAD.decode(salt).ok()?, STANDARD_NO_PAD.decode(hash).ok()?);
        let mut found = Zeroizing::new([0; 32]);
        hasher().ok()?.hash_password_into(password.as_bytes(), &salt, found.as_mut()).ok()?;
        Some(bool::from(found.as_slice().ct_eq(&hash)))
    };
    read().unwrap_or(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A weaker setting would hash as well, and be searched sooner.
    #[test]
    fn a_guess_costs_sixty_four_mebibytes_and_three_passes() {
        let made = hasher().expect("made");
        let params = made.params();
        assert_eq!((params.m_cost(), params.t_cost(), params.p_cost()), (64 << 10, 3, 1));
        assert_eq!(params.output_len(), Some(32));
    }

    #[test]
    fn only_the_right_password_fits() {
        let stored = hash_password("slack water at noon", &mut rand::rng()).expect("hashed");
        assert!(verify_password("slack water at noon", &stored));
        assert!(!verify_password("slack water at moon", &stored));
        assert!(!verify_password("", "nonsense"));
        assert_ne!(stored, hash_password("slack water at noon", &mut rand::rng()).expect("hashed"));
    }
}
