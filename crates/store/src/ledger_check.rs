//! Checks of the ledger against itself, the attempts and the dispatches.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text};
use dispatcher_core::{Costs, Currency, Money};

use crate::words::Word;
use crate::{Store, StoreError};

/// Faults that are listed of each rule.
const LISTED: i64 = 20;

/// What a ledger must be, in words, and a query for the entries that differ:
/// `dispatch`, `attempt` and `detail`.
const RULES: [(&str, &str); 7] = [
    (
        "every entry belongs to an attempt, unless its dispatch was removed",
        "SELECT l.dispatch, l.attempt, l.kind || ' without an attempt' AS detail FROM ledger l \
         LEFT JOIN attempts a ON a.dispatch = l.dispatch AND a.number = l.attempt \
         WHERE a.dispatch IS NULL AND l.kind <> 'adjust' \
         AND l.dispatch > (SELECT last FROM removed_dispatches)",
    ),
    (
        "an attempt has one hold, then at most one release and one settlement",
        "SELECT dispatch, attempt, group_concat(kind, ', ') AS detail FROM \
         (SELECT * FROM ledger WHERE kind <> 'adjust' ORDER BY id) GROUP BY dispatch, attempt \
         HAVING sum(kind = 'hold') <> 1 OR sum(kind = 'release') > 1 OR sum(kind = 'settle') > sum(kind = 'release') \
         OR min(CASE kind WHEN 'hold' THEN id END) > min(id) \
         OR max(CASE kind WHEN 'release' THEN id END) > min(CASE kind WHEN 'settle' THEN id END)",
    ),
    (
        "a release returns what was held",
        "SELECT dispatch, attempt, sum(nanos) || ' of ' || currency || ' left' AS detail FROM ledger \
         WHERE kind IN ('hold', 'release') GROUP BY dispatch, attempt \
         HAVING sum(kind = 'release') = 1 AND \
         (sum(nanos) <> 0 OR sum(characters) <> 0 OR sum(audio_ms) <> 0 OR count(DISTINCT currency) > 1)",
    ),
    (
        "only running attempts hold anything",
        "SELECT l.dispatch, l.attempt, 'held by an attempt that is ' || a.state AS detail FROM ledger l \
         JOIN attempts a ON a.dispatch = l.dispatch AND a.number = l.attempt \
         WHERE l.kind = 'hold' AND a.state <> 'running' AND NOT EXISTS \
         (SELECT 1 FROM ledger r WHERE r.dispatch = l.dispatch AND r.attempt = l.attempt AND r.kind = 'release')",
    ),
    (
        "the cost of a dispatch is the sum of its settlements and adjustments",
        "SELECT d.id AS dispatch, 0 AS attempt, d.cost_nanos || ' on record, ' || sum(l.nanos) || ' in the ledger' AS detail \
         FROM dispatches d JOIN ledger l ON l.dispatch = d.id AND l.currency = d.currency \
         WHERE l.kind IN ('settle', 'adjust') AND d.state <> 'running' GROUP BY d.id HAVING sum(l.nanos) <> d.cost_nanos",
    ),
    (
        "an entry has the day of its time in UTC",
        "SELECT dispatch, attempt, day || ' for ' || datetime(at / 1000000, 'unixepoch') AS detail FROM ledger \
         WHERE day <> date(at / 1000000, 'unixepoch')",
    ),
    (
        "the sums of usage are those of the ledger",
        "SELECT day AS dispatch, 0 AS attempt, app || ', ' || engine || ': ' || sum(summed) || ' summed, ' \
         || sum(entered) || ' in the ledger' AS detail FROM ( \
         SELECT day, app, engine, currency, sum(nanos) AS summed, 0 AS entered FROM usage_hours GROUP BY 1, 2, 3, 4 \
         UNION ALL SELECT day, app, engine, currency, 0, sum(nanos) FROM ledger \
         WHERE kind IN ('settle', 'adjust') AND id <= (SELECT entry FROM rolled_up) GROUP BY 1, 2, 3, 4) \
         GROUP BY day, app, engine, currency HAVING sum(summed) <> sum(entered)",
    ),
];

/// The result of a check of the ledger.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LedgerCheck {
    /// Number of entries.
    pub entries: i64,
    /// Settled and adjusted, in each currency.
    pub settled: Costs,
    /// Held by running attempts, in each currency.
    pub held: Costs,
    /// The rules, in order.
    pub rules: Vec<LedgerRule>,
}

/// A rule of the ledger, and where it does not hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LedgerRule {
    /// The rule in words.
    pub rule: &'static str,
    /// Number of faults.
    pub count: i64,
    /// The first faults.
    pub faults: Vec<LedgerFault>,
}

/// A place of the ledger at which a rule does not hold.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct LedgerFault {
    #[diesel(sql_type = Text)]
    pub dispatch: String,
    /// 0 for the dispatch as a whole.
    #[diesel(sql_type = BigInt)]
    pub attempt: i64,
    #[diesel(sql_type = Text)]
    pub detail: String,
}

#[derive(QueryableByName)]
struct Sum {
    #[diesel(sql_type = Text, deserialize_as = Word<Currency>)]
    currency: Currency,
    #[diesel(sql_type = BigInt)]
    settled: i64,
    #[diesel(sql_type = BigInt)]
    held: i64,
    #[diesel(sql_type = BigInt)]
    entries: i64,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

impl LedgerCheck {
    /// Whether all rules hold.
    pub fn holds(&self) -> bool {
        self.rules.iter().all(|rule| rule.count == 0)
    }
}

impl Store {
    /// Checks all entries of the ledger, as they are at one moment.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn check_ledger(&self) -> Result<LedgerCheck, StoreError> {
        self.read(|c| c.transaction(check)).await
    }
}

fn check(c: &mut SqliteConnection) -> Result<LedgerCheck, StoreError> {
    let sums: Vec<Sum> = diesel::sql_query(
        "SELECT currency, sum(CASE WHEN kind IN ('settle', 'adjust') THEN nanos ELSE 0 END) AS settled, \
         sum(CASE WHEN kind IN ('hold', 'release') THEN nanos ELSE 0 END) AS held, count(*) AS entries \
         FROM ledger GROUP BY currency ORDER BY currency",
    )
    .load(c)?;
    let mut found = LedgerCheck { entries: 0, settled: Costs::default(), held: Costs::default(), rules: Vec::new() };
    for Sum { currency, settled, held, entries } in sums {
        found.entries += entries;
        let unreadable = |error: dispatcher_core::MoneyError| StoreError::Document(error.to_string());
        found.settled.add(Money { nanos: settled, currency }).map_err(unreadable)?;
        found.held.add(Money { nanos: held, currency }).map_err(unreadable)?;
    }
    for (rule, query) in RULES {
        let counted = format!("SELECT count(*) AS count FROM ({query})");
        let count = diesel::sql_query(counted).get_result::<Count>(c)?.count;
        let faults = match count {
            0 => Vec::new(),
            _ => diesel::sql_query(format!("{query} LIMIT ?")).bind::<BigInt, _>(LISTED).load(c)?,
        };
        found.rules.push(LedgerRule { rule, count, faults });
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use dispatcher_core::Work;

    use super::*;
    use crate::models::{LedgerEntry, SampleDispatch, StoredAttempt, StoredDispatch};
    use crate::states::{AttemptState, DispatchState, LedgerKind};

    const AT: i64 = 1_795_694_400_000_000;

    fn entry(kind: LedgerKind, nanos: i64) -> LedgerEntry {
        LedgerEntry {
            dispatch: "d1".into(),
            attempt: 1,
            kind,
            app: "quay".into(),
            engine: "heron".into(),
            model: None,
            work: Work::Synthesis,
            day: "2026-11-26".into(),
            characters: 0,
            audio_ms: 0,
            nanos,
            currency: Currency::EUR,
            at: AT,
        }
    }

    /// The rules that do not hold for one dispatch with these entries.
    async fn broken(state: AttemptState, cost: i64, ledger: Vec<LedgerEntry>) -> Vec<(&'static str, String)> {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("records.db")).expect("a store");
        let attempt = StoredAttempt { state, ..StoredAttempt::begun("d1", 1, "heron") };
        let running = state == AttemptState::Running;
        let dispatch = StoredDispatch {
            state: if running { DispatchState::Running } else { DispatchState::Done },
            cost_nanos: cost,
            ..StoredDispatch::begun("d1", "quay", Work::Synthesis, AT)
        };
        let sample = SampleDispatch { dispatch, attempts: vec![attempt], ledger };
        store.add_samples(vec![sample]).await.expect("written");
        let found = store.check_ledger().await.expect("read");
        let faults = found.rules.into_iter().filter(|rule| rule.count > 0);
        faults.map(|rule| (rule.rule, rule.faults[0].detail.clone())).collect()
    }

    #[tokio::test]
    async fn a_ledger_in_order_holds_and_shows_what_is_settled_and_held() {
        use LedgerKind::{Adjust, Hold, Release, Settle};
        let whole = vec![entry(Hold, 9), entry(Release, -9), entry(Settle, 7), entry(Adjust, -2)];
        assert_eq!(broken(AttemptState::Done, 5, whole).await, []);
        assert_eq!(broken(AttemptState::Running, 0, vec![entry(Hold, 9)]).await, []);
        assert_eq!(broken(AttemptState::Failed, 0, vec![entry(Hold, 9), entry(Release, -9)]).await, []);
    }

    #[tokio::test]
    async fn each_disorder_is_named_with_its_entry() {
        use LedgerKind::{Hold, Release, Settle};
        let only = async |state, cost, ledger| {
            let found = broken(state, cost, ledger).await;
            assert_eq!(found.len(), 1, "{found:?}");
            found.into_iter().next().expect("one")
        };
        let done = AttemptState::Done;
        let stray = LedgerEntry { attempt: 2, ..entry(Hold, 0) };
        let (rule, detail) = only(done, 0, vec![stray]).await;
        assert_eq!((rule, detail.as_str()), (RULES[0].0, "hold without an attempt"));
        let twice = vec![entry(Hold, 9), entry(Release, -9), entry(Settle, 3), entry(Settle, 3)];
        let (rule, detail) = only(done, 6, twice).await;
        assert_eq!((rule, detail.as_str()), (RULES[1].0, "hold, release, settle, settle"));
        let before = vec![entry(Hold, 9), entry(Settle, 3), entry(Release, -9)];
        assert_eq!(only(done, 3, before).await.0, RULES[1].0, "settled before the release");
        let less = vec![entry(Hold, 9), entry(Release, -8), entry(Settle, 3)];
        let (rule, detail) = only(done, 3, less).await;
        assert_eq!((rule, detail.as_str()), (RULES[2].0, "1 of EUR left"));
        let (rule, detail) = only(done, 0, vec![entry(Hold, 9)]).await;
        assert_eq!((rule, detail.as_str()), (RULES[3].0, "held by an attempt that is done"));
        let whole = || vec![entry(Hold, 9), entry(Release, -9), entry(Settle, 7)];
        let (rule, detail) = only(done, 8, whole()).await;
        assert_eq!((rule, detail.as_str()), (RULES[4].0, "8 on record, 7 in the ledger"));
        let yesterday = whole().into_iter().map(|entry| LedgerEntry { day: "2026-11-25".into(), ..entry }).collect();
        let (rule, detail) = only(done, 7, yesterday).await;
        assert_eq!((rule, detail.as_str()), (RULES[5].0, "2026-11-25 for 2026-11-26 12:00:00"));
    }
}
