//! Kept sound: files named by their content, found again by what they are the
//! sound of.

use std::path::PathBuf;

use bytes::Bytes;
use dispatcher_store::ClipRow;

use crate::{Gateway, GatewayError, now_micros};

/// All kept sound together.
const BUDGET: i64 = 512 << 20;
/// Longer sound is not kept.
const LONGEST: usize = 8 << 20;

/// Sound that was kept.
#[derive(Debug, Clone)]
pub struct Clip {
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
    tokio::task::spawn_blocking(write)
        .await
        .map_err(|error| GatewayError::Internal(error.to_string()))?
        .map_err(|error| GatewayError::Internal(format!("kept sound: {error}")))
}

impl Gateway {
    /// The sound of a key, where it was kept.
    pub async fn recall_clip(&self, sound: &str) -> Option<Clip> {
        let folder = self.inner.host.clips.as_ref()?;
        let row = self.inner.store.clip(sound.to_owned(), now_micros()).await.ok()??;
        let audio = tokio::fs::read(folder.join(&row.content)).await.ok()?;
        // A file that was damaged is made anew rather than played.
        (dispatcher_vault::hash_bytes(&audio) == row.content)
            .then_some(Clip { media_type: row.media_type, audio: audio.into() })
    }

    /// Keeps the sound of a key; what has not been heard for longest goes.
    ///
    /// # Errors
    /// When it cannot be written.
    pub async fn keep_clip(&self, sound: &str, voice: &str, clip: &Clip) -> Result<(), GatewayError> {
        let Some(folder) = self.inner.host.clips.clone() else { return Ok(()) };
        if clip.audio.len() > LONGEST {
            return Ok(());
        }
        let content = dispatcher_vault::hash_bytes(&clip.audio);
        write_named(folder.clone(), content.clone(), clip.audio.clone()).await?;
        let now = now_micros();
        let row = ClipRow {
            sound: sound.into(),
            content,
            media_type: clip.media_type.clone(),
            bytes: i64::try_from(clip.audio.len()).unwrap_or(i64::MAX),
            engine: voice.split('/').next().unwrap_or_default().into(),
            voice: voice.into(),
            made_at: now,
            used_at: now,
        };
        for gone in self.inner.store.put_clip(row, BUDGET).await? {
            let _ = tokio::fs::remove_file(folder.join(gone)).await;
        }
        Ok(())
    }
}
