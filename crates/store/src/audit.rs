//! The audit log: who changed or used what. Entries are only ever added.

use diesel::prelude::*;

use crate::models::AuditEntry;
use crate::schema::audit;
use crate::{Durability, Store, StoreError};

/// Which entries of the audit log.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AuditFilter {
    /// Only those before this id.
    pub before: Option<i64>,
    /// Microseconds since 1970, `until` excluded.
    pub from: Option<i64>,
    pub until: Option<i64>,
    pub who: Option<String>,
    pub action: Option<String>,
    pub limit: i64,
}

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
        self.audit_page(AuditFilter { limit, ..AuditFilter::default() }).await
    }

    /// Audit entries, the newest first.
    pub async fn audit_page(&self, filter: AuditFilter) -> Result<Vec<AuditEntry>, StoreError> {
        self.read(move |c| {
            let mut query = audit::table.order(audit::id.desc()).limit(filter.limit).into_boxed();
            if let Some(before) = filter.before {
                query = query.filter(audit::id.lt(before));
            }
            if let Some(from) = filter.from {
                query = query.filter(audit::at.ge(from));
            }
            if let Some(until) = filter.until {
                query = query.filter(audit::at.lt(until));
            }
            if let Some(who) = filter.who {
                query = query.filter(audit::who.eq(who));
            }
            if let Some(action) = filter.action {
                query = query.filter(audit::action.eq(action));
            }
            Ok(query.select(AuditEntry::as_select()).load(c)?)
        })
        .await
    }
}
