//! The root key and its file.

use std::fs::{self, OpenOptions};
use std::io::Write as _;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rand::CryptoRng;
use zeroize::Zeroizing;

use crate::VaultError;

/// Minimum number of characters of a passphrase.
const SHORTEST: usize = 16;

/// The key that wraps all data keys: 32 bytes.
pub struct RootKey(pub(crate) Zeroizing<[u8; 32]>);

impl RootKey {
    /// A new key from the generator.
    pub fn generate(rng: &mut impl CryptoRng) -> Self {
        let mut bytes = Zeroizing::new([0; 32]);
        rng.fill_bytes(bytes.as_mut());
        RootKey(bytes)
    }

    /// Reads the key file, or makes it with mode 0600 where there is none.
    ///
    /// # Errors
    /// When the file can be read by others, or is not a key.
    pub fn load_or_create(path: &Path, rng: &mut impl CryptoRng) -> Result<Self, VaultError> {
        let named = |source| VaultError::KeyFile { path: path.into(), source };
        match fs::metadata(path) {
            Ok(metadata) => {
                let mode = metadata.permissions().mode() & 0o777;
                if mode & 0o077 != 0 {
                    return Err(VaultError::KeyFileMode { path: path.into(), mode });
                }
                let text = Zeroizing::new(fs::read_to_string(path).map_err(named)?);
                RootKey::from_text(&text).map_err(|_| VaultError::NotAKey(path.into()))
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                let key = RootKey::generate(rng);
                let text = Zeroizing::new(STANDARD.encode(key.0.as_slice()));
                write_new(path, &text).map_err(named)?;
                Ok(key)
            }
            Err(error) => Err(named(error)),
        }
    }
}

/// Salt of a passphrase: 16 random bytes.
const SALT: usize = 16;

impl RootKey {
    /// A key that is given as 32 bytes in base64, such as by an environment
    /// variable.
    ///
    /// # Errors
    /// When it is none.
    pub fn from_text(text: &str) -> Result<Self, VaultError> {
        let bytes = Zeroizing::new(STANDARD.decode(text.trim()).unwrap_or_default());
        let key = bytes.as_slice().try_into().map_err(|_| VaultError::NotAKeyText)?;
        Ok(RootKey(Zeroizing::new(key)))
    }

    /// A key out of a passphrase (Argon2id, RFC 9106, with its second
    /// recommended option: 64 MiB, three passes, four lanes) and a salt that
    /// is kept in a file and made where there is none.
    ///
    /// # Errors
    /// When the passphrase is short or the salt cannot be kept.
    pub fn from_passphrase(passphrase: &str, salt: &Path, rng: &mut impl CryptoRng) -> Result<Self, VaultError> {
        if passphrase.chars().count() < SHORTEST {
            return Err(VaultError::ShortPassphrase(SHORTEST));
        }
        let named = |source| VaultError::KeyFile { path: salt.into(), source };
        let bytes = match fs::read_to_string(salt) {
            Ok(text) => STANDARD.decode(text.trim()).ok().filter(|bytes| bytes.len() == SALT),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                let mut bytes = vec![0; SALT];
                rng.fill_bytes(&mut bytes);
                write_new(salt, &STANDARD.encode(&bytes)).map_err(named)?;
                Some(bytes)
            }
            Err(error) => return Err(named(error)),
        };
        let bytes = bytes.ok_or_else(|| VaultError::NotAKey(salt.into()))?;
        let mut key = Zeroizing::new([0; 32]);
        let params = argon2::Params::new(64 << 10, 3, 4, Some(32)).map_err(|_| VaultError::Password)?;
        argon2::Argon2::new(argon2::Algorithm::Argon2id, argon2::Version::V0x13, params)
            .hash_password_into(passphrase.as_bytes(), &bytes, key.as_mut())
            .map_err(|_| VaultError::Password)?;
        Ok(RootKey(key))
    }

    /// Whether two keys are the same.
    pub fn is(&self, other: &RootKey) -> bool {
        use subtle::ConstantTimeEq as _;
        self.0.ct_eq(other.0.as_slice()).into()
    }
}

fn write_new(path: &Path, text: &str) -> std::io::Result<()> {
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
    file.write_all(text.as_bytes()).and_then(|()| file.sync_all())
}

impl std::fmt::Debug for RootKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("RootKey(…)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_key_file_is_made_once_for_its_owner_alone() {
        let folder = tempfile::tempdir().expect("folder");
        let path = folder.path().join("root.key");
        let made = RootKey::load_or_create(&path, &mut rand::rng()).expect("made");
        let read = RootKey::load_or_create(&path, &mut rand::rng()).expect("read");
        assert_eq!(made.0, read.0);
        assert_eq!(fs::metadata(&path).expect("file").permissions().mode() & 0o777, 0o600);
        assert_eq!(format!("{made:?}"), "RootKey(…)");

        for mode in [0o640, 0o604, 0o644, 0o620, 0o602, 0o601, 0o610, 0o777] {
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).expect("chmod");
            let error = RootKey::load_or_create(&path, &mut rand::rng()).expect_err("others may do something with it");
            assert!(error.to_string().contains("chmod 600"), "{mode:o}: {error}");
        }
        for mode in [0o600, 0o400] {
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).expect("chmod");
            assert!(RootKey::load_or_create(&path, &mut rand::rng()).is_ok(), "{mode:o}");
        }
    }

    #[test]
    fn a_passphrase_gives_the_same_key_with_the_same_salt_alone() {
        let folder = tempfile::tempdir().expect("folder");
        let key = |passphrase: &str, salt: &str| {
            RootKey::from_passphrase(passphrase, &folder.path().join(salt), &mut rand::rng())
        };
        let first = key("four ferries at the quay", "a").expect("a key");
        assert!(first.is(&key("four ferries at the quay", "a").expect("again")));
        assert!(!first.is(&key("four ferries at the quay", "b").expect("another salt")));
        assert!(!first.is(&key("five ferries at the quay", "a").expect("another passphrase")));
        assert!(key("short", "a").expect_err("short").to_string().contains("16 characters"));
        assert!(matches!(key("fifteen letters", "a"), Err(VaultError::ShortPassphrase(16))));
        assert!(key("sixteen letters!", "a").is_ok());
        assert!(RootKey::from_text("c2hvcnQ=").is_err());
    }

    /// A place that cannot be looked at is no reason for a new key, which
    /// would lock everything that is kept.
    #[test]
    fn only_a_file_that_is_not_there_is_made() {
        let folder = tempfile::tempdir().expect("folder");
        let endless = folder.path().join("endless");
        std::os::unix::fs::symlink(&endless, &endless).expect("a link to itself");
        let refused = |made: Result<RootKey, VaultError>| match made.expect_err("it cannot be read") {
            VaultError::KeyFile { source, .. } => source.raw_os_error(),
            other => panic!("{other}"),
        };
        const TOO_MANY_LINKS: i32 = 40;
        assert_eq!(refused(RootKey::load_or_create(&endless, &mut rand::rng())), Some(TOO_MANY_LINKS));
        let salted = RootKey::from_passphrase("four ferries at the quay", &endless, &mut rand::rng());
        assert_eq!(refused(salted), Some(TOO_MANY_LINKS));
    }

    #[test]
    fn a_file_that_is_no_key_is_refused() {
        let folder = tempfile::tempdir().expect("folder");
        let path = folder.path().join("root.key");
        fs::write(&path, "short").expect("write");
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).expect("chmod");
        assert!(matches!(RootKey::load_or_create(&path, &mut rand::rng()), Err(VaultError::NotAKey(_))));
    }
}
