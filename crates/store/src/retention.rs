//! Records that are removed after a number of days. The ledger is never
//! touched, and what removed dispatches used stays counted.

use diesel::prelude::*;
use diesel::sql_types::Text;

use crate::allowances::id_since;
use crate::audit::note;
use crate::models::{RetentionRule, StoredRecall};
use crate::recall::delete_recalled;
use crate::schema::{audit, comparisons, dispatches, exchanges, recalled, retention_rules, transcripts};
use crate::states::{DispatchState, RetentionKind};
use crate::transcripts as kept_transcripts;
use crate::{Durability, Store, StoreError};

/// Records that one write removes, so that other writes do not wait long.
const BATCH: i64 = 500;

/// Records that were removed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RemovedRecords {
    /// Number of records.
    pub count: i64,
    /// Contents of kept audio that no record needs any more.
    pub contents: Vec<String>,
    /// Ids of removed comparisons, whose audio nobody needs any more.
    pub comparisons: Vec<String>,
}

/// What dispatches of a list of ids (a JSON array) used, added to what those
/// before them used.
const KEEP_SUMS: [&str; 2] = [
    "INSERT INTO removed_requests SELECT app, principal, work, count(*), sum(characters), sum(audio_ms) FROM dispatches \
     WHERE id IN (SELECT value FROM json_each(?)) AND rehearsal = 0 AND state <> 'failed' GROUP BY 1, 2, 3 \
     ON CONFLICT DO UPDATE SET requests = requests + excluded.requests, \
     characters = characters + excluded.characters, audio_ms = audio_ms + excluded.audio_ms",
    "INSERT INTO removed_costs SELECT d.app, d.principal, l.currency, sum(l.nanos) FROM dispatches d \
     JOIN ledger l ON l.dispatch = d.id WHERE d.id IN (SELECT value FROM json_each(?)) \
     AND l.kind IN ('settle', 'adjust') GROUP BY 1, 2, 3 \
     ON CONFLICT DO UPDATE SET nanos = nanos + excluded.nanos",
];
const REMOVE: [&str; 2] = [
    "DELETE FROM attempts WHERE dispatch IN (SELECT value FROM json_each(?))",
    "DELETE FROM dispatches WHERE id IN (SELECT value FROM json_each(?))",
];

fn remove_dispatches(c: &mut SqliteConnection, before: i64) -> Result<RemovedRecords, StoreError> {
    let ids: Vec<String> = dispatches::table
        .filter(dispatches::id.lt(id_since(before)))
        .filter(dispatches::state.ne(DispatchState::Running))
        .order(dispatches::id)
        .limit(BATCH)
        .select(dispatches::id)
        .load(c)?;
    let Some(last) = ids.last().cloned() else { return Ok(RemovedRecords::default()) };
    let list = serde_json::Value::from(ids.clone()).to_string();
    for statement in KEEP_SUMS.into_iter().chain(REMOVE) {
        diesel::sql_query(statement).bind::<Text, _>(&list).execute(c)?;
    }
    diesel::sql_query("UPDATE removed_dispatches SET last = max(last, ?)").bind::<Text, _>(last).execute(c)?;
    Ok(RemovedRecords { count: ids.len() as i64, ..RemovedRecords::default() })
}

fn remove_transcripts(c: &mut SqliteConnection, before: i64) -> Result<RemovedRecords, StoreError> {
    let old = transcripts::table.filter(transcripts::made_at.lt(before)).limit(BATCH);
    let ids: Vec<String> = old.select(transcripts::id).load(c)?;
    for id in &ids {
        kept_transcripts::delete(c, id)?;
    }
    Ok(RemovedRecords { count: ids.len() as i64, ..RemovedRecords::default() })
}

fn remove_kept_answers(c: &mut SqliteConnection, before: i64) -> Result<RemovedRecords, StoreError> {
    let old = recalled::table.filter(recalled::made_at.lt(before)).limit(BATCH);
    let rows: Vec<StoredRecall> = old.select(StoredRecall::as_select()).load(c)?;
    let contents = delete_recalled(c, &rows)?;
    Ok(RemovedRecords { count: rows.len() as i64, contents, ..RemovedRecords::default() })
}

fn remove_comparisons(c: &mut SqliteConnection, before: i64) -> Result<RemovedRecords, StoreError> {
    let old = comparisons::table.filter(comparisons::made_at.lt(before)).limit(BATCH);
    let ids: Vec<String> = old.select(comparisons::id).load(c)?;
    diesel::delete(comparisons::table.filter(comparisons::id.eq_any(&ids))).execute(c)?;
    Ok(RemovedRecords { count: ids.len() as i64, comparisons: ids, ..RemovedRecords::default() })
}

fn remove_exchanges(c: &mut SqliteConnection, before: i64) -> Result<RemovedRecords, StoreError> {
    let old = exchanges::table.filter(exchanges::begun_at.lt(before)).limit(BATCH);
    let ids: Vec<String> = old.select(exchanges::id).load(c)?;
    diesel::delete(exchanges::table.filter(exchanges::id.eq_any(&ids))).execute(c)?;
    Ok(RemovedRecords { count: ids.len() as i64, ..RemovedRecords::default() })
}

fn remove_audit(c: &mut SqliteConnection, before: i64) -> Result<RemovedRecords, StoreError> {
    let old = audit::table.filter(audit::at.lt(before)).order(audit::id).limit(BATCH);
    let ids: Vec<i64> = old.select(audit::id).load(c)?;
    diesel::delete(audit::table.filter(audit::id.eq_any(&ids))).execute(c)?;
    Ok(RemovedRecords { count: ids.len() as i64, ..RemovedRecords::default() })
}

impl Store {
    /// The rules, by kind.
    pub async fn retention_rules(&self) -> Result<Vec<RetentionRule>, StoreError> {
        self.read(|c| {
            Ok(retention_rules::table.order(retention_rules::kind).select(RetentionRule::as_select()).load(c)?)
        })
        .await
    }

    /// Sets the rule of a kind, in place of the one before it.
    pub async fn set_retention(&self, rule: RetentionRule) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::replace_into(retention_rules::table).values(&rule).execute(c)?;
            let subject = format!("{}, days: {}", rule.kind, rule.days);
            note(c, rule.made_at, &rule.made_by, "retention.set", &subject)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Ends the rule of a kind.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where it has none.
    pub async fn end_retention(&self, kind: RetentionKind, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if diesel::delete(retention_rules::table.find(kind)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "retention rule", name: kind.to_string() });
            }
            note(c, at, &by, "retention.end", kind.name())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Number of records of a kind from before a time in microseconds since
    /// 1970.
    pub async fn older(&self, kind: RetentionKind, before: i64) -> Result<i64, StoreError> {
        self.read(move |c| {
            Ok(match kind {
                RetentionKind::Dispatches => dispatches::table
                    .filter(dispatches::id.lt(id_since(before)))
                    .filter(dispatches::state.ne(DispatchState::Running))
                    .count()
                    .get_result(c)?,
                RetentionKind::Transcripts => {
                    transcripts::table.filter(transcripts::made_at.lt(before)).count().get_result(c)?
                }
                RetentionKind::KeptAnswers => {
                    recalled::table.filter(recalled::made_at.lt(before)).count().get_result(c)?
                }
                RetentionKind::Exchanges => {
                    exchanges::table.filter(exchanges::begun_at.lt(before)).count().get_result(c)?
                }
                RetentionKind::Comparisons => {
                    comparisons::table.filter(comparisons::made_at.lt(before)).count().get_result(c)?
                }
                RetentionKind::Uploads => 0,
                RetentionKind::Audit => audit::table.filter(audit::at.lt(before)).count().get_result(c)?,
            })
        })
        .await
    }

    /// Removes some of the records of a kind from before a time; none are left
    /// when it gives none. Sums of usage must have been brought up to date.
    pub async fn remove_older(&self, kind: RetentionKind, before: i64) -> Result<RemovedRecords, StoreError> {
        let write = move |c: &mut SqliteConnection| match kind {
            RetentionKind::Dispatches => remove_dispatches(c, before),
            RetentionKind::Transcripts => remove_transcripts(c, before),
            RetentionKind::KeptAnswers => remove_kept_answers(c, before),
            RetentionKind::Exchanges => remove_exchanges(c, before),
            RetentionKind::Comparisons => remove_comparisons(c, before),
            RetentionKind::Uploads => Ok(RemovedRecords::default()),
            RetentionKind::Audit => remove_audit(c, before),
        };
        self.writer.submit(Durability::Disk, write).await
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_core::{Consumption, Currency, Work};

    use super::*;
    use crate::models::{App, LedgerEntry, SampleDispatch, StoredAttempt, StoredDispatch};
    use crate::states::{AttemptState, LedgerKind};
    use crate::{GroupBy, UsageQuery};

    const DAY: i64 = 86_400_000_000;
    const NOON: i64 = 1_795_694_400_000_000;

    fn sample(days_ago: i64, key: &str, state: DispatchState, nanos: i64) -> SampleDispatch {
        let at = NOON - days_ago * DAY;
        let id = format!("{:012x}{key}{state}", at / 1_000);
        let attempt = StoredAttempt {
            state: AttemptState::Done,
            first_us: Some(90_000),
            total_us: Some(200_000),
            ..StoredAttempt::begun(&id, 1, "heron")
        };
        let entry = |kind, nanos| LedgerEntry {
            dispatch: id.clone(),
            attempt: 1,
            kind,
            app: "quay".into(),
            engine: "heron".into(),
            model: None,
            work: Work::Synthesis,
            day: format!("2026-11-{:02}", 26 - days_ago),
            characters: 0,
            audio_ms: 0,
            nanos,
            currency: Currency::EUR,
            at,
        };
        use LedgerKind::{Hold, Release, Settle};
        let ledger = vec![entry(Hold, nanos), entry(Release, -nanos), entry(Settle, nanos)];
        let dispatch = StoredDispatch {
            state,
            characters: 10,
            cost_nanos: nanos,
            caller: key.into(),
            principal: key.into(),
            ..StoredDispatch::begun(id.clone(), "quay", Work::Synthesis, at)
        };
        SampleDispatch { dispatch, attempts: vec![attempt], ledger }
    }

    async fn used(store: &Store, key: Option<&str>) -> Consumption {
        let query = UsageQuery {
            app: "quay".into(),
            key: key.map(str::to_owned),
            since: 0,
            since_day: String::new(),
            running: true,
        };
        store.used_since(query).await.expect("read")
    }

    #[tokio::test]
    async fn removed_dispatches_stay_counted_and_the_ledger_stays_as_it_is() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        store.add_app(App::new("quay", "Quay", 1), "test".into()).await.expect("an app");
        let samples = [
            sample(9, "k1", DispatchState::Done, 5),
            sample(8, "k1", DispatchState::Failed, 30),
            sample(8, "k2", DispatchState::Done, 200),
            sample(1, "k1", DispatchState::Done, 1_000),
        ];
        store.add_samples(samples.to_vec()).await.expect("written");
        let days = || ("2026-11-01".to_owned(), "2026-11-30".to_owned());
        let usage = store.usage((GroupBy::Day, Some(GroupBy::Key)), days(), None).await.expect("read");
        let before = [used(&store, None).await, used(&store, Some("k1")).await, used(&store, Some("k2")).await];
        assert_eq!(before[1].requests, 2, "the one that failed is charged and not counted");
        assert_eq!(before[1].amounts.costs.of(Currency::EUR).nanos, 1_035);

        let cut = NOON - 7 * DAY;
        assert_eq!(store.older(RetentionKind::Dispatches, cut).await.expect("read"), 3);
        let removed = store.remove_older(RetentionKind::Dispatches, cut).await.expect("removed");
        assert_eq!(removed, RemovedRecords { count: 3, ..RemovedRecords::default() });
        assert_eq!(store.remove_older(RetentionKind::Dispatches, cut).await.expect("none").count, 0);

        let left = store.dispatches(crate::DispatchFilter { limit: 9, ..Default::default() }).await.expect("read");
        assert_eq!(left.iter().map(|dispatch| dispatch.cost_nanos).collect::<Vec<_>>(), [1_000]);
        let after = [used(&store, None).await, used(&store, Some("k1")).await, used(&store, Some("k2")).await];
        assert_eq!(after, before);
        assert_eq!(store.usage((GroupBy::Day, Some(GroupBy::Key)), days(), None).await.expect("read"), usage);
        let check = store.check_ledger().await.expect("read");
        assert!(check.holds(), "{:?}", check.rules);
        assert_eq!(check.entries, 12);
    }

    #[tokio::test]
    async fn an_entry_without_an_attempt_is_a_fault_still_where_nothing_was_removed() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        let old = sample(9, "k1", DispatchState::Done, 5);
        let stray = SampleDispatch { attempts: Vec::new(), ..sample(1, "k1", DispatchState::Done, 7) };
        store.add_samples(vec![old, stray]).await.expect("written");
        store.remove_older(RetentionKind::Dispatches, NOON - 7 * DAY).await.expect("removed");
        let check = store.check_ledger().await.expect("read");
        assert_eq!(check.rules[0].count, 3, "{:?}", check.rules);
    }

    #[tokio::test]
    async fn a_rule_is_set_changed_and_ended() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        let rule = |days| RetentionRule { kind: RetentionKind::Audit, days, made_by: "ada".into(), made_at: 7 };
        store.set_retention(rule(90)).await.expect("set");
        store.set_retention(rule(60)).await.expect("set");
        assert_eq!(store.retention_rules().await.expect("read"), [rule(60)]);
        store.end_retention(RetentionKind::Audit, "ada".into(), 8).await.expect("ended");
        assert!(store.end_retention(RetentionKind::Audit, "ada".into(), 9).await.is_err());
        let noted: Vec<_> = store.audit(9).await.expect("read").into_iter().map(|entry| entry.subject).collect();
        assert_eq!(noted, ["audit", "audit, days: 60", "audit, days: 90"]);
        assert_eq!(store.remove_older(RetentionKind::Audit, 8).await.expect("removed").count, 2);
        assert_eq!(store.audit(9).await.expect("read").len(), 1);
    }
}
