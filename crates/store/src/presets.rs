//! The operator's own audio presets: versioned, retired rather than deleted.

use diesel::dsl::max;
use diesel::prelude::*;

use crate::models::PresetRow;
use crate::records::{in_force, note, retire};
use crate::schema::presets;
use crate::{Durability, Store, StoreError};

impl Store {
    /// Keeps a new version of a preset.
    pub async fn put_preset(&self, name: String, document: String, by: String, at: i64) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest: Option<i64> =
                presets::table.filter(presets::name.eq(&name)).select(max(presets::version)).first(c)?;
            let version = newest.unwrap_or(0) + 1;
            let subject = format!("{name} version {version}");
            let row = PresetRow { name, version, document, created_by: by.clone(), created_at: at, retired_at: None };
            diesel::insert_into(presets::table).values(row).execute(c)?;
            note(c, at, &by, "preset.put", &subject)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The newest version of each preset that is not retired.
    pub async fn presets(&self) -> Result<Vec<PresetRow>, StoreError> {
        self.read(|c| {
            let rows: Vec<PresetRow> = presets::table
                .order((presets::name.asc(), presets::version.desc()))
                .select(PresetRow::as_select())
                .load(c)?;
            Ok(in_force(rows, |row| (&row.name, row.retired_at)))
        })
        .await
    }

    /// Retires every version of a preset.
    pub async fn retire_preset(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            retire!(c, presets, name, at, "preset");
            note(c, at, &by, "preset.retire", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
