//! StorageRoom on the disk: a reserve that callers cannot use up, and the bytes that
//! one app may keep.

use std::path::{Path, PathBuf};

use crate::{Gateway, GatewayError};

/// The data folder, the bytes that stay free on its file system, and the bytes
/// that one app may keep there.
#[derive(Debug, Clone)]
pub struct StorageRoom {
    pub folder: PathBuf,
    /// Bytes that stay free.
    pub reserve: u64,
    /// Bytes of all uploads of one app; the same again for its jobs.
    pub quota: u64,
}

impl StorageRoom {
    /// Bytes that the service's user may still write; `None` if that is unknown.
    pub fn free(&self) -> Option<u64> {
        let found = rustix::fs::statvfs(&self.folder).ok()?;
        Some(found.f_bavail.saturating_mul(found.f_frsize))
    }

    /// Refuses what would be written where less than the reserve is free.
    ///
    /// # Errors
    /// [`GatewayError::NoRoom`] with the bytes that are free and those that are kept.
    pub fn check(&self) -> Result<(), GatewayError> {
        match self.free() {
            Some(free) if free < self.reserve => Err(GatewayError::NoRoom { free, reserve: self.reserve }),
            _ => Ok(()),
        }
    }
}

/// Bytes of all files in and below a folder; 0 if there is none.
pub(crate) fn bytes_in(folder: &Path) -> u64 {
    let Ok(entries) = std::fs::read_dir(folder) else { return 0 };
    let sizes = entries.filter_map(Result::ok).map(|entry| match entry.metadata() {
        Ok(metadata) if metadata.is_dir() => bytes_in(&entry.path()),
        Ok(metadata) => metadata.len(),
        Err(_) => 0,
    });
    sizes.sum()
}

impl Gateway {
    /// Refuses what would be written where the disk is nearly full.
    ///
    /// # Errors
    /// [`GatewayError::NoRoom`].
    pub fn check_room(&self) -> Result<(), GatewayError> {
        self.inner.host.room.as_ref().map_or(Ok(()), StorageRoom::check)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reserve_is_kept_free() {
        let room = |reserve| StorageRoom { folder: std::env::temp_dir(), reserve, quota: 0 };
        assert!(room(1).check().is_ok());
        let error = room(u64::MAX).check().expect_err("no disk has so much");
        assert!(error.to_string().contains(&u64::MAX.to_string()), "{error}");
    }

    #[test]
    fn a_folder_is_as_large_as_all_that_is_in_it() {
        let folder = tempfile::tempdir().expect("folder");
        std::fs::create_dir_all(folder.path().join("a/b")).expect("folders");
        std::fs::write(folder.path().join("one"), [0; 7]).expect("file");
        std::fs::write(folder.path().join("a/b/two"), [0; 11]).expect("file");
        assert_eq!(bytes_in(folder.path()), 18);
        assert_eq!(bytes_in(&folder.path().join("none")), 0);
    }
}
