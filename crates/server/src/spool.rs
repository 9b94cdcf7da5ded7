//! Bodies: small ones in memory, large ones in a file, never more than allowed.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use dispatcher_engines::AudioSource;
use dispatcher_gateway::StorageRoom;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};

use crate::body::{RequestBody, too_large, unread};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// Audio up to this stays in memory: half a minute at 24 kHz.
const IN_MEMORY: usize = 256 << 10;

/// Where bodies go and how large they may be.
#[derive(Debug, Clone)]
pub(crate) struct Spool {
    pub(crate) folder: PathBuf,
    pub(crate) limit: u64,
    pub(crate) room: StorageRoom,
}

impl Spool {
    /// Refuses a copy of files for which there is no room.
    pub(crate) fn check_room_for(&self, files: &[(String, PathBuf)]) -> Result<(), Problem> {
        let bytes: u64 = files.iter().filter_map(|(_, path)| path.metadata().ok()).map(|file| file.len()).sum();
        StorageRoom { reserve: self.room.reserve.saturating_add(bytes), ..self.room.clone() }.check()?;
        Ok(())
    }

    /// Takes a raw body.
    pub(crate) async fn take(&self, body: RequestBody<'_>) -> Result<AudioSource, Problem> {
        self.take_from(body.open(self.limit)?).await
    }

    /// Takes bytes from a reader until it ends.
    pub(crate) async fn take_from(&self, mut reader: impl AsyncRead + Unpin) -> Result<AudioSource, Problem> {
        let mut sink = Sink::new(self.clone());
        let mut chunk = BytesMut::with_capacity(64 << 10);
        loop {
            chunk.reserve(64 << 10);
            let count = reader.read_buf(&mut chunk).await.map_err(|error| unread(&error))?;
            if count == 0 {
                return sink.finish().await;
            }
            sink.push(&chunk.split()).await?;
        }
    }
}

/// Takes bytes piece by piece.
pub(crate) struct Sink {
    spool: Spool,
    memory: Vec<u8>,
    file: Option<(tokio::fs::File, tempfile::TempPath)>,
    length: u64,
}

impl Sink {
    pub(crate) fn new(spool: Spool) -> Self {
        Sink { spool, memory: Vec::new(), file: None, length: 0 }
    }

    pub(crate) async fn push(&mut self, bytes: &[u8]) -> Result<(), Problem> {
        self.length += bytes.len() as u64;
        if self.length > self.spool.limit {
            return Err(too_large(self.spool.limit));
        }
        if self.file.is_none() && self.memory.len() + bytes.len() <= IN_MEMORY {
            self.memory.extend_from_slice(bytes);
            return Ok(());
        }
        if self.file.is_none() {
            let (file, path) = open(&self.spool.folder)?;
            self.file = Some((file, path));
            let held = std::mem::take(&mut self.memory);
            self.write(&held).await?;
        }
        self.write(bytes).await
    }

    async fn write(&mut self, bytes: &[u8]) -> Result<(), Problem> {
        self.spool.room.check()?;
        match &mut self.file {
            Some((file, _)) => file.write_all(bytes).await.map_err(|error| no_room(&error)),
            None => Ok(()),
        }
    }

    pub(crate) async fn finish(mut self) -> Result<AudioSource, Problem> {
        match self.file.take() {
            None => Ok(AudioSource::Memory(Bytes::from(self.memory))),
            Some((mut file, path)) => {
                file.flush().await.map_err(|error| no_room(&error))?;
                Ok(AudioSource::File(Arc::new(path)))
            }
        }
    }
}

fn open(folder: &Path) -> Result<(tokio::fs::File, tempfile::TempPath), Problem> {
    let (file, path) = tempfile::NamedTempFile::new_in(folder).map_err(|error| no_room(&error))?.into_parts();
    Ok((tokio::fs::File::from_std(file), path))
}

/// The problem of a file that cannot be written: 507 where the disk is full.
pub(crate) fn storage_problem(error: &std::io::Error, what: &str) -> Problem {
    tracing::error!(%error, "{what} cannot be written to the data folder");
    match error.kind() {
        std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => Problem::new(
            ProblemKind::NoRoom,
            format!("{what} could not be written: the disk of the data folder is full"),
        ),
        _ => Problem::new(ProblemKind::Internal, format!("{what} could not be written to the data folder")),
    }
}

/// Creates a folder for the service's own user alone.
pub(crate) async fn create_private(folder: &Path) -> std::io::Result<()> {
    tokio::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).await
}

fn no_room(error: &std::io::Error) -> Problem {
    storage_problem(error, "the body")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn spool(limit: u64) -> (tempfile::TempDir, Spool) {
        let folder = tempfile::tempdir().expect("a folder");
        let room = StorageRoom { folder: folder.path().into(), reserve: 0, quota: u64::MAX };
        let spool = Spool { folder: folder.path().into(), limit, room };
        (folder, spool)
    }

    #[tokio::test]
    async fn small_bodies_stay_in_memory_and_large_ones_become_a_file_that_goes_with_them() {
        let (folder, spool) = spool(10 << 20);
        let small = vec![7u8; IN_MEMORY];
        match spool.take_from(small.as_slice()).await.expect("taken") {
            AudioSource::Memory(bytes) => assert_eq!(bytes, small),
            AudioSource::File(_) => panic!("it was written out"),
        }
        let large: Vec<u8> = (0..IN_MEMORY as u32 * 4 + 1).map(|n| (n % 251) as u8).collect();
        match spool.take_from(large.as_slice()).await.expect("taken") {
            AudioSource::Memory(_) => panic!("it was held"),
            AudioSource::File(path) => assert!(std::fs::read(&**path).expect("a file") == large, "byte for byte"),
        }
        assert_eq!(std::fs::read_dir(folder.path()).expect("a folder").count(), 0, "nothing is left behind");
    }

    #[tokio::test]
    async fn what_the_disk_has_no_room_for_is_507_and_other_faults_are_ours() {
        let (_folder, mut spool) = spool(10 << 20);
        spool.room.reserve = u64::MAX;
        let problem = spool.take_from(vec![0; IN_MEMORY + 1].as_slice()).await.expect_err("no room");
        assert_eq!(problem.status, 507);
        let status = |kind: std::io::ErrorKind| storage_problem(&kind.into(), "it").status;
        assert_eq!(status(std::io::ErrorKind::StorageFull), 507);
        assert_eq!(status(std::io::ErrorKind::PermissionDenied), 500);
    }

    #[tokio::test]
    async fn a_body_over_the_limit_is_refused_and_leaves_nothing() {
        let (folder, spool) = spool(IN_MEMORY as u64 * 2);
        assert!(spool.take_from(vec![0; IN_MEMORY * 2].as_slice()).await.is_ok(), "exactly the limit");
        let problem = spool.take_from(vec![0; IN_MEMORY * 2 + 1].as_slice()).await.expect_err("over the limit");
        assert_eq!(serde_json::to_value(&problem).expect("JSON")["status"], 413);
        assert_eq!(std::fs::read_dir(folder.path()).expect("a folder").count(), 0);
    }
}
