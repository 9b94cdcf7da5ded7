//! Pieces of a job in files: written whole or not at all, and found again
//! after whatever end of the service.
//!
//! A piece is a file of sound as its engine sent it, and beside it a note of
//! what it is. The note comes last: what has one is whole.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_core::Word;
use dispatcher_engines::{AudioStream, EngineError};
use dispatcher_store::StoredJobPiece;
use futures::StreamExt as _;
use serde::{Deserialize, Serialize};
use tokio::io::AsyncWriteExt as _;
use tokio::sync::{broadcast, mpsc};
use tokio_util::io::ReaderStream;
use tokio_util::sync::CancellationToken;

use crate::dispatch::attempt::{Called, broken};
use crate::{GatewayError, PlannedCall, now_micros};

/// What the names of half-written files begin with.
pub(super) const ASIDE: &str = ".tmp";
/// Bytes read from a kept piece at once.
const CHUNK: usize = 64 << 10;

/// A piece that is made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct StoredPiece {
    piece: usize,
    /// As [`crate::dispatch::fingerprint::of_segment`].
    fingerprint: String,
    /// The candidate whose render plan it belongs to, as `engine/voice`.
    lead: String,
    /// Who made it.
    pub(crate) engine: String,
    pub(crate) format: Format,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) words: Vec<Word>,
}

/// Where the pieces of a track lie, and what its file says of itself.
#[derive(Debug, Clone)]
pub(super) struct TrackFolder {
    pub(super) folder: PathBuf,
    pub(super) job: String,
    /// From 0.
    pub(super) track: usize,
    pub(super) tags: TrackTags,
}

/// What the file of a track says of itself.
#[derive(Debug, Clone, Default)]
pub(crate) struct TrackTags {
    pub(crate) title: Option<String>,
    /// Its number among all, such as `3/12`.
    pub(crate) track: Option<String>,
}

/// The pieces of one track of a job.
pub(crate) struct PieceStore {
    pub(crate) job: String,
    track: usize,
    pub(crate) tags: TrackTags,
    folder: PathBuf,
    stored: HashMap<usize, StoredPiece>,
    recorded: HashSet<usize>,
    /// No further piece is begun once this is set.
    pub(crate) pause: CancellationToken,
    changes: broadcast::Sender<String>,
    /// Closed once nobody works with these pieces any more.
    _at_work: mpsc::Sender<()>,
}

/// A piece on its way into its file.
pub(crate) struct OpenPiece<'k> {
    piece_store: &'k PieceStore,
    file: tokio::fs::File,
    path: tempfile::TempPath,
}

impl StoredPiece {
    pub(crate) fn of(lead: &PlannedCall, speaker: &PlannedCall, piece: usize, fingerprint: String) -> StoredPiece {
        StoredPiece {
            piece,
            fingerprint,
            lead: lead.voice_id().unwrap_or_default(),
            engine: speaker.engine_name().to_owned(),
            format: speaker.format.format,
            words: Vec::new(),
        }
    }

    /// With the times that its engine reported.
    pub(crate) fn with(self, words: Vec<Word>) -> StoredPiece {
        StoredPiece { words, ..self }
    }

    /// Its sound, as if its engine gave it again.
    pub(crate) async fn open(&self, piece_store: &PieceStore) -> std::io::Result<Called> {
        let file = tokio::fs::File::open(piece_store.path(self.piece, "sound")).await?;
        let chunks = ReaderStream::with_capacity(file, CHUNK);
        let stream: AudioStream =
            Box::pin(chunks.map(|chunk| chunk.map_err(|error| -> EngineError { broken(&error) })));
        let words = Arc::new(parking_lot::Mutex::new(self.words.clone()));
        Ok(Called { stream, words, begun: Instant::now(), _permit: None })
    }
}

impl PieceStore {
    /// The pieces of a track that lie in a folder; `rows` are those that are
    /// recorded. The receiver ends once nobody works with them any more.
    pub(super) async fn open(
        place: TrackFolder,
        rows: &[StoredJobPiece],
        pause: CancellationToken,
        changes: broadcast::Sender<String>,
    ) -> std::io::Result<(Arc<PieceStore>, mpsc::Receiver<()>)> {
        let TrackFolder { folder, job, track, tags } = place;
        tokio::fs::create_dir_all(&folder).await?;
        let mut stored = HashMap::new();
        let mut entries = tokio::fs::read_dir(&folder).await?;
        let prefix = format!("{track}-");
        while let Some(entry) = entries.next_entry().await? {
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.starts_with(ASIDE) {
                // Of a run that was killed: nobody works on this job but us.
                let _ = tokio::fs::remove_file(entry.path()).await;
                continue;
            }
            if !name.starts_with(&prefix) || !name.ends_with(".json") {
                continue;
            }
            let note = tokio::fs::read(entry.path()).await?;
            match serde_json::from_slice::<StoredPiece>(&note) {
                Ok(piece) => drop(stored.insert(piece.piece, piece)),
                Err(error) => tracing::warn!(%job, %name, %error, "a kept piece cannot be read and is made again"),
            }
        }
        let own = rows.iter().filter(|row| usize::try_from(row.track) == Ok(track));
        let recorded = own.filter_map(|row| usize::try_from(row.piece).ok()).collect();
        let (_at_work, released) = mpsc::channel(1);
        let piece_store = PieceStore { job, track, tags, folder, stored, recorded, pause, changes, _at_work };
        Ok((Arc::new(piece_store), released))
    }

    fn path(&self, piece: usize, extension: &str) -> PathBuf {
        self.folder.join(format!("{}-{piece}.{extension}", self.track))
    }

    /// The candidate that has made pieces before.
    pub(crate) fn lead(&self) -> Option<&str> {
        self.stored.values().map(|stored| stored.lead.as_str()).next()
    }

    /// A piece that is made already.
    pub(crate) fn stored(&self, piece: usize, fingerprint: &str) -> Option<&StoredPiece> {
        self.stored.get(&piece).filter(|stored| stored.fingerprint == fingerprint)
    }

    /// Whether the records know of it.
    pub(crate) fn is_recorded(&self, piece: usize) -> bool {
        self.recorded.contains(&piece)
    }

    pub(crate) fn row(
        &self,
        piece: usize,
        fingerprint: &str,
        engine: &str,
        dispatch: &str,
        audio_ms: u64,
    ) -> StoredJobPiece {
        let number = |value: usize| i64::try_from(value).unwrap_or(i64::MAX);
        StoredJobPiece {
            job: self.job.clone(),
            track: number(self.track),
            piece: number(piece),
            fingerprint: fingerprint.to_owned(),
            engine: engine.to_owned(),
            dispatch: dispatch.to_owned(),
            audio_ms: i64::try_from(audio_ms).unwrap_or(i64::MAX),
            made_at: now_micros(),
        }
    }

    /// Says that the job has come further.
    pub(crate) fn tell(&self) {
        // Nobody may be listening.
        let _ = self.changes.send(self.job.clone());
    }

    #[expect(clippy::unused_self, reason = "says whose failure it is")]
    pub(crate) fn failed(&self, source: std::io::Error) -> GatewayError {
        GatewayError::Files { what: "a piece of a job", source }
    }

    pub(crate) async fn begin(&self) -> std::io::Result<OpenPiece<'_>> {
        let (file, path) = tempfile::NamedTempFile::new_in(&self.folder)?.into_parts();
        Ok(OpenPiece { piece_store: self, file: tokio::fs::File::from_std(file), path })
    }
}

impl OpenPiece<'_> {
    pub(crate) async fn write(&mut self, bytes: &Bytes) -> std::io::Result<()> {
        self.file.write_all(bytes).await
    }

    /// All of it is there: from now on it outlives the machine.
    pub(crate) async fn commit(mut self, stored: StoredPiece) -> std::io::Result<StoredPiece> {
        self.file.flush().await?;
        self.file.sync_all().await?;
        let sound = self.piece_store.path(stored.piece, "sound");
        let note = self.piece_store.path(stored.piece, "json");
        let text = serde_json::to_vec(&stored)?;
        let path = self.path;
        let folder = self.piece_store.folder.clone();
        let write = move || {
            path.persist(sound).map_err(|error| error.error)?;
            put(&folder, &note, &text)
        };
        tokio::task::spawn_blocking(write).await.map_err(std::io::Error::other)??;
        Ok(stored)
    }
}

/// The same off the async threads, for a name in a folder.
pub(super) async fn put_aside(folder: PathBuf, name: String, bytes: Vec<u8>) -> std::io::Result<()> {
    let write = move || put(&folder, &folder.join(name), &bytes);
    tokio::task::spawn_blocking(write).await.map_err(std::io::Error::other)?
}

/// Writes a file aside, syncs it and gives it its name.
fn put(folder: &Path, path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    use std::io::Write as _;
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(bytes)?;
    file.as_file().sync_all()?;
    file.persist(path).map_err(|error| error.error)?;
    std::fs::File::open(folder)?.sync_all()
}

#[cfg(test)]
mod tests {
    use dispatcher_audio::Codec;

    use super::*;

    #[tokio::test]
    async fn a_piece_is_found_again_by_what_it_says_and_not_by_its_number_alone() {
        let folder = tempfile::tempdir().expect("folder");
        let tags = TrackTags::default();
        let place = TrackFolder { folder: folder.path().into(), job: "j".into(), track: 0, tags };
        let open = || PieceStore::open(place.clone(), &[], CancellationToken::new(), broadcast::channel(1).0);
        let (piece_store, _released) = open().await.expect("opened");
        let mut file = piece_store.begin().await.expect("begun");
        file.write(&Bytes::from_static(b"abcd")).await.expect("written");
        let stored = StoredPiece {
            piece: 3,
            fingerprint: "key of one text".into(),
            lead: "heron/pellin".into(),
            engine: "heron".into(),
            format: Format::new(Codec::Pcm, 24_000),
            words: Vec::new(),
        };
        file.commit(stored).await.expect("kept");
        let (again, _released) = open().await.expect("opened again");
        assert!(again.stored(3, "key of one text").is_some());
        assert!(again.stored(3, "key of another text").is_none(), "its text has changed: it is made anew");
        assert!(again.stored(2, "key of one text").is_none());
    }

    #[tokio::test]
    async fn what_a_crash_left_half_written_is_removed() {
        let folder = tempfile::tempdir().expect("folder");
        std::fs::write(folder.path().join(".tmpAb12Cd"), "half").expect("written");
        std::fs::write(folder.path().join("0-1.sound"), "whole").expect("written");
        let place = TrackFolder { folder: folder.path().into(), job: "j".into(), track: 0, tags: TrackTags::default() };
        PieceStore::open(place, &[], CancellationToken::new(), broadcast::channel(1).0).await.expect("opened");
        let left: Vec<_> =
            std::fs::read_dir(folder.path()).expect("read").map(|e| e.expect("entry").file_name()).collect();
        assert_eq!(left, ["0-1.sound"]);
    }
}
