//! Notices of alerts.

use diesel::prelude::*;

use crate::models::StoredNotice;
use crate::schema::notices;
use crate::{Durability, Store, StoreError};

/// Notices that are kept; the oldest that are over go.
const KEPT: i64 = 2_000;

impl Store {
    /// Writes a new notice.
    pub async fn put_notice(&self, notice: StoredNotice) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(notices::table).values(notice).execute(c)?;
            let newest = notices::table.order(notices::told_at.desc()).select(notices::told_at);
            let oldest: Option<i64> = newest.offset(KEPT).first(c).optional()?;
            if let Some(oldest) = oldest {
                let gone = notices::table.filter(notices::told_at.le(oldest).and(notices::over_at.is_not_null()));
                diesel::delete(gone).execute(c)?;
            }
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// What a notice is of is over.
    pub async fn end_notice(&self, id: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::update(notices::table.find(&id)).set(notices::over_at.eq(at)).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// A notice could not be sent.
    pub async fn note_unsent(&self, id: String, problem: String) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::update(notices::table.find(&id)).set(notices::problem.eq(problem)).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Process, write).await
    }

    /// The newest notices, those that are not over first.
    pub async fn notices(&self, limit: i64) -> Result<Vec<StoredNotice>, StoreError> {
        self.read(move |c| {
            let all = notices::table.order((notices::over_at.is_null().desc(), notices::told_at.desc()));
            Ok(all.limit(limit).select(StoredNotice::as_select()).load(c)?)
        })
        .await
    }

    /// Those that are not over.
    pub async fn open_notices(&self) -> Result<Vec<StoredNotice>, StoreError> {
        self.read(|c| {
            let open = notices::table.filter(notices::over_at.is_null()).order(notices::told_at);
            Ok(open.select(StoredNotice::as_select()).load(c)?)
        })
        .await
    }
}
