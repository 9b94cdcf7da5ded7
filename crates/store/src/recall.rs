//! Kept audio, found again by its fingerprint.

use std::collections::BTreeSet;

use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable};

use crate::models::StoredRecall;
use crate::schema::recalled;
use crate::{Durability, Store, StoreError};

impl Store {
    /// Kept audio by its fingerprint and who keeps it; looking it up counts as a
    /// use.
    pub async fn recalled(
        &self,
        fingerprint: String,
        app: String,
        at: i64,
    ) -> Result<Option<StoredRecall>, StoreError> {
        let key = (fingerprint.clone(), app.clone());
        let found: Option<StoredRecall> = self
            .read(move |c| Ok(recalled::table.find(key).select(StoredRecall::as_select()).first(c).optional()?))
            .await?;
        if found.is_some() {
            let write = move |c: &mut SqliteConnection| {
                let found = recalled::table.find((&fingerprint, &app));
                diesel::update(found).set(recalled::used_at.eq(at)).execute(c)?;
                Ok(())
            };
            // Nobody waits for it: it is written all the same.
            drop(self.writer.submit_repeatable(Durability::Process, write));
        }
        Ok(found)
    }

    /// Keeps audio; gives the contents that no record needs any more, the least
    /// recently used having gone until the rest fits into so many bytes.
    pub async fn put_recalled(&self, row: StoredRecall, budget: i64) -> Result<Vec<String>, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let own = recalled::table.find((&row.fingerprint, &row.app));
            let before: Option<String> = own.select(recalled::content).first(c).optional()?;
            let mut gone: Vec<String> = before.into_iter().filter(|content| *content != row.content).collect();
            diesel::replace_into(recalled::table).values(&row).execute(c)?;
            let bytes: Option<i64> = recalled::table.select(sql::<Nullable<BigInt>>("sum(bytes)")).first(c)?;
            let mut over = bytes.unwrap_or_default() - budget;
            while over > 0 {
                let oldest: Option<StoredRecall> = recalled::table
                    .filter(recalled::fingerprint.ne(&row.fingerprint).or(recalled::app.ne(&row.app)))
                    .order(recalled::used_at)
                    .select(StoredRecall::as_select())
                    .first(c)
                    .optional()?;
                // One that fits nowhere is kept alone.
                let Some(oldest) = oldest else { break };
                diesel::delete(recalled::table.find((&oldest.fingerprint, &oldest.app))).execute(c)?;
                over -= oldest.bytes;
                gone.push(oldest.content);
            }
            unneeded(c, gone)
        };
        self.writer.submit(Durability::Process, write).await
    }
}

/// Of the contents of records that are gone, those that no other record has.
fn unneeded(c: &mut SqliteConnection, gone: Vec<String>) -> Result<Vec<String>, StoreError> {
    let gone: BTreeSet<String> = gone.into_iter().collect();
    let mut unneeded = Vec::new();
    for content in gone {
        let needed: i64 = recalled::table.filter(recalled::content.eq(&content)).count().get_result(c)?;
        if needed == 0 {
            unneeded.push(content);
        }
    }
    Ok(unneeded)
}

/// Deletes kept audio; gives the contents that no record needs any more.
pub(crate) fn delete_recalled(c: &mut SqliteConnection, rows: &[StoredRecall]) -> Result<Vec<String>, StoreError> {
    for row in rows {
        diesel::delete(recalled::table.find((&row.fingerprint, &row.app))).execute(c)?;
    }
    unneeded(c, rows.iter().map(|row| row.content.clone()).collect())
}
