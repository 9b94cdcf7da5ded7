//! Large bodies that come in parts and may be resumed: each is a file that
//! grows, and a note of whose it is. They go a day after their last part.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use dispatcher_engines::AudioSource;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};

use crate::problem::Problem;

/// After so long without a part an upload goes.
const KEEP: Duration = Duration::from_secs(24 * 3_600);
/// Uploads of one app at once.
const MOST: usize = 200;

/// Where uploads lie, and how large each may become.
#[derive(Debug, Clone)]
pub(crate) struct Uploads {
    pub(crate) folder: PathBuf,
    pub(crate) limit: u64,
}

/// What is known of an upload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Upload {
    pub(crate) app: String,
    /// The media type of the whole.
    pub(crate) media_type: String,
    /// The file's name, where its sender said it.
    pub(crate) name: Option<String>,
    pub(crate) complete: bool,
}

fn failed(error: &std::io::Error) -> Problem {
    tracing::error!(%error, "an upload cannot be kept");
    Problem::new("internal", "the upload could not be kept in the data folder")
}

fn missing(id: &str) -> Problem {
    Problem::new("no-such-record", format!("there is no upload '{id}'; uploads go a day after their last part"))
}

impl Uploads {
    fn note(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.json"))
    }

    fn body(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.body"))
    }

    /// Begins an upload; gives its id.
    pub(crate) async fn begin(&self, upload: &Upload) -> Result<String, Problem> {
        self.forget_old().await;
        if self.of_app(&upload.app).await >= MOST {
            return Err(Problem::new("too-large", format!("an app has at most {MOST} uploads at once")));
        }
        let id = uuid::Uuid::now_v7().simple().to_string();
        tokio::fs::create_dir_all(&self.folder).await.map_err(|error| failed(&error))?;
        tokio::fs::write(self.body(&id), b"").await.map_err(|error| failed(&error))?;
        self.write(&id, upload).await?;
        Ok(id)
    }

    async fn write(&self, id: &str, upload: &Upload) -> Result<(), Problem> {
        let note = serde_json::to_vec(upload).map_err(|error| Problem::new("internal", error.to_string()))?;
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
        let (upload, here) = self.find(id, app).await?;
        if upload.complete {
            return Err(Problem::new("invalid", "the upload is complete already"));
        }
        if offset != here {
            let detail = format!("the part begins at {offset}, and {here} bytes are here; go on from there");
            return Err(Problem { status: 409, ..Problem::new("invalid", detail) });
        }
        let open = tokio::fs::OpenOptions::new().append(true).open(self.body(id)).await;
        let mut file = open.map_err(|error| failed(&error))?;
        let mut total = here;
        let mut chunk = vec![0; 64 << 10];
        loop {
            let count = match part.read(&mut chunk).await {
                Ok(count) => count,
                Err(error) => {
                    let _ = file.flush().await;
                    return Err(Problem::new("bad-request", format!("the part broke off: {error}")));
                }
            };
            if count == 0 {
                break;
            }
            total += count as u64;
            if total > self.limit {
                let detail = format!("an upload has at most {} bytes", self.limit);
                return Err(Problem::new("too-large", detail));
            }
            file.write_all(&chunk[..count]).await.map_err(|error| failed(&error))?;
        }
        file.flush().await.map_err(|error| failed(&error))?;
        if complete {
            self.write(id, &Upload { complete, ..upload }).await?;
        }
        Ok(total)
    }

    /// Forgets an upload.
    pub(crate) async fn remove(&self, id: &str, app: &str) -> Result<(), Problem> {
        self.find(id, app).await?;
        self.drop_files(id).await;
        Ok(())
    }

    async fn drop_files(&self, id: &str) {
        for path in [self.note(id), self.body(id)] {
            let _ = tokio::fs::remove_file(path).await;
        }
    }

    /// The whole of an upload, which is forgotten with what is given.
    pub(crate) async fn take(&self, id: &str, app: &str) -> Result<(Upload, AudioSource), Problem> {
        let (upload, _) = self.find(id, app).await?;
        if !upload.complete {
            return Err(Problem::new("not-ready", "the upload is not complete; send its last part first"));
        }
        let taken = self.folder.join(format!("{id}.taken"));
        tokio::fs::rename(self.body(id), &taken).await.map_err(|error| failed(&error))?;
        self.drop_files(id).await;
        let path = tempfile::TempPath::try_from_path(taken).map_err(|error| failed(&error))?;
        Ok((upload, AudioSource::File(std::sync::Arc::new(path))))
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

    async fn of_app(&self, app: &str) -> usize {
        let mut count = 0;
        for (id, _) in self.ids().await {
            count += usize::from(self.find(&id, app).await.is_ok());
        }
        count
    }

    async fn forget_old(&self) {
        for (id, changed) in self.ids().await {
            if changed.and_then(|changed| changed.elapsed().ok()).is_some_and(|age| age > KEEP) {
                self.drop_files(&id).await;
            }
        }
    }
}

/// The bytes of a source, where they are few.
pub(crate) async fn bytes_of(source: &AudioSource, limit: u64) -> Result<Vec<u8>, Problem> {
    let too_large = || Problem::new("too-large", format!("a document has at most {limit} bytes"));
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
        Upload { app: app.into(), media_type: "audio/wav".into(), name: None, complete: false }
    }

    #[tokio::test]
    async fn parts_are_put_one_behind_the_other_and_a_gap_is_refused() {
        let folder = tempfile::tempdir().expect("folder");
        let uploads = Uploads { folder: folder.path().join("uploads"), limit: 10 };
        let id = uploads.begin(&upload("quay")).await.expect("begun");
        assert_eq!(uploads.append(&id, "quay", 0, false, &b"abc"[..]).await.expect("a part"), 3);
        let gap = uploads.append(&id, "quay", 5, false, &b"x"[..]).await.expect_err("a gap");
        assert!(gap.status == 409 && gap.detail.contains("3 bytes are here"), "{}", gap.detail);
        assert!(uploads.find(&id, "other").await.is_err(), "another app's");
        assert!(uploads.find("../../etc/passwd", "quay").await.is_err());
        assert_eq!(uploads.take(&id, "quay").await.expect_err("not whole").status, 409);
        assert_eq!(uploads.append(&id, "quay", 3, true, &b"de"[..]).await.expect("the last"), 5);
        assert!(uploads.append(&id, "quay", 5, false, &b"f"[..]).await.is_err(), "nothing comes after");
        let (_, source) = uploads.take(&id, "quay").await.expect("taken");
        assert_eq!(bytes_of(&source, 100).await.expect("bytes"), b"abcde");
        assert!(bytes_of(&source, 4).await.is_err());
        drop(source);
        assert_eq!(std::fs::read_dir(folder.path().join("uploads")).expect("folder").count(), 0);
        let id = uploads.begin(&upload("quay")).await.expect("begun");
        assert_eq!(uploads.append(&id, "quay", 0, false, &[0; 11][..]).await.expect_err("too large").status, 413);
    }
}
