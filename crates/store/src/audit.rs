//! The audit log: who changed or used what. Entries are only ever added.

use diesel::prelude::*;

use crate::models::AuditEntry;
use crate::schema::audit;
use crate::{Durability, Store, StoreError};

/// Adds an entry, within the write that it records.
pub(crate) fn note(
    connection: &mut SqliteConnection,
    at: i64,
    who: &str,
    action: &str,
    subject: &str,
) -> Result<(), StoreError> {
    let row = (audit::at.eq(at), audit::who.eq(who), audit::action.eq(action), audit::subject.eq(subject));
    diesel::insert_into(audit::table).values(row).execute(connection)?;
    Ok(())
}

impl Store {
    /// Adds an entry to the audit log.
    pub async fn note(&self, action: &'static str, subject: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| note(c, at, &by, action, &subject);
        self.writer.submit(Durability::Process, write).await
    }

    /// The newest audit entries.
    pub async fn audit(&self, limit: i64) -> Result<Vec<AuditEntry>, StoreError> {
        self.read(move |c| {
            Ok(audit::table.order(audit::id.desc()).limit(limit).select(AuditEntry::as_select()).load(c)?)
        })
        .await
    }
}
