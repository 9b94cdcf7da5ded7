//! The operator's own audio profiles: versioned, retired rather than deleted.

use diesel::dsl::max;
use diesel::prelude::*;

use crate::models::ProfileRow;
use crate::records::{in_force, note};
use crate::schema::profiles;
use crate::{Durability, Store, StoreError};

impl Store {
    /// Keeps a new version of a profile.
    pub async fn put_profile(&self, name: String, document: String, by: String, at: i64) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest: Option<i64> =
                profiles::table.filter(profiles::name.eq(&name)).select(max(profiles::version)).first(c)?;
            let version = newest.unwrap_or(0) + 1;
            let subject = format!("{name} version {version}");
            let row = ProfileRow { name, version, document, created_by: by.clone(), created_at: at, retired_at: None };
            diesel::insert_into(profiles::table).values(row).execute(c)?;
            note(c, at, &by, "profile.put", &subject)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The newest version of each profile that is not retired.
    pub async fn profiles(&self) -> Result<Vec<ProfileRow>, StoreError> {
        self.read(|c| {
            let rows: Vec<ProfileRow> = profiles::table
                .order((profiles::name.asc(), profiles::version.desc()))
                .select(ProfileRow::as_select())
                .load(c)?;
            Ok(in_force(rows, |row| (&row.name, row.retired_at)))
        })
        .await
    }

    /// Retires every version of a profile.
    pub async fn retire_profile(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let found = profiles::table.filter(profiles::name.eq(&name)).filter(profiles::retired_at.is_null());
            if diesel::update(found).set(profiles::retired_at.eq(at)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "profile", name });
            }
            note(c, at, &by, "profile.retire", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
