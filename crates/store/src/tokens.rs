//! Tokens of apps, and what was used with them.

use std::collections::HashMap;

use diesel::prelude::*;
use dispatcher_core::{AmountsUsed, Currency, Money, RequestShare, Work};

use crate::audit::note;
use crate::models::{App, StoredToken};
use crate::schema::{apps, dispatches, tokens};
use crate::states::DispatchState;
use crate::words::Word;
use crate::{Durability, Store, StoreError};

/// Expired tokens that are deleted at once.
const MOST_EXPIRED: i64 = 500;

impl Store {
    /// Keeps a token, unless its app has `most` already that have not ended;
    /// gives whether it is kept. Tokens that ended before `old` are deleted.
    pub async fn add_token(&self, token: StoredToken, most: i64, old: i64) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let over = tokens::table.filter(tokens::expires_at.lt(old)).limit(MOST_EXPIRED);
            let over: Vec<String> = over.select(tokens::id).load(c)?;
            diesel::delete(tokens::table.filter(tokens::id.eq_any(over))).execute(c)?;
            let live = tokens::table.filter(tokens::app.eq(&token.app)).filter(tokens::expires_at.gt(token.made_at));
            let live: i64 = live.filter(tokens::revoked_at.is_null()).count().get_result(c)?;
            if live >= most {
                return Ok(false);
            }
            diesel::insert_into(tokens::table).values(token.clone()).execute(c)?;
            note(c, token.made_at, &token.made_by, "token.add", &format!("{} of {}", token.id, token.app))?;
            Ok(true)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Tokens of an app, the newest first.
    pub async fn tokens(&self, app: String, limit: i64) -> Result<Vec<StoredToken>, StoreError> {
        self.read(move |c| {
            let found = tokens::table.filter(tokens::app.eq(app)).order((tokens::made_at.desc(), tokens::id));
            Ok(found.limit(limit).select(StoredToken::as_select()).load(c)?)
        })
        .await
    }

    /// The token with this hash, and its app.
    pub async fn token(&self, hash: String) -> Result<Option<(StoredToken, App)>, StoreError> {
        self.read(move |c| {
            let found = tokens::table.inner_join(apps::table.on(apps::name.eq(tokens::app)));
            let found = found.filter(tokens::hash.eq(hash)).select((StoredToken::as_select(), App::as_select()));
            Ok(found.first(c).optional()?)
        })
        .await
    }

    /// Ends a token of an app.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where the app has none with this id.
    pub async fn revoke_token(&self, app: String, id: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let own = tokens::table.filter(tokens::id.eq(&id)).filter(tokens::app.eq(&app));
            let found = own.filter(tokens::revoked_at.is_null());
            if diesel::update(found).set(tokens::revoked_at.eq(at)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "token", name: id });
            }
            note(c, at, &by, "token.revoke", &format!("{id} of {app}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// What was used with each of these tokens. What failed is not counted.
    pub async fn tokens_used(&self, ids: Vec<String>) -> Result<Vec<(String, AmountsUsed)>, StoreError> {
        self.read(move |c| {
            let found = dispatches::table.filter(dispatches::token.eq_any(ids.iter().cloned().map(Some)));
            let columns = (
                dispatches::token,
                dispatches::work,
                dispatches::state,
                dispatches::characters,
                dispatches::audio_ms,
                dispatches::cost_nanos,
                dispatches::currency,
            );
            type Row = (Option<String>, Word<Work>, DispatchState, i64, i64, i64, Word<Currency>);
            let mut used: HashMap<String, AmountsUsed> = HashMap::new();
            for row in found.select(columns).load_iter::<Row, diesel::connection::DefaultLoadingMode>(c)? {
                let (token, Word(work), state, characters, audio_ms, nanos, Word(currency)) = row?;
                let sum = used.entry(token.unwrap_or_default()).or_default();
                sum.add(share_of(work, state, characters, audio_ms, Money { nanos, currency }));
            }
            Ok(ids.into_iter().map(|id| (id.clone(), used.remove(&id).unwrap_or_default())).collect())
        })
        .await
    }
}

/// What a dispatch takes from its token.
fn share_of(work: Work, state: DispatchState, characters: i64, audio_ms: i64, cost: Money) -> RequestShare {
    let counts = state != DispatchState::Failed;
    let amount = |amount: i64, counts: bool| if counts { u64::try_from(amount).unwrap_or_default() } else { 0 };
    RequestShare {
        characters: amount(characters, counts && work == Work::Synthesis),
        milliseconds: amount(audio_ms, counts && work == Work::Recognition),
        cost,
    }
}

impl crate::StoredDispatch {
    /// What it takes from its token, as it ended.
    pub fn request_share(&self) -> RequestShare {
        share_of(self.work, self.state, self.characters, self.audio_ms, self.cost())
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_core::{TokenCall, TokenTerms};

    use super::*;
    use crate::StoredDispatch;

    fn row(id: &str, made_at: i64, expires_at: i64) -> StoredToken {
        with(id, &TokenTerms::default(), made_at, expires_at)
    }

    fn with(id: &str, terms: &TokenTerms, made_at: i64, expires_at: i64) -> StoredToken {
        let new = StoredToken::new(id, "quay", terms, ("k1", made_at, expires_at));
        StoredToken { hash: format!("hash of {id}"), ..new }
    }

    async fn store(folder: &tempfile::TempDir) -> Store {
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        store.add_app(App::new("quay", "Quay", 1), "test".into()).await.expect("an app");
        store
    }

    #[tokio::test]
    async fn a_token_is_found_with_its_terms_until_it_is_revoked_or_long_over() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = store(&folder).await;
        let terms = TokenTerms {
            calls: vec![TokenCall::Speak, TokenCall::Caption],
            routes: vec!["dock".into(), "ferry".into()],
            origin: Some("https://saltmarsh.example".into()),
            characters: Some(500),
            milliseconds: Some(60_000),
            cost: Some(Money { nanos: 5, currency: Currency::EUR }),
            end_user: Some("passenger 7".into()),
        };
        assert!(store.add_token(with("a", &terms, 10, 100), 2, 0).await.expect("kept"));
        let (found, app) = store.token("hash of a".into()).await.expect("read").expect("there");
        assert_eq!((found.terms(), app.name.as_str()), (terms, "quay"));
        assert!(store.add_token(row("b", 11, 100), 2, 0).await.expect("kept"));
        assert!(!store.add_token(row("c", 12, 100), 2, 0).await.expect("refused"), "two have not ended");
        store.revoke_token("quay".into(), "a".into(), "k1".into(), 13).await.expect("revoked");
        assert!(store.revoke_token("quay".into(), "a".into(), "k1".into(), 14).await.is_err(), "it is revoked already");
        assert!(store.revoke_token("pier".into(), "b".into(), "k1".into(), 14).await.is_err(), "another's");
        assert!(store.add_token(row("c", 12, 200), 2, 150).await.expect("kept"), "those that ended before 150 go");
        let left = store.tokens("quay".into(), 9).await.expect("read");
        assert_eq!(left.iter().map(|token| token.id.as_str()).collect::<Vec<_>>(), ["c"]);
    }

    #[tokio::test]
    async fn what_was_used_is_the_sum_of_its_dispatches_but_for_what_failed() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = store(&folder).await;
        let dispatch = |id: &str, work, state, token: &str| StoredDispatch {
            state,
            characters: 7,
            audio_ms: 900,
            cost_nanos: 11,
            token: Some(token.into()),
            ..StoredDispatch::begun(id, "quay", work, 1)
        };
        for row in [
            dispatch("1", Work::Synthesis, DispatchState::Done, "a"),
            dispatch("2", Work::Synthesis, DispatchState::Abandoned, "a"),
            dispatch("3", Work::Synthesis, DispatchState::Failed, "a"),
            dispatch("4", Work::Recognition, DispatchState::Uncertain, "a"),
            dispatch("5", Work::Synthesis, DispatchState::Done, "b"),
        ] {
            store.settle(None, row).await.expect("written");
        }
        let used = store.tokens_used(vec!["a".into(), "z".into()]).await.expect("read");
        assert_eq!((used[0].1.characters, used[0].1.milliseconds), (14, 900));
        assert_eq!(used[0].1.costs.of(Currency::EUR).nanos, 44, "money is counted wherever it was charged");
        assert_eq!(used[1], ("z".into(), AmountsUsed::default()));
    }
}
