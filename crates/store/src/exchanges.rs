//! Exchanges that are over.

use diesel::prelude::*;

use crate::models::StoredExchange;
use crate::schema::exchanges;
use crate::{Durability, Store, StoreError};

impl Store {
    /// Keeps the record of an exchange.
    pub async fn put_exchange(&self, row: StoredExchange) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(exchanges::table).values(row).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Exchanges of an app, or of all, the newest first; those before an id,
    /// where it is given.
    pub async fn exchanges(
        &self,
        apps: Option<Vec<String>>,
        before: Option<String>,
        limit: i64,
    ) -> Result<Vec<StoredExchange>, StoreError> {
        self.read(move |c| {
            let mut found = exchanges::table.order(exchanges::id.desc()).limit(limit).into_boxed();
            if let Some(apps) = apps {
                found = found.filter(exchanges::app.eq_any(apps));
            }
            if let Some(before) = before {
                found = found.filter(exchanges::id.lt(before));
            }
            Ok(found.select(StoredExchange::as_select()).load(c)?)
        })
        .await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ExchangeState;

    fn row(id: &str, app: &str, state: ExchangeState) -> StoredExchange {
        StoredExchange {
            id: id.into(),
            app: app.into(),
            who: "k1".into(),
            state,
            fault: None,
            begun_at: 7,
            ear_dispatch: None,
            ear_ms: Some(120),
            said_characters: 12,
            reply_first_ms: Some(140),
            reply_ms: Some(300),
            reply_characters: 40,
            voice_first_ms: None,
            voice_ms: None,
            audio_ms: 0,
            voice_dispatches: "d1\nd2".into(),
            end_user: None,
        }
    }

    #[tokio::test]
    async fn exchanges_are_listed_by_app_the_newest_first() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        for (id, app, state) in [
            ("1", "quay", ExchangeState::Answered),
            ("2", "pier", ExchangeState::Failed),
            ("3", "quay", ExchangeState::Apologised),
        ] {
            store.put_exchange(row(id, app, state)).await.expect("written");
        }
        let list = |app: Option<&str>, before: Option<&str>, limit| {
            store.exchanges(app.map(|app: &str| vec![app.to_owned()]), before.map(str::to_owned), limit)
        };
        let ids = |rows: Vec<StoredExchange>| rows.into_iter().map(|row| row.id).collect::<Vec<_>>();
        let own = list(Some("quay"), None, 9).await.expect("read");
        assert_eq!(own[0], row("3", "quay", ExchangeState::Apologised));
        assert_eq!(ids(own), ["3", "1"]);
        assert_eq!(ids(list(None, None, 2).await.expect("read")), ["3", "2"]);
        assert_eq!(ids(list(None, Some("2"), 9).await.expect("read")), ["1"]);
    }
}
