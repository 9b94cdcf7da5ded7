//! Kept audio of utterances: files named by their content, found again by their
//! fingerprint.

use std::path::PathBuf;

use bytes::Bytes;
use dispatcher_store::StoredRecall;

use crate::{Gateway, GatewayError, now_micros};

/// All kept audio together.
const BUDGET: i64 = 512 << 20;
/// Longer audio is not kept.
const LONGEST: usize = 8 << 20;

/// Audio that was kept.
#[derive(Debug, Clone)]
pub struct RecalledAudio {
    pub media_type: String,
    pub audio: Bytes,
}

/// Writes a file of a folder: aside and then renamed, so that no half file
/// has the name.
pub(crate) async fn write_named(folder: PathBuf, name: String, bytes: Bytes) -> Result<(), GatewayError> {
    let write = move || -> std::io::Result<()> {
        use std::io::Write as _;
        std::fs::create_dir_all(&folder)?;
        let mut file = tempfile::NamedTempFile::new_in(&folder)?;
        file.write_all(&bytes)?;
        file.persist(folder.join(name)).map_err(|error| error.error)?;
        Ok(())
    };
    tokio::task::spawn_blocking(write).await?.map_err(GatewayError::files("stored audio"))
}

impl Gateway {
    /// The audio of a fingerprint, if it was kept.
    pub async fn recall_audio(&self, fingerprint: &str) -> Option<RecalledAudio> {
        let folder = self.inner.host.clips.as_ref()?;
        let row = self.inner.store.recalled(fingerprint.to_owned(), now_micros()).await.ok()??;
        let audio = tokio::fs::read(folder.join(&row.content)).await.ok()?;
        // A file that was damaged is made anew rather than played.
        (crate::content_hash(&audio) == row.content)
            .then_some(RecalledAudio { media_type: row.media_type, audio: audio.into() })
    }

    /// Keeps the audio of a fingerprint; the least recently used is removed.
    ///
    /// # Errors
    /// When it cannot be written.
    pub async fn keep_audio(&self, fingerprint: &str, voice: &str, kept: &RecalledAudio) -> Result<(), GatewayError> {
        let Some(folder) = self.inner.host.clips.clone() else { return Ok(()) };
        if kept.audio.len() > LONGEST {
            return Ok(());
        }
        let content = crate::content_hash(&kept.audio);
        write_named(folder.clone(), content.clone(), kept.audio.clone()).await?;
        let now = now_micros();
        let row = StoredRecall {
            fingerprint: fingerprint.into(),
            content,
            media_type: kept.media_type.clone(),
            bytes: i64::try_from(kept.audio.len()).unwrap_or(i64::MAX),
            engine: voice.split('/').next().unwrap_or_default().into(),
            voice: voice.into(),
            made_at: now,
            used_at: now,
        };
        for gone in self.inner.store.put_recalled(row, BUDGET).await? {
            // A file that stays is counted and removed the next time.
            let _ = tokio::fs::remove_file(folder.join(gone)).await;
        }
        Ok(())
    }
}
