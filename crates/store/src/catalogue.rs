//! Voices as engines list them, and favourites.

use diesel::prelude::*;

use crate::audit::note;
use crate::models::{CatalogueAge, CatalogueChange, Favourite, StoredCatalogue};
use crate::schema::{catalogue_changes, catalogues, favourites};
use crate::{Durability, Store, StoreError};

/// Changes of an engine that are kept; older ones go.
const MOST_CHANGES: i64 = 2_000;

impl Store {
    /// The last good list of each engine.
    pub async fn catalogues(&self) -> Result<Vec<StoredCatalogue>, StoreError> {
        self.read(|c| Ok(catalogues::table.order(catalogues::engine).select(StoredCatalogue::as_select()).load(c)?))
            .await
    }

    /// When each list was read; the lists themselves may be large.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn catalogue_ages(&self) -> Result<Vec<CatalogueAge>, StoreError> {
        self.read(|c| Ok(catalogues::table.select(CatalogueAge::as_select()).load(c)?)).await
    }

    /// Keeps a list, and what changed from the one before.
    pub async fn put_catalogue(&self, row: StoredCatalogue, changes: Vec<CatalogueChange>) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(catalogues::table)
                .values(&row)
                .on_conflict(catalogues::engine)
                .do_update()
                .set(&row)
                .execute(c)?;
            for change in &changes {
                diesel::insert_into(catalogue_changes::table)
                    .values((
                        catalogue_changes::engine.eq(&change.engine),
                        catalogue_changes::at.eq(change.at),
                        catalogue_changes::voice.eq(&change.voice),
                        catalogue_changes::kind.eq(&change.kind),
                        catalogue_changes::detail.eq(&change.detail),
                    ))
                    .execute(c)?;
            }
            let newest: Option<i64> = catalogue_changes::table
                .filter(catalogue_changes::engine.eq(&row.engine))
                .order(catalogue_changes::id.desc())
                .offset(MOST_CHANGES)
                .select(catalogue_changes::id)
                .first(c)
                .optional()?;
            if let Some(last) = newest {
                let old = catalogue_changes::table
                    .filter(catalogue_changes::engine.eq(&row.engine))
                    .filter(catalogue_changes::id.le(last));
                diesel::delete(old).execute(c)?;
            }
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Notes that a list could not be read; the last good one stays.
    pub async fn note_catalogue_problem(&self, engine: String, problem: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let row = StoredCatalogue {
                engine,
                document: String::new(),
                read_at: None,
                tried_at: at,
                problem: Some(problem.clone()),
            };
            diesel::insert_into(catalogues::table)
                .values(&row)
                .on_conflict(catalogues::engine)
                .do_update()
                .set((catalogues::tried_at.eq(at), catalogues::problem.eq(problem)))
                .execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// What changed in an engine's list, the newest first.
    pub async fn catalogue_changes(&self, engine: String, limit: i64) -> Result<Vec<CatalogueChange>, StoreError> {
        self.read(move |c| {
            Ok(catalogue_changes::table
                .filter(catalogue_changes::engine.eq(engine))
                .order(catalogue_changes::id.desc())
                .limit(limit)
                .select(CatalogueChange::as_select())
                .load(c)?)
        })
        .await
    }

    /// Voices that people marked, by id.
    pub async fn favourites(&self) -> Result<Vec<Favourite>, StoreError> {
        self.read(|c| Ok(favourites::table.order(favourites::voice).select(Favourite::as_select()).load(c)?)).await
    }

    /// Marks a voice.
    pub async fn add_favourite(&self, voice: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let favourite = Favourite { voice: voice.clone(), by: by.clone(), at };
            diesel::insert_or_ignore_into(favourites::table).values(favourite).execute(c)?;
            note(c, at, &by, "favourite.add", &voice)
        };
        self.writer.submit(Durability::Process, write).await
    }

    /// Takes the mark of a voice away.
    pub async fn remove_favourite(&self, voice: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::delete(favourites::table.find(&voice)).execute(c)?;
            note(c, at, &by, "favourite.remove", &voice)
        };
        self.writer.submit(Durability::Process, write).await
    }
}
