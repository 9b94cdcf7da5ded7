//! Clips: audio that scripts insert, kept as files named by their content.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Weak};

use bytes::Bytes;
use dispatcher_store::{Identified, StoreError, StoredClip};
use parking_lot::Mutex;

use crate::dispatch::recalled::write_named;
use crate::intake::recording::mended;
use crate::intake::resources::InsertedSound;
use crate::{Caller, Gateway, GatewayError, now_micros};

/// The app whose clips every app may use.
const SHARED: &str = "console";
/// Bytes of all clips of an app.
const MOST_KEPT: i64 = 512 << 20;
/// Letters of the content's hash that are the id of a clip.
const ID: usize = 24;

impl Gateway {
    fn clips_folder(&self) -> Result<PathBuf, GatewayError> {
        let folder = self.inner.host.clips.as_ref().map(|clips| clips.join("given"));
        folder.ok_or_else(|| GatewayError::NoFolder("clips"))
    }

    /// Keeps a clip of an app, with its true length; of damaged audio, what
    /// can be read of it, with warnings.
    ///
    /// # Errors
    /// When it is no audio, too large, or cannot be written.
    pub async fn keep_clip(
        &self,
        caller: &Caller,
        title: &str,
        audio: Bytes,
    ) -> Result<(StoredClip, Vec<String>), GatewayError> {
        let (audio, warnings) = self.in_turn(move || mended(audio)).await??;
        let checked = audio.clone();
        let sound = self.in_turn(move || InsertedSound::new(checked)).await?.map_err(GatewayError::Sound)?;
        let kept: i64 = self.inner.store.clips(Some(caller.app.name.clone())).await?.iter().map(|row| row.bytes).sum();
        if kept + i64::try_from(audio.len()).unwrap_or(i64::MAX) > MOST_KEPT {
            return Err(GatewayError::Quota { what: "clips", most: MOST_KEPT.unsigned_abs() });
        }
        self.check_room()?;
        let id = sound.content[..ID.min(sound.content.len())].to_owned();
        let _turn = self.inner.clip_changes.lock().await;
        write_named(self.clips_folder()?, id.clone(), audio).await?;
        let row = StoredClip {
            id,
            app: caller.app.name.clone(),
            title: title.chars().take(120).collect(),
            media_type: sound.format.media_type(),
            bytes: i64::try_from(sound.audio.len()).unwrap_or(i64::MAX),
            audio_ms: (sound.seconds * 1_000.0).ceil() as i64,
            created_by: caller.who.clone(),
            created_at: now_micros(),
        };
        Ok((self.inner.store.put_clip(row).await?, warnings))
    }

    /// Clips that a caller may use, newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn clips(&self, caller: &Caller) -> Result<Vec<StoredClip>, GatewayError> {
        let all = self.inner.store.clips(None).await?;
        Ok(all.into_iter().filter(|row| usable(caller, row)).collect())
    }

    /// A clip with its audio.
    ///
    /// # Errors
    /// Where the caller has none of this id.
    pub async fn clip(&self, caller: &Caller, id: &str) -> Result<(StoredClip, Bytes), GatewayError> {
        let row = self.clip_row(caller, id).await?;
        let audio = tokio::fs::read(self.clips_folder()?.join(&row.id)).await.map_err(|_| missing(id))?;
        Ok((row, audio.into()))
    }

    /// The audio of a clip for a script. Several scripts at once share the bytes.
    pub(crate) async fn clip_in_use(&self, caller: &Caller, id: &str) -> Result<Arc<InsertedSound>, GatewayError> {
        let row = self.clip_row(caller, id).await?;
        if let Some(sound) = self.inner.clips_in_use.get(&row.id) {
            return Ok(sound);
        }
        let (_, audio) = self.clip(caller, id).await?;
        let sound = self.in_turn(move || InsertedSound::new(audio)).await?.map_err(GatewayError::Sound)?;
        Ok(self.inner.clips_in_use.put(row.id, sound))
    }

    async fn clip_row(&self, caller: &Caller, id: &str) -> Result<StoredClip, GatewayError> {
        let apps = caller.visible_apps().map(|own| [own, vec![SHARED.to_owned()]].concat());
        let id = self.inner.store.id_of(Identified::Clip, apps, id.to_owned()).await?;
        let mut rows = self.inner.store.clip_records(id.clone()).await?;
        rows.retain(|row| usable(caller, row));
        // The caller's own record before a shared one.
        rows.sort_by_key(|row| row.app != caller.app.name);
        Ok(rows.into_iter().next().ok_or_else(|| missing(&id))?)
    }

    /// The same by its title: the caller's own before a shared one, the newest
    /// of several.
    pub(crate) async fn clip_titled(&self, caller: &Caller, title: &str) -> Result<Arc<InsertedSound>, GatewayError> {
        let mut usable = self.clips(caller).await?;
        usable.sort_by_key(|row| row.app != caller.app.name);
        match usable.into_iter().find(|row| row.title == title) {
            Some(row) => self.clip_in_use(caller, &row.id).await,
            None => Err(StoreError::Missing { what: "clip", name: title.to_owned() }.into()),
        }
    }

    /// Removes a clip; scripts that name it speak its fallback text.
    ///
    /// # Errors
    /// Where the caller has none of this id of its own.
    pub async fn remove_clip(&self, caller: &Caller, id: &str) -> Result<(), GatewayError> {
        let (row, _) = self.clip(caller, id).await?;
        if !caller.may_see(&row.app) {
            return Err(StoreError::Missing { what: "clip", name: row.id }.into());
        }
        let _turn = self.inner.clip_changes.lock().await;
        let removed = self.inner.store.remove_clip(row.id.clone(), row.app, caller.who.clone(), now_micros());
        if !removed.await? {
            // The record is gone; a file that stays is swept at the next start.
            let _ = tokio::fs::remove_file(self.clips_folder()?.join(row.id)).await;
        }
        Ok(())
    }
}

fn missing(id: &str) -> StoreError {
    StoreError::Missing { what: "clip", name: id.chars().take(ID).collect() }
}

/// Clips that scripts use at this moment, by id.
#[derive(Default)]
pub(crate) struct ClipsInUse(Mutex<HashMap<String, Weak<InsertedSound>>>);

impl ClipsInUse {
    fn get(&self, id: &str) -> Option<Arc<InsertedSound>> {
        self.0.lock().get(id)?.upgrade()
    }

    /// Keeps audio as long as it is used; returns the one that is used
    /// already, if there is one.
    fn put(&self, id: String, sound: InsertedSound) -> Arc<InsertedSound> {
        let mut all = self.0.lock();
        all.retain(|_, sound| sound.strong_count() > 0);
        if let Some(known) = all.get(&id).and_then(Weak::upgrade) {
            return known;
        }
        let sound = Arc::new(sound);
        all.insert(id, Arc::downgrade(&sound));
        sound
    }
}

fn usable(caller: &Caller, row: &StoredClip) -> bool {
    row.app == SHARED || caller.may_see(&row.app)
}
