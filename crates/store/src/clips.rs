//! Clips: audio that scripts insert.

use diesel::prelude::*;

use crate::audit::note;
use crate::models::StoredClip;
use crate::schema::clips;
use crate::{Durability, Store, StoreError};

impl Store {
    /// Keeps an app's record of a clip; where the app has one already, that
    /// one stays and is given.
    pub async fn put_clip(&self, row: StoredClip) -> Result<StoredClip, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let known: Option<StoredClip> =
                clips::table.find((&row.id, &row.app)).select(StoredClip::as_select()).first(c).optional()?;
            if let Some(known) = known {
                return Ok(known);
            }
            note(c, row.created_at, &row.created_by, "clip.add", &row.id)?;
            diesel::insert_into(clips::table).values(&row).execute(c)?;
            Ok(row)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Clips of an app, or of all; the newest first.
    pub async fn clips(&self, app: Option<String>) -> Result<Vec<StoredClip>, StoreError> {
        self.read(move |c| {
            let mut query = clips::table.order(clips::created_at.desc()).select(StoredClip::as_select()).into_boxed();
            if let Some(app) = app {
                query = query.filter(clips::app.eq(app));
            }
            Ok(query.load(c)?)
        })
        .await
    }

    /// The records of a clip, one for each app that keeps it; the oldest first.
    pub async fn clip_records(&self, id: String) -> Result<Vec<StoredClip>, StoreError> {
        self.read(move |c| {
            let found = clips::table.filter(clips::id.eq(id)).order(clips::created_at);
            Ok(found.select(StoredClip::as_select()).load(c)?)
        })
        .await
    }

    /// Removes an app's record of a clip; gives whether another app still has one.
    pub async fn remove_clip(&self, id: String, app: String, by: String, at: i64) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if diesel::delete(clips::table.find((&id, &app))).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "clip", name: id });
            }
            note(c, at, &by, "clip.remove", &id)?;
            Ok(clips::table.filter(clips::id.eq(&id)).count().get_result::<i64>(c)? > 0)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
