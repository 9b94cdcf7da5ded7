//! Files that commands write: whole or not at all.

use std::io::{Read as _, Seek as _, Write as _};
use std::path::Path;

use crate::error::CliError;

/// A file can say its true length, which a stream could not.
pub(crate) fn mend(path: &Path) -> std::io::Result<()> {
    let mut file = std::fs::OpenOptions::new().read(true).write(true).open(path)?;
    let length = file.metadata()?.len();
    let mut start = Vec::new();
    (&mut file).take(dispatcher_audio::WAV_START as u64).read_to_end(&mut start)?;
    if dispatcher_audio::mend_wav_lengths(&mut start, length) {
        file.rewind()?;
        file.write_all(&start)?;
    }
    Ok(())
}

/// The text of a file, in the encoding that it declares.
pub(crate) fn read_text(path: &Path) -> Result<String, CliError> {
    let bytes = std::fs::read(path).map_err(|source| CliError::File { path: path.into(), source })?;
    decode(&path.display().to_string(), &bytes)
}

/// Bytes as text, in the encoding that they declare; `what` they are.
pub(crate) fn decode(what: &str, bytes: &[u8]) -> Result<String, CliError> {
    let text = dispatcher_markup::decode_text(bytes, None);
    text.map(std::borrow::Cow::into_owned).map_err(|error| CliError::Failed(format!("{what}: {error}")))
}

/// What becomes of a file that is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Existing {
    Kept,
    Overwritten,
}

impl Existing {
    /// With the flag `--force` it is overwritten.
    pub(crate) fn with(force: bool) -> Existing {
        if force { Existing::Overwritten } else { Existing::Kept }
    }
}

/// Refuses a place that a file cannot be written to: before anything is
/// called and charged.
pub(crate) fn check_target(path: &Path, existing: Existing) -> Result<(), CliError> {
    if path.is_dir() {
        return Err(CliError::Usage(format!("{} is a folder; give the name of a file", path.display())));
    }
    if path.exists() && existing == Existing::Kept {
        return Err(CliError::Exists(path.into()));
    }
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !folder.is_dir() {
        return Err(CliError::Usage(format!("the folder {} does not exist; create it first", folder.display())));
    }
    tempfile::tempfile_in(folder).map(drop).map_err(|source| CliError::File { path: folder.into(), source })
}

/// Gives a file that was written aside its name; readable by all.
pub(crate) fn persist(aside: tempfile::NamedTempFile, path: &Path, existing: Existing) -> Result<(), CliError> {
    let failed = |source| CliError::File { path: path.into(), source };
    let permissions = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    aside.as_file().set_permissions(permissions).map_err(failed)?;
    let kept = match existing {
        Existing::Overwritten => aside.persist(path),
        Existing::Kept => aside.persist_noclobber(path),
    };
    kept.map(drop).map_err(|error| failed(error.error))
}
