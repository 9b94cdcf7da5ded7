//! Large bodies that come in parts and may be resumed: each is a file that
//! grows, and a note of its owner. They are removed a day after their last part,
//! or after the days of their rule of retention.
//!
//! One request at a time works on an upload; a second one is refused, so that
//! two parts never mix.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use dispatcher_engines::AudioSource;
use dispatcher_gateway::{ErasureMode, ErasureScope, Gateway, GatewayError, RetentionKind, StorageRoom};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};

use crate::body::unread;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::{create_private, storage_problem};

/// After so many days without a part an upload goes, unless a rule says otherwise.
const KEEP_DAYS: u32 = 1;
const DAY: Duration = Duration::from_secs(24 * 3_600);
/// Interval between removals of old uploads.
const SWEEP: Duration = Duration::from_secs(3_600);
/// Uploads of one app at once.
const MOST: usize = 200;

/// The folder of the uploads, and how large they may become.
#[derive(Debug, Clone)]
pub(crate) struct Uploads {
    folder: PathBuf,
    /// Bytes of one upload.
    pub(crate) limit: u64,
    room: StorageRoom,
    /// Ids of the uploads that a request works on.
    busy: Arc<Mutex<HashSet<String>>>,
}

/// The right to work on an upload, until it is dropped.
struct Hold {
    id: String,
    busy: Arc<Mutex<HashSet<String>>>,
}

impl Drop for Hold {
    fn drop(&mut self) {
        self.busy.lock().remove(&self.id);
    }
}

/// An upload that a request uses. Its files stay until [`Claimed::consume`],
/// so that a request that is refused leaves the upload as it was.
pub(crate) struct Claimed {
    pub(crate) upload: Upload,
    pub(crate) source: AudioSource,
    uploads: Uploads,
    hold: Hold,
}

impl Claimed {
    /// The request was accepted: the upload is used up.
    pub(crate) async fn consume(self) {
        self.uploads.drop_files(&self.hold.id).await;
    }
}

/// What is known of an upload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Upload {
    pub(crate) app: String,
    /// For whom it was sent.
    #[serde(default)]
    pub(crate) end_user: Option<String>,
    /// The media type of the whole.
    pub(crate) media_type: String,
    /// The file's name, where its sender said it.
    pub(crate) name: Option<String>,
    pub(crate) complete: bool,
}

fn failed(error: &std::io::Error) -> Problem {
    storage_problem(error, "the upload")
}

fn missing(id: &str) -> Problem {
    Problem::new(
        ProblemKind::NoSuchRecord,
        format!("there is no upload '{id}'; one that nobody uses is removed some time after its last part"),
    )
}

impl Uploads {
    pub(crate) fn new(folder: PathBuf, limit: u64, room: StorageRoom) -> Self {
        Uploads { folder, limit, room, busy: Arc::default() }
    }

    /// Takes the right to work on an upload.
    fn hold(&self, id: &str) -> Result<Hold, Problem> {
        if self.busy.lock().insert(id.to_owned()) {
            return Ok(Hold { id: id.to_owned(), busy: self.busy.clone() });
        }
        let detail = "another request works on this upload; ask how far it is with HEAD once that has ended";
        Err(Problem::new(ProblemKind::InProgress, detail))
    }

    fn note(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.json"))
    }

    fn body(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.body"))
    }

    /// Begins an upload; gives its id.
    pub(crate) async fn begin(&self, upload: &Upload) -> Result<String, Problem> {
        self.room.check()?;
        let (count, _) = self.of_app(&upload.app).await;
        if count >= MOST {
            return Err(Problem::new(
                ProblemKind::Quota,
                format!("an app has at most {MOST} uploads at once; drop some first"),
            ));
        }
        let id = uuid::Uuid::now_v7().simple().to_string();
        create_private(&self.folder).await.map_err(|error| failed(&error))?;
        tokio::fs::write(self.body(&id), b"").await.map_err(|error| failed(&error))?;
        self.write(&id, upload).await?;
        Ok(id)
    }

    async fn write(&self, id: &str, upload: &Upload) -> Result<(), Problem> {
        let note =
            serde_json::to_vec(upload).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        tokio::fs::write(self.note(id), note).await.map_err(|error| failed(&error))
    }

    /// An upload of an app, and how many bytes of it are here.
    pub(crate) async fn find(&self, id: &str, app: &str) -> Result<(Upload, u64), Problem> {
        // Ids are ours: anything else is no name of a file.
        if id.len() != 32 || !id.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(missing(id));
        }
        let note = tokio::fs::read(self.note(id)).await.map_err(|_| missing(id))?;
        let upload: Upload = serde_json::from_slice(&note).map_err(|_| missing(id))?;
        let body = tokio::fs::metadata(self.body(id)).await.map_err(|_| missing(id))?;
        if upload.app != app {
            return Err(missing(id));
        }
        Ok((upload, body.len()))
    }

    /// Takes a part that begins at an offset; gives how many bytes are here.
    /// What came before a connection broke stays.
    pub(crate) async fn append(
        &self,
        id: &str,
        app: &str,
        offset: u64,
        complete: bool,
        mut part: impl AsyncRead + Unpin,
    ) -> Result<u64, Problem> {
        self.find(id, app).await?;
        let _hold = self.hold(id)?;
        let (upload, here) = self.find(id, app).await?;
        if upload.complete {
            return Err(Problem::new(ProblemKind::Invalid, "the upload is complete already"));
        }
        if offset != here {
            let detail = format!("the part begins at {offset}, and {here} bytes are here; go on from there");
            return Err(Problem { status: 409, ..Problem::new(ProblemKind::Invalid, detail) });
        }
        let open = tokio::fs::OpenOptions::new().append(true).open(self.body(id)).await;
        let mut file = open.map_err(|error| failed(&error))?;
        let mut total = here;
        let (_, kept) = self.of_app(app).await;
        let most = self.limit.min(self.room.quota.saturating_sub(kept - here.min(kept)));
        let mut chunk = vec![0; 64 << 10];
        loop {
            let count = match part.read(&mut chunk).await {
                Ok(count) => count,
                Err(error) => {
                    // The error of the connection is reported; the length on the disk counts.
                    let _ = file.flush().await;
                    return Err(unread(&error));
                }
            };
            if count == 0 {
                break;
            }
            total += count as u64;
            if total > self.limit {
                let detail = format!("an upload has at most {} bytes", self.limit);
                return Err(Problem::new(ProblemKind::TooLarge, detail));
            }
            if total > most {
                return Err(GatewayError::Quota { what: "uploads", most: self.room.quota }.into());
            }
            self.room.check()?;
            file.write_all(&chunk[..count]).await.map_err(|error| failed(&error))?;
        }
        file.flush().await.map_err(|error| failed(&error))?;
        if complete {
            self.write(id, &Upload { complete, ..upload }).await?;
        }
        Ok(total)
    }

    /// Removes an upload.
    pub(crate) async fn remove(&self, id: &str, app: &str) -> Result<(), Problem> {
        self.find(id, app).await?;
        let _hold = self.hold(id)?;
        self.drop_files(id).await;
        Ok(())
    }

    async fn drop_files(&self, id: &str) {
        for path in [self.note(id), self.body(id)] {
            // Swept later where it stays.
            let _ = tokio::fs::remove_file(path).await;
        }
    }

    /// A complete upload, for one request to use. The source is a file of its
    /// own, which stays readable after [`Claimed::consume`].
    pub(crate) async fn claim(&self, id: &str, app: &str) -> Result<Claimed, Problem> {
        self.find(id, app).await?;
        let hold = self.hold(id)?;
        let (upload, _) = self.find(id, app).await?;
        if !upload.complete {
            return Err(Problem::new(ProblemKind::NotReady, "the upload is not complete; send its last part first"));
        }
        let claimed = self.folder.join(format!("{id}.claimed"));
        // A request that a crash ended has left its own.
        let _ = tokio::fs::remove_file(&claimed).await;
        tokio::fs::hard_link(self.body(id), &claimed).await.map_err(|error| failed(&error))?;
        let path = tempfile::TempPath::try_from_path(claimed).map_err(|error| failed(&error))?;
        Ok(Claimed { upload, source: AudioSource::File(Arc::new(path)), uploads: self.clone(), hold })
    }

    async fn ids(&self) -> Vec<(String, Option<SystemTime>)> {
        let mut found = Vec::new();
        let Ok(mut entries) = tokio::fs::read_dir(&self.folder).await else { return found };
        while let Ok(Some(entry)) = entries.next_entry().await {
            let name = entry.file_name().to_string_lossy().into_owned();
            if let Some(id) = name.strip_suffix(".body") {
                let changed = entry.metadata().await.ok().and_then(|metadata| metadata.modified().ok());
                found.push((id.to_owned(), changed));
            }
        }
        found
    }

    /// How many uploads an app has, and their bytes.
    async fn of_app(&self, app: &str) -> (usize, u64) {
        let (mut count, mut total) = (0, 0);
        for (id, _) in self.ids().await {
            if let Ok((_, bytes)) = self.find(&id, app).await {
                (count, total) = (count + 1, total + bytes);
            }
        }
        (count, total)
    }

    /// Removes uploads whose last part is older than some days, or counts them.
    pub(crate) async fn remove_older(&self, days: u32, mode: ErasureMode) -> usize {
        let old = |changed: &Option<SystemTime>| {
            changed.and_then(|changed| changed.elapsed().ok()).is_some_and(|age| age > DAY * days)
        };
        let ids = self.ids().await.into_iter().filter(|(_, changed)| old(changed)).map(|(id, _)| id);
        self.remove_all(ids.collect(), mode).await
    }

    /// Removes the uploads of an app or of one of its end users, or counts them.
    pub(crate) async fn erase(&self, scope: &ErasureScope, mode: ErasureMode) -> usize {
        let mut ids = Vec::new();
        for (id, _) in self.ids().await {
            let Ok((upload, _)) = self.find(&id, &scope.app).await else { continue };
            if scope.end_user.is_none() || upload.end_user == scope.end_user {
                ids.push(id);
            }
        }
        self.remove_all(ids, mode).await
    }

    /// Those that a request works on stay.
    async fn remove_all(&self, ids: Vec<String>, mode: ErasureMode) -> usize {
        let mut count = 0;
        for id in ids {
            let Ok(_hold) = self.hold(&id) else { continue };
            if mode == ErasureMode::Erase {
                self.drop_files(&id).await;
            }
            count += 1;
        }
        count
    }

    /// Removes old uploads now and every hour.
    pub(crate) async fn look_after(self, gateway: Gateway) {
        loop {
            match gateway.retention_days(RetentionKind::Uploads).await {
                Ok(days) => {
                    let removed = self.remove_older(days.unwrap_or(KEEP_DAYS), ErasureMode::Erase).await;
                    if removed > 0 {
                        tracing::info!(removed, "uploads were removed by their age");
                    }
                }
                Err(error) => tracing::warn!(%error, "old uploads were not removed"),
            }
            tokio::time::sleep(SWEEP).await;
        }
    }
}

/// The bytes of a source, where they are few.
pub(crate) async fn bytes_of(source: &AudioSource, limit: u64) -> Result<Vec<u8>, Problem> {
    let too_large = || Problem::new(ProblemKind::TooLarge, format!("a document has at most {limit} bytes"));
    match source {
        AudioSource::Memory(bytes) if bytes.len() as u64 <= limit => Ok(bytes.to_vec()),
        AudioSource::Memory(_) => Err(too_large()),
        AudioSource::File(path) => read_file(path, limit).await?.ok_or_else(too_large),
    }
}

async fn read_file(path: &Path, limit: u64) -> Result<Option<Vec<u8>>, Problem> {
    let file = tokio::fs::File::open(path).await.map_err(|error| failed(&error))?;
    let mut bytes = Vec::new();
    file.take(limit + 1).read_to_end(&mut bytes).await.map_err(|error| failed(&error))?;
    Ok((bytes.len() as u64 <= limit).then_some(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn upload(app: &str) -> Upload {
        let end_user = Some(format!("{app}-passenger"));
        Upload { app: app.into(), end_user, media_type: "audio/wav".into(), name: None, complete: false }
    }

    fn uploads(limit: u64, quota: u64) -> (tempfile::TempDir, Uploads) {
        let folder = tempfile::tempdir().expect("folder");
        let room = StorageRoom { folder: folder.path().into(), reserve: 0, quota };
        let uploads = Uploads::new(folder.path().join("uploads"), limit, room);
        (folder, uploads)
    }

    #[tokio::test]
    async fn parts_are_put_one_behind_the_other_and_a_gap_is_refused() {
        let (folder, uploads) = uploads(10, 100);
        let id = uploads.begin(&upload("quay")).await.expect("begun");
        assert_eq!(uploads.append(&id, "quay", 0, false, &b"abc"[..]).await.expect("a part"), 3);
        let gap = uploads.append(&id, "quay", 5, false, &b"x"[..]).await.expect_err("a gap");
        assert!(gap.status == 409 && gap.detail.contains("3 bytes are here"), "{}", gap.detail);
        assert!(uploads.find(&id, "other").await.is_err(), "another app's");
        assert!(uploads.find("../../etc/passwd", "quay").await.is_err());
        assert_eq!(uploads.claim(&id, "quay").await.err().expect("not whole").status, 409);
        assert_eq!(uploads.append(&id, "quay", 3, true, &b"de"[..]).await.expect("the last"), 5);
        assert!(uploads.append(&id, "quay", 5, false, &b"f"[..]).await.is_err(), "nothing comes after");
        let claimed = uploads.claim(&id, "quay").await.expect("claimed");
        assert_eq!(bytes_of(&claimed.source, 100).await.expect("bytes"), b"abcde");
        assert!(bytes_of(&claimed.source, 4).await.is_err());
        let source = claimed.source.clone();
        claimed.consume().await;
        assert_eq!(uploads.find(&id, "quay").await.expect_err("used up").status, 404);
        assert_eq!(bytes_of(&source, 100).await.expect("still readable"), b"abcde");
        drop(source);
        assert_eq!(std::fs::read_dir(folder.path().join("uploads")).expect("folder").count(), 0);
        let id = uploads.begin(&upload("quay")).await.expect("begun");
        assert_eq!(uploads.append(&id, "quay", 0, false, &[0; 11][..]).await.expect_err("too large").status, 413);
    }

    #[tokio::test]
    async fn a_refused_request_leaves_its_upload_to_be_used_again() {
        let (_folder, uploads) = uploads(10, 100);
        let id = uploads.begin(&upload("quay")).await.expect("begun");
        uploads.append(&id, "quay", 0, true, &b"abc"[..]).await.expect("whole");
        drop(uploads.claim(&id, "quay").await.expect("claimed by a request that is refused"));
        let again = uploads.claim(&id, "quay").await.expect("claimed again");
        assert_eq!(bytes_of(&again.source, 100).await.expect("bytes"), b"abc");
        assert_eq!(uploads.claim(&id, "quay").await.err().expect("in use").status, 409, "two jobs of one upload");
    }

    #[tokio::test]
    async fn two_parts_at_one_offset_never_mix() {
        use tokio::io::AsyncWriteExt as _;
        let (_folder, uploads) = uploads(100, 1_000);
        let id = uploads.begin(&upload("quay")).await.expect("begun");
        let (mut sender, slow) = tokio::io::duplex(64);
        let first = tokio::spawn({
            let (uploads, id) = (uploads.clone(), id.clone());
            async move { uploads.append(&id, "quay", 0, false, slow).await }
        });
        sender.write_all(b"aaaa").await.expect("room");
        while uploads.find(&id, "quay").await.expect("found").1 < 4 {
            tokio::task::yield_now().await;
        }
        let second = uploads.append(&id, "quay", 4, true, &b"bbbb"[..]).await.expect_err("while the first runs");
        assert_eq!(second.status, 409);
        sender.write_all(b"AAAA").await.expect("room");
        drop(sender);
        assert_eq!(first.await.expect("ran").expect("whole"), 8);
        uploads.append(&id, "quay", 8, true, &b""[..]).await.expect("completed");
        let claimed = uploads.claim(&id, "quay").await.expect("claimed");
        assert_eq!(bytes_of(&claimed.source, 100).await.expect("bytes"), b"aaaaAAAA");
    }

    #[tokio::test]
    async fn the_uploads_of_an_app_have_a_quota_in_bytes() {
        let (_folder, uploads) = uploads(10, 15);
        for (app, bytes, status) in [("quay", 10, None), ("quay", 6, Some(507)), ("help", 10, None)] {
            let id = uploads.begin(&upload(app)).await.expect("begun");
            let part = vec![0; bytes];
            let outcome = uploads.append(&id, app, 0, true, part.as_slice()).await;
            assert_eq!(outcome.err().map(|problem| problem.status), status, "{app} {bytes}");
        }
    }

    #[tokio::test]
    async fn uploads_go_by_their_age_and_on_request_but_not_while_one_is_used() {
        use ErasureMode::{Count, Erase};
        let (folder, uploads) = uploads(10, 100);
        let mut ids = Vec::new();
        for (app, days) in [("quay", 0), ("quay", 3), ("quay", 5), ("help", 5)] {
            let id = uploads.begin(&upload(app)).await.expect("begun");
            uploads.append(&id, app, 0, true, &b"abc"[..]).await.expect("a part");
            let body = std::fs::File::options().write(true).open(uploads.body(&id)).expect("a file");
            body.set_modified(SystemTime::now() - DAY * days - SWEEP).expect("a time");
            ids.push(id);
        }
        assert_eq!((uploads.remove_older(4, Count).await, uploads.ids().await.len()), (2, 4));
        let used = uploads.claim(&ids[2], "quay").await.expect("claimed");
        assert_eq!((uploads.remove_older(4, Erase).await, uploads.ids().await.len()), (1, 3), "one is in use");
        drop(used);
        assert_eq!((uploads.remove_older(3, Erase).await, uploads.ids().await.len()), (2, 1));
        let scope = |user: Option<&str>| ErasureScope { app: "quay".into(), end_user: user.map(str::to_owned) };
        assert_eq!(uploads.erase(&scope(Some("somebody-else")), Erase).await, 0);
        assert_eq!(uploads.erase(&scope(Some("quay-passenger")), Erase).await, 1);
        assert_eq!(std::fs::read_dir(folder.path().join("uploads")).expect("folder").count(), 0);
        uploads.begin(&upload("quay")).await.expect("begun");
        assert_eq!((uploads.erase(&scope(None), Count).await, uploads.erase(&scope(None), Erase).await), (1, 1));
    }

    #[tokio::test]
    async fn nothing_is_taken_where_the_disk_is_nearly_full() {
        let folder = tempfile::tempdir().expect("folder");
        let room = StorageRoom { folder: folder.path().into(), reserve: u64::MAX, quota: 100 };
        let uploads = Uploads::new(folder.path().join("uploads"), 10, room);
        assert_eq!(uploads.begin(&upload("quay")).await.expect_err("no room").status, 507);
    }
}
