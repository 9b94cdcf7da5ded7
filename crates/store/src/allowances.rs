//! Allowances of apps and keys, and what was used of them.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text};
use dispatcher_core::{Consumption, Currency, Money, RequestShare, Work};

use crate::audit::note;
use crate::models::StoredAllowance;
use crate::schema::{access_keys, allowances};
use crate::words::Word;
use crate::{Durability, Store, StoreError};

/// Dispatches of a key, and of the tokens that were made with it.
const OF_KEY: &str = "d.principal = ?";
const DAY: i64 = 86_400 * 1_000_000;

/// What was used of an allowance is the sum of these records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UsageQuery {
    pub app: String,
    /// Requests with this key, or with a token that was made with it.
    pub key: Option<String>,
    /// Microseconds since 1970; 0 for all time.
    pub since: i64,
    /// The day of `since`, `YYYY-MM-DD`; empty for all time.
    pub since_day: String,
    /// Whether running requests count with what they hold.
    pub running: bool,
}

#[derive(QueryableByName)]
struct RequestSum {
    #[diesel(sql_type = Text, deserialize_as = Word<Work>)]
    work: Work,
    #[diesel(sql_type = BigInt)]
    requests: i64,
    #[diesel(sql_type = BigInt)]
    characters: i64,
    #[diesel(sql_type = BigInt)]
    audio_ms: i64,
}

#[derive(QueryableByName)]
struct CostSum {
    #[diesel(sql_type = Text, deserialize_as = Word<Currency>)]
    currency: Currency,
    #[diesel(sql_type = BigInt)]
    nanos: i64,
}

/// The beginning of all ids made since a time: they sort by it (UUID version 7,
/// RFC 9562, section 5.7).
pub(crate) fn id_since(micros: i64) -> String {
    match micros {
        ..=0 => String::new(),
        _ => format!("{:012x}", micros / 1_000),
    }
}

impl Store {
    /// Adds an allowance, unless its app has `most` already, with those of its
    /// keys; returns whether it was added.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if the app has no such key.
    pub async fn add_allowance(&self, row: StoredAllowance, most: i64) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some(key) = &row.key {
                let own = access_keys::table.filter(access_keys::id.eq(key)).filter(access_keys::app.eq(&row.app));
                if own.filter(access_keys::revoked_at.is_null()).count().get_result::<i64>(c)? == 0 {
                    return Err(StoreError::Missing { what: "key", name: key.clone() });
                }
            }
            let kept: i64 = allowances::table.filter(allowances::app.eq(&row.app)).count().get_result(c)?;
            if kept >= most {
                return Ok(false);
            }
            diesel::insert_into(allowances::table).values(row.clone()).execute(c)?;
            note(c, row.made_at, &row.made_by, "allowance.add", &format!("{} of {}", row.id, row.app))?;
            Ok(true)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Removes an allowance of an app.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if the app has none with this id.
    pub async fn remove_allowance(&self, app: String, id: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let own = allowances::table.filter(allowances::id.eq(&id)).filter(allowances::app.eq(&app));
            if diesel::delete(own).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "allowance", name: id });
            }
            note(c, at, &by, "allowance.remove", &format!("{id} of {app}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// All allowances, the oldest first.
    pub async fn allowances(&self) -> Result<Vec<StoredAllowance>, StoreError> {
        self.read(|c| {
            let all = allowances::table.order((allowances::app, allowances::made_at, allowances::id));
            Ok(all.select(StoredAllowance::as_select()).load(c)?)
        })
        .await
    }

    /// What requests used since a time, by the day on which they were charged.
    /// Failed requests count with their charges only.
    pub async fn used_since(&self, query: UsageQuery) -> Result<Consumption, StoreError> {
        self.read(move |c| {
            let UsageQuery { app, key, since, since_day, running } = query;
            let mut used = Consumption::default();
            let of_key = if key.is_some() { OF_KEY } else { "? IS NULL" };
            let requests = format!(
                "SELECT d.work AS work, count(*) AS requests, sum(d.characters) AS characters, \
                 sum(d.audio_ms) AS audio_ms FROM dispatches d WHERE d.app = ? AND {of_key} AND d.id >= ? \
                 AND d.rehearsal = 0 AND d.state <> 'failed' AND (? = 1 OR d.state <> 'running') GROUP BY d.work"
            );
            let mut rows: Vec<RequestSum> = diesel::sql_query(requests)
                .bind::<Text, _>(&app)
                .bind::<Nullable<Text>, _>(&key)
                .bind::<Text, _>(id_since(since))
                .bind::<BigInt, _>(i64::from(running))
                .load(c)?;
            // Dispatches are kept for longer than a period.
            if since == 0 {
                let removed = format!(
                    "SELECT d.work AS work, sum(d.requests) AS requests, sum(d.characters) AS characters, \
                     sum(d.audio_ms) AS audio_ms FROM removed_requests d WHERE d.app = ? AND {of_key} GROUP BY d.work"
                );
                rows.append(
                    &mut diesel::sql_query(removed).bind::<Text, _>(&app).bind::<Nullable<Text>, _>(&key).load(c)?,
                );
            }
            let count = |count: i64| u64::try_from(count).unwrap_or_default();
            for row in rows {
                let nothing = Money::zero(Currency::EUR);
                let share = match row.work {
                    Work::Synthesis => {
                        RequestShare { characters: count(row.characters), milliseconds: 0, cost: nothing }
                    }
                    Work::Recognition => RequestShare::of_audio(count(row.audio_ms), nothing),
                };
                used.add(count(row.requests), share);
            }
            let kinds = if running { "'hold', 'release', 'settle', 'adjust'" } else { "'settle', 'adjust'" };
            let mut costs: Vec<CostSum> = match key.clone() {
                None => diesel::sql_query(format!(
                    "SELECT currency, sum(nanos) AS nanos FROM ledger \
                     WHERE app = ? AND day >= ? AND kind IN ({kinds}) GROUP BY currency"
                ))
                .bind::<Text, _>(&app)
                .bind::<Text, _>(&since_day)
                .load(c)?,
                // A request can be charged on the day after the one on which it began.
                Some(key) => diesel::sql_query(format!(
                    "SELECT l.currency AS currency, sum(l.nanos) AS nanos \
                     FROM dispatches d JOIN ledger l ON l.dispatch = d.id \
                     WHERE d.app = ? AND {OF_KEY} AND d.id >= ? AND l.day >= ? AND l.kind IN ({kinds}) \
                     GROUP BY l.currency"
                ))
                .bind::<Text, _>(&app)
                .bind::<Text, _>(&key)
                .bind::<Text, _>(id_since(since - DAY))
                .bind::<Text, _>(&since_day)
                .load(c)?,
            };
            if let Some(key) = key.filter(|_| since == 0) {
                let removed = format!(
                    "SELECT d.currency AS currency, sum(d.nanos) AS nanos FROM removed_costs d \
                     WHERE d.app = ? AND {OF_KEY} GROUP BY d.currency"
                );
                costs.append(&mut diesel::sql_query(removed).bind::<Text, _>(&app).bind::<Text, _>(&key).load(c)?);
            }
            for CostSum { currency, nanos } in costs {
                used.add(0, RequestShare::of_audio(0, Money { nanos, currency }));
            }
            Ok(used)
        })
        .await
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_core::{Allowance, AllowanceAmount, AllowancePeriod};

    use super::*;
    use crate::models::{App, LedgerEntry, SampleDispatch, StoredDispatch};
    use crate::states::{DispatchState, LedgerKind};

    async fn store(folder: &tempfile::TempDir) -> Store {
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        store.add_app(App::new("quay", "Quay", 1), "test".into()).await.expect("an app");
        store
    }

    #[tokio::test]
    async fn allowances_are_kept_with_their_terms_up_to_a_number() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = store(&folder).await;
        let dollars = Money { nanos: 7, currency: "USD".parse().expect("a currency") };
        let terms = [
            Allowance { amount: AllowanceAmount::Cost(dollars), period: AllowancePeriod::Month },
            Allowance { amount: AllowanceAmount::Milliseconds(9), period: AllowancePeriod::Total },
        ];
        let row = |id: usize, key: Option<&str>| {
            let owner = ("quay".to_owned(), key.map(str::to_owned));
            StoredAllowance::new(id.to_string(), owner, terms[id % 2], ("k1", id as i64))
        };
        assert!(store.add_allowance(row(0, None), 2).await.expect("written"));
        let missing = store.add_allowance(row(1, Some("k9")), 2).await;
        assert!(matches!(missing, Err(StoreError::Missing { what: "key", .. })));
        assert!(store.add_allowance(row(1, None), 2).await.expect("written"));
        assert!(!store.add_allowance(row(2, None), 2).await.expect("two are enough"));
        let kept = store.allowances().await.expect("read");
        assert_eq!(kept.iter().map(StoredAllowance::allowance).collect::<Vec<_>>(), terms);
        store.remove_allowance("quay".into(), "0".into(), "k1".into(), 5).await.expect("removed");
        assert!(store.remove_allowance("quay".into(), "0".into(), "k1".into(), 5).await.is_err());
        assert_eq!(store.allowances().await.expect("read").len(), 1);
    }

    #[tokio::test]
    async fn what_was_used_is_counted_from_the_beginning_of_the_period_and_by_key() {
        const HOUR: i64 = 3_600 * 1_000_000;
        let folder = tempfile::tempdir().expect("a folder");
        let store = store(&folder).await;
        let midnight = 1_795_651_200_000_000_i64;
        let add = async |at: i64, day: &str, caller: &str, work: Work, state: DispatchState, nanos: i64| {
            let id = format!("{:012x}{caller}{}{state}", at / 1_000, work.name());
            let row = StoredDispatch {
                state,
                characters: 10,
                audio_ms: 2_000,
                caller: caller.into(),
                principal: caller.into(),
                ..StoredDispatch::begun(id.clone(), "quay", work, at)
            };
            let line = LedgerEntry {
                dispatch: id.clone(),
                attempt: 1,
                kind: if state == DispatchState::Running { LedgerKind::Hold } else { LedgerKind::Settle },
                app: "quay".into(),
                engine: "heron".into(),
                model: None,
                work,
                day: day.into(),
                characters: 10,
                audio_ms: 0,
                nanos,
                currency: Currency::EUR,
                at,
            };
            let sample = SampleDispatch { dispatch: row, attempts: Vec::new(), ledger: vec![line] };
            store.add_samples(vec![sample]).await.expect("written");
        };
        use DispatchState::{Done, Failed, Running};
        use Work::{Recognition, Synthesis};
        add(midnight - HOUR, "2026-11-25", "k1", Synthesis, Done, 1).await;
        add(midnight + HOUR, "2026-11-26", "k1", Synthesis, Done, 10).await;
        add(midnight + HOUR, "2026-11-26", "k2", Recognition, Done, 100).await;
        add(midnight + HOUR, "2026-11-26", "k1", Synthesis, Failed, 1_000).await;
        add(midnight + HOUR, "2026-11-26", "k1", Synthesis, Running, 10_000).await;
        let used = async |key: Option<&str>, since: i64, since_day: &str, running: bool| {
            let (app, key, since_day) = ("quay".to_owned(), key.map(str::to_owned), since_day.to_owned());
            let query = UsageQuery { app, key, since, since_day, running };
            let used = store.used_since(query).await.expect("read");
            let amounts = used.amounts;
            (used.requests, amounts.characters, amounts.milliseconds, amounts.costs.of(Currency::EUR).nanos)
        };
        assert_eq!(used(None, midnight, "2026-11-26", false).await, (2, 10, 2_000, 1_110));
        assert_eq!(used(None, midnight, "2026-11-26", true).await, (3, 20, 2_000, 11_110));
        assert_eq!(used(Some("k1"), midnight, "2026-11-26", false).await, (1, 10, 0, 1_010));
        assert_eq!(used(Some("k2"), 0, "", false).await, (1, 0, 2_000, 100));
        assert_eq!(used(None, 0, "", true).await, (4, 30, 2_000, 11_111));
    }
}
