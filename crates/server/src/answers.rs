//! Audio of answers with `"deliver": "link"`: one file each, with its metadata
//! in a JSON file, deleted when the link expires.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use dispatcher_gateway::{ErasureMode, ErasureScope, StorageRoom};
use dispatcher_vault::random_token;
use serde::{Deserialize, Serialize};

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::storage_problem;

/// Interval between deletions of expired answers.
const SWEEP: Duration = Duration::from_secs(60);
/// Most bytes of the answers of one app.
const MOST_BYTES: u64 = 1 << 30;

/// Metadata of an answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct AnswerFacts {
    pub(crate) app: String,
    /// For whom it was made.
    #[serde(default)]
    pub(crate) end_user: Option<String>,
    pub(crate) media_type: String,
    /// File name in `Content-Disposition`.
    pub(crate) name: String,
    pub(crate) bytes: u64,
    /// Seconds since 1970.
    pub(crate) expires: i64,
}

/// Store of linked answers.
#[derive(Clone)]
pub(crate) struct Answers {
    folder: Arc<PathBuf>,
    room: StorageRoom,
}

impl Answers {
    /// Opens the store in a data folder.
    ///
    /// # Errors
    /// If the folder cannot be created.
    pub(crate) fn new(data: &Path, room: StorageRoom) -> std::io::Result<Answers> {
        let folder = data.join("answers");
        std::fs::create_dir_all(&folder)?;
        Ok(Answers { folder: Arc::new(folder), room })
    }

    /// Stores a file and returns its id.
    ///
    /// # Errors
    /// 507 if the disk or the quota of the app is full.
    pub(crate) async fn keep(&self, file: tempfile::TempPath, facts: AnswerFacts) -> Result<String, Problem> {
        self.room.check()?;
        let answers = self.clone();
        let kept = tokio::task::spawn_blocking(move || answers.keep_now(file, &facts)).await;
        kept.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?
    }

    fn keep_now(&self, file: tempfile::TempPath, facts: &AnswerFacts) -> Result<String, Problem> {
        let failed = |error: std::io::Error| storage_problem(&error, "the answer");
        let used: u64 = self.all().filter(|(_, other)| other.app == facts.app).map(|(_, other)| other.bytes).sum();
        if used.saturating_add(facts.bytes) > MOST_BYTES {
            let detail = format!(
                "the limit for the linked answers of an app is {MOST_BYTES} bytes; older links must expire first"
            );
            return Err(Problem::new(ProblemKind::Quota, detail));
        }
        let id = random_token(&mut rand::rng());
        let text = serde_json::to_vec(facts).map_err(|error| failed(error.into()))?;
        std::fs::copy(&file, self.audio(&id)).map_err(failed)?;
        std::fs::write(self.facts(&id), text).map_err(failed)?;
        Ok(id)
    }

    fn audio(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.audio"))
    }

    fn facts(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.json"))
    }

    fn all(&self) -> impl Iterator<Item = (String, AnswerFacts)> + use<> {
        let entries = std::fs::read_dir(&**self.folder).into_iter().flatten().flatten();
        entries.filter_map(|entry| {
            let name = entry.file_name().into_string().ok()?;
            let id = name.strip_suffix(".json")?.to_owned();
            Some((id, serde_json::from_slice(&std::fs::read(entry.path()).ok()?).ok()?))
        })
    }

    /// Opens an answer; `None` if it does not exist, is another app's or has expired.
    pub(crate) async fn open(&self, app: &str, id: &str, now: i64) -> Option<(tokio::fs::File, AnswerFacts)> {
        if !id.bytes().all(|byte| byte.is_ascii_alphanumeric()) {
            return None;
        }
        let facts: AnswerFacts = serde_json::from_slice(&tokio::fs::read(self.facts(id)).await.ok()?).ok()?;
        if facts.app != app || facts.expires <= now {
            return None;
        }
        Some((tokio::fs::File::open(self.audio(id)).await.ok()?, facts))
    }

    /// Deletes the answers of an app or an end user, or counts them.
    ///
    /// # Errors
    /// If a file cannot be deleted.
    pub(crate) async fn erase(&self, scope: ErasureScope, mode: ErasureMode) -> Result<usize, Problem> {
        let answers = self.clone();
        let erase = move || -> std::io::Result<usize> {
            let within = |facts: &AnswerFacts| {
                facts.app == scope.app && (scope.end_user.is_none() || facts.end_user == scope.end_user)
            };
            let found: Vec<String> = answers.all().filter(|(_, facts)| within(facts)).map(|(id, _)| id).collect();
            if mode == ErasureMode::Erase {
                for path in found.iter().flat_map(|id| [answers.audio(id), answers.facts(id)]) {
                    match std::fs::remove_file(path) {
                        // It expired meanwhile.
                        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                        removed => removed?,
                    }
                }
            }
            Ok(found.len())
        };
        let erased = tokio::task::spawn_blocking(erase).await;
        let erased = erased.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        erased.map_err(|error| storage_problem(&error, "the answer"))
    }

    /// Deletes expired answers, and files that a crash left without metadata.
    pub(crate) fn sweep(&self, now: i64) {
        let live: std::collections::HashSet<String> =
            self.all().filter(|(_, facts)| facts.expires > now).map(|(id, _)| id).collect();
        for entry in std::fs::read_dir(&**self.folder).into_iter().flatten().flatten() {
            let name = entry.file_name();
            let id = name.to_str().and_then(|name| name.split('.').next()).unwrap_or_default();
            let settled = entry.metadata().and_then(|metadata| metadata.modified()).ok();
            let old = settled.and_then(|at| at.elapsed().ok()).is_some_and(|age| age > SWEEP);
            if !live.contains(id)
                && old
                && let Err(error) = std::fs::remove_file(entry.path())
            {
                tracing::warn!(%error, "an expired answer could not be deleted");
            }
        }
    }

    /// Deletes expired answers periodically.
    pub(crate) async fn look_after(self) {
        loop {
            let answers = self.clone();
            let now = dispatcher_gateway::now_micros() / 1_000_000;
            let _ = tokio::task::spawn_blocking(move || answers.sweep(now)).await;
            tokio::time::sleep(SWEEP).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(app: &str, bytes: u64, expires: i64) -> AnswerFacts {
        let end_user = Some("passenger-7".to_owned());
        AnswerFacts { app: app.into(), end_user, media_type: "audio/mpeg".into(), name: "a.mp3".into(), bytes, expires }
    }

    fn file(folder: &Path) -> tempfile::TempPath {
        let file = tempfile::NamedTempFile::new_in(folder).expect("a file");
        std::fs::write(file.path(), b"sound").expect("written");
        file.into_temp_path()
    }

    #[tokio::test]
    async fn an_answer_is_its_app_s_until_it_ends() {
        let data = tempfile::tempdir().expect("a folder");
        let room = StorageRoom { folder: data.path().into(), reserve: 0, quota: u64::MAX };
        let answers = Answers::new(data.path(), room).expect("answers");
        let id = answers.keep(file(data.path()), facts("quay", 5, 100)).await.expect("kept");
        let (_, found) = answers.open("quay", &id, 99).await.expect("there");
        assert_eq!(found, facts("quay", 5, 100));
        assert!(answers.open("pier", &id, 99).await.is_none(), "another's");
        assert!(answers.open("quay", &id, 100).await.is_none(), "over");
        assert!(answers.open("quay", "../records", 99).await.is_none());
        let much = answers.keep(file(data.path()), facts("quay", MOST_BYTES, 100)).await.expect_err("too much");
        assert_eq!(much.status, 507);
        answers.keep(file(data.path()), facts("pier", MOST_BYTES, 100)).await.expect("another app's");
        answers.sweep(100);
        assert!(answers.open("quay", &id, 99).await.is_some(), "what was made just now is not swept");
        let of = |user: Option<&str>| ErasureScope { app: "quay".into(), end_user: user.map(str::to_owned) };
        assert_eq!(answers.erase(of(Some("passenger-8")), ErasureMode::Erase).await.expect("none"), 0);
        assert_eq!(answers.erase(of(None), ErasureMode::Count).await.expect("counted"), 1);
        assert!(answers.open("quay", &id, 99).await.is_some(), "it was counted");
        assert_eq!(answers.erase(of(Some("passenger-7")), ErasureMode::Erase).await.expect("erased"), 1);
        assert!(answers.open("quay", &id, 99).await.is_none(), "erased");
        assert_eq!(answers.all().count(), 1, "another app's stays");
    }
}
