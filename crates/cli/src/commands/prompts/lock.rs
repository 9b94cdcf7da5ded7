//! What was made of each prompt, kept beside the files.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::error::CliError;

/// The name of the file in the folder of the prompts.
const NAME: &str = "prompts.lock.json";

/// One file that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct LockedFile {
    /// `Dispatch-Fingerprint`: another where it would fingerprint otherwise now.
    pub(super) fingerprint: String,
    pub(super) file: String,
    pub(super) dispatch: String,
    /// Somebody has heard it and found it good.
    #[serde(default)]
    pub(super) approved: bool,
}

/// By id and format.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Lock {
    pub(super) made: BTreeMap<String, BTreeMap<String, LockedFile>>,
}

impl Lock {
    /// What is known of a folder; empty if it has no lock file.
    pub(super) fn open(folder: &Path) -> Result<Lock, CliError> {
        let path = folder.join(NAME);
        match std::fs::read(&path) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| {
                CliError::Failed(format!("{} cannot be read ({error}); move it away to begin anew", path.display()))
            }),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Lock::default()),
            Err(source) => Err(CliError::File { path, source }),
        }
    }

    /// Written aside and renamed: a break leaves the former one.
    pub(super) fn save(&self, folder: &Path) -> Result<(), CliError> {
        let path = folder.join(NAME);
        let failed = |source| CliError::File { path: path.clone(), source };
        let aside = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
        serde_json::to_writer_pretty(&aside, self).map_err(|error| failed(error.into()))?;
        crate::files::persist(aside, &path, crate::files::Existing::Overwritten)
    }

    pub(super) fn get(&self, id: &str, format: &str) -> Option<&LockedFile> {
        self.made.get(id)?.get(format)
    }

    pub(super) fn put(&mut self, id: &str, format: &str, made: LockedFile) {
        self.made.entry(id.to_owned()).or_default().insert(format.to_owned(), made);
    }
}

/// Path of a file.
pub(super) fn place(folder: &Path, made: &LockedFile) -> PathBuf {
    folder.join(&made.file)
}
