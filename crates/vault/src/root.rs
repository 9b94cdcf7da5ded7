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
                let bytes = Zeroizing::new(STANDARD.decode(text.trim()).unwrap_or_default());
                let key = bytes.as_slice().try_into().map_err(|_| VaultError::NotAKey(path.into()))?;
                Ok(RootKey(Zeroizing::new(key)))
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                let key = RootKey::generate(rng);
                let text = Zeroizing::new(STANDARD.encode(key.0.as_slice()));
                let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(named)?;
                file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(named)?;
                Ok(key)
            }
            Err(error) => Err(named(error)),
        }
    }
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

        fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).expect("chmod");
        let error = RootKey::load_or_create(&path, &mut rand::rng()).expect_err("readable by the group");
        assert!(error.to_string().contains("chmod 600"), "{error}");
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
