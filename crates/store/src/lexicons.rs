//! Lexicons, versioned, and the sounds that scripts put in.

use diesel::dsl::max;
use diesel::prelude::*;

use crate::models::{ClipRow, LexiconRow};
use crate::records::{in_force, note, retire};
use crate::schema::{clips, lexicons};
use crate::{Durability, Store, StoreError};

impl Store {
    /// Keeps a lexicon as its next version, whatever version the row has;
    /// gives the version.
    ///
    /// # Errors
    /// When the records cannot be written; so with all of these.
    pub async fn put_lexicon(&self, row: LexiconRow) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest: Option<i64> =
                lexicons::table.filter(lexicons::name.eq(&row.name)).select(max(lexicons::version)).first(c)?;
            let version = newest.unwrap_or(0) + 1;
            let subject = format!("{} version {version}", row.name);
            note(c, row.created_at, &row.created_by, "lexicon.put", &subject)?;
            diesel::insert_into(lexicons::table).values(LexiconRow { version, ..row }).execute(c)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The newest version of each lexicon that is not retired.
    pub async fn lexicons(&self) -> Result<Vec<LexiconRow>, StoreError> {
        self.read(|c| {
            let rows: Vec<LexiconRow> = lexicons::table
                .order((lexicons::name.asc(), lexicons::version.desc()))
                .select(LexiconRow::as_select())
                .load(c)?;
            Ok(in_force(rows, |row| (&row.name, row.retired_at)))
        })
        .await
    }

    /// All versions of a lexicon, the newest first.
    pub async fn lexicon_versions(&self, name: String) -> Result<Vec<LexiconRow>, StoreError> {
        self.read(move |c| {
            Ok(lexicons::table
                .filter(lexicons::name.eq(name))
                .order(lexicons::version.desc())
                .select(LexiconRow::as_select())
                .load(c)?)
        })
        .await
    }

    /// Retires every version of a lexicon.
    pub async fn retire_lexicon(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            retire!(c, lexicons, name, at, "lexicon");
            note(c, at, &by, "lexicon.retire", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Keeps an app's record of a clip; where the app has one already, that
    /// one stays and is given.
    pub async fn put_clip(&self, row: ClipRow) -> Result<ClipRow, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let known: Option<ClipRow> =
                clips::table.find((&row.id, &row.app)).select(ClipRow::as_select()).first(c).optional()?;
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
    pub async fn clips(&self, app: Option<String>) -> Result<Vec<ClipRow>, StoreError> {
        self.read(move |c| {
            let mut query = clips::table.order(clips::created_at.desc()).select(ClipRow::as_select()).into_boxed();
            if let Some(app) = app {
                query = query.filter(clips::app.eq(app));
            }
            Ok(query.load(c)?)
        })
        .await
    }

    /// The records of a clip, one for each app that keeps it; the oldest first.
    pub async fn clip_records(&self, id: String) -> Result<Vec<ClipRow>, StoreError> {
        self.read(move |c| {
            let found = clips::table.filter(clips::id.eq(id)).order(clips::created_at);
            Ok(found.select(ClipRow::as_select()).load(c)?)
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
