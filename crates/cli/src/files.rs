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

/// Gives a file that was written aside its name; readable by all.
pub(crate) fn persist(aside: tempfile::NamedTempFile, path: &Path, force: bool) -> Result<(), CliError> {
    let failed = |source| CliError::File { path: path.into(), source };
    let permissions = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    aside.as_file().set_permissions(permissions).map_err(failed)?;
    let kept = if force { aside.persist(path) } else { aside.persist_noclobber(path) };
    kept.map(drop).map_err(|error| failed(error.error))
}
