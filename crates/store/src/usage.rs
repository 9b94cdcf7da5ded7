//! What was used and what it cost, in sums by hour that are made of the ledger.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text};
use dispatcher_core::{Currency, Money};

use crate::models::StoredDispatch;
use crate::schema::usage_hours;
use crate::words::Word;
use crate::{Durability, Store, StoreError};

/// What to group by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GroupBy {
    App,
    Engine,
    Day,
    Hour,
    Model,
    Work,
    /// The key, token or person that made the request.
    Key,
    Voice,
    /// What was requested: a route, a voice, an engine or criteria.
    Route,
    Language,
}

impl GroupBy {
    /// All of them.
    pub const ALL: [GroupBy; 10] = [
        GroupBy::App,
        GroupBy::Key,
        GroupBy::Engine,
        GroupBy::Voice,
        GroupBy::Model,
        GroupBy::Route,
        GroupBy::Language,
        GroupBy::Work,
        GroupBy::Day,
        GroupBy::Hour,
    ];

    /// The name in requests.
    pub fn name(self) -> &'static str {
        match self {
            GroupBy::App => "app",
            GroupBy::Key => "key",
            GroupBy::Engine => "engine",
            GroupBy::Voice => "voice",
            GroupBy::Model => "model",
            GroupBy::Route => "route",
            GroupBy::Language => "language",
            GroupBy::Work => "work",
            GroupBy::Day => "day",
            GroupBy::Hour => "hour",
        }
    }

    /// The grouping of a name.
    pub fn from_name(name: &str) -> Option<GroupBy> {
        GroupBy::ALL.into_iter().find(|group| group.name() == name)
    }

    /// Its column of the sums by hour.
    fn column(self) -> &'static str {
        match self {
            GroupBy::Key => "caller",
            other => other.name(),
        }
    }
}

/// A bucket of the latency is longer than the one before it by this factor.
const LONGER: f64 = 1.1;
/// Microseconds of the first bucket.
const SHORTEST: f64 = 1_000.0;
/// Entries that are added to the sums at once.
const AT_ONCE: i64 = 5_000;
/// Groups of a report.
const MOST_GROUPS: usize = 20_000;

fn bucket_of(micros: i64) -> i64 {
    ((micros as f64).max(SHORTEST) / SHORTEST).log(LONGER).round() as i64
}

/// Microseconds of a bucket.
fn micros_of(bucket: i64) -> i64 {
    (SHORTEST * LONGER.powi(i32::try_from(bucket).unwrap_or(i32::MAX))).round() as i64
}

/// Usage of one group in one currency.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct UsageTotal {
    #[diesel(sql_type = Text)]
    pub first: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub second: Option<String>,
    #[diesel(sql_type = Text, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    /// Requests that were charged; each counts for the engine that was charged first.
    #[diesel(sql_type = BigInt)]
    pub requests: i64,
    /// Attempts that failed.
    #[diesel(sql_type = BigInt)]
    pub failures: i64,
    /// Requests that another engine failed before.
    #[diesel(sql_type = BigInt)]
    pub fallbacks: i64,
    /// Requests that were answered with kept audio.
    #[diesel(sql_type = BigInt)]
    pub recalled: i64,
    #[diesel(sql_type = BigInt)]
    pub characters: i64,
    #[diesel(sql_type = BigInt)]
    pub audio_ms: i64,
    #[diesel(sql_type = BigInt)]
    pub nanos: i64,
    /// What the recalled requests would have cost.
    #[diesel(sql_type = BigInt)]
    pub saved_nanos: i64,
    /// Microseconds until the first audio, or until the transcript, to a
    /// twentieth: half of the group's calls took no longer, in all currencies.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub median_us: Option<i64>,
    /// The same of 95 calls of 100.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub p95_us: Option<i64>,
}

impl UsageTotal {
    /// What it cost.
    pub fn cost(&self) -> Money {
        Money { nanos: self.nanos, currency: self.currency }
    }

    /// What was saved by recall.
    pub fn saved(&self) -> Money {
        Money { nanos: self.saved_nanos, currency: self.currency }
    }
}

/// An entry that is not in the sums yet, with its dispatch and attempt.
#[derive(QueryableByName)]
struct Fact {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Text)]
    day: String,
    #[diesel(sql_type = Text)]
    hour: String,
    #[diesel(sql_type = Text)]
    app: String,
    #[diesel(sql_type = Text)]
    caller: String,
    #[diesel(sql_type = Text)]
    engine: String,
    #[diesel(sql_type = Text)]
    voice: String,
    #[diesel(sql_type = Text)]
    model: String,
    #[diesel(sql_type = Text)]
    route: String,
    #[diesel(sql_type = Text)]
    language: String,
    #[diesel(sql_type = Text)]
    work: String,
    #[diesel(sql_type = Text)]
    currency: String,
    #[diesel(sql_type = BigInt)]
    characters: i64,
    #[diesel(sql_type = BigInt)]
    audio_ms: i64,
    #[diesel(sql_type = BigInt)]
    nanos: i64,
    /// Whether it is the first settlement of its dispatch.
    #[diesel(sql_type = BigInt)]
    first: i64,
    /// Whether its attempt failed.
    #[diesel(sql_type = BigInt)]
    failed: i64,
    /// Whether an attempt before it failed.
    #[diesel(sql_type = BigInt)]
    fallback: i64,
    #[diesel(sql_type = Nullable<BigInt>)]
    took: Option<i64>,
}

const FACTS: &str = "SELECT l.id, l.kind, l.day, \
     l.day || strftime('T%H:00Z', l.at / 1000000, 'unixepoch') AS hour, l.app, coalesce(d.caller, '') AS caller, \
     l.engine, coalesce(l.engine || '/' || a.voice, '') AS voice, coalesce(l.model, '') AS model, \
     coalesce(d.requested, '') AS route, coalesce(d.language, '') AS language, l.work, l.currency, \
     l.characters, l.audio_ms, l.nanos, \
     l.kind = 'settle' AND NOT EXISTS (SELECT 1 FROM ledger s WHERE s.dispatch = l.dispatch \
       AND s.kind = 'settle' AND s.id < l.id) AS first, \
     coalesce(a.state = 'failed', 0) AS failed, \
     EXISTS (SELECT 1 FROM attempts f WHERE f.dispatch = l.dispatch AND f.number < l.attempt \
       AND f.state = 'failed') AS fallback, \
     CASE WHEN a.state = 'done' THEN coalesce(a.first_us, a.total_us) END AS took \
     FROM ledger l LEFT JOIN dispatches d ON d.id = l.dispatch \
     LEFT JOIN attempts a ON a.dispatch = l.dispatch AND a.number = l.attempt \
     WHERE l.id > ? AND l.kind <> 'hold' ORDER BY l.id LIMIT ?";

/// Counts of one hour and group: requests, failures, fallbacks, recalled, characters, audio, cost, saved.
type Counts = [i64; 8];

#[derive(Default)]
struct Sums {
    hours: BTreeMap<[String; 11], Counts>,
    /// By hour, group and bucket.
    latency: BTreeMap<([String; 10], i64), i64>,
}

impl Sums {
    fn add(&mut self, fact: Fact) {
        let Fact { day, hour, app, caller, engine, voice, model, route, language, work, currency, .. } = fact;
        let counts = match fact.kind.as_str() {
            "release" => [0, fact.failed, 0, 0, 0, 0, 0, 0],
            _ => [fact.first, 0, fact.first * fact.fallback, 0, fact.characters, fact.audio_ms, fact.nanos, 0],
        };
        if counts != Counts::default() {
            let key = [day, hour, app, caller, engine, voice, model, route, language, work, currency];
            let took = fact.took.filter(|_| fact.kind == "settle");
            if let Some(took) = took {
                let [day, hour, app, caller, engine, voice, model, route, language, work, _] = key.clone();
                let key = [day, hour, app, caller, engine, voice, model, route, language, work];
                *self.latency.entry((key, bucket_of(took))).or_default() += 1;
            }
            let sum = self.hours.entry(key).or_default();
            sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum = sum.saturating_add(count));
        }
    }

    fn write(self, c: &mut SqliteConnection) -> Result<(), StoreError> {
        for (key, counts) in &self.hours {
            add_counts(c, key, counts)?;
        }
        let mut by_day: BTreeMap<(Vec<&String>, i64), i64> = BTreeMap::new();
        for ((key, bucket), calls) in &self.latency {
            add_calls(c, LATENCY_OF_HOUR, key, (*bucket, *calls))?;
            let of_day = key[..1].iter().chain(&key[2..]).collect();
            *by_day.entry((of_day, *bucket)).or_default() += calls;
        }
        for ((key, bucket), calls) in by_day {
            add_calls(c, LATENCY_OF_DAY, key, (bucket, calls))?;
        }
        Ok(())
    }
}

const LATENCY_OF_HOUR: &str = "INSERT INTO usage_latency_hours VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) \
     ON CONFLICT DO UPDATE SET calls = calls + excluded.calls";
const LATENCY_OF_DAY: &str = "INSERT INTO usage_latency VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) \
     ON CONFLICT DO UPDATE SET calls = calls + excluded.calls";

/// Adds calls of a bucket to a group, whose columns are in the order of its table.
fn add_calls<'k>(
    c: &mut SqliteConnection,
    statement: &str,
    group: impl IntoIterator<Item = &'k String>,
    (bucket, calls): (i64, i64),
) -> Result<(), StoreError> {
    let mut query = diesel::sql_query(statement).into_boxed();
    for text in group {
        query = query.bind::<Text, _>(text);
    }
    query.bind::<BigInt, _>(bucket).bind::<BigInt, _>(calls).execute(c)?;
    Ok(())
}

/// One row of the sums by hour.
#[derive(Insertable)]
#[diesel(table_name = usage_hours)]
struct HourRow<'a> {
    day: &'a str,
    hour: &'a str,
    app: &'a str,
    caller: &'a str,
    engine: &'a str,
    voice: &'a str,
    model: &'a str,
    route: &'a str,
    language: &'a str,
    work: &'a str,
    currency: &'a str,
    requests: i64,
    failures: i64,
    fallbacks: i64,
    recalled: i64,
    characters: i64,
    audio_ms: i64,
    nanos: i64,
    saved_nanos: i64,
}

fn add_counts(c: &mut SqliteConnection, key: &[String; 11], counts: &Counts) -> Result<(), StoreError> {
    use diesel::upsert::excluded;
    use usage_hours::dsl as of;
    let [day, hour, app, caller, engine, voice, model, route, language, work, currency] = key;
    let [requests, failures, fallbacks, recalled, characters, audio_ms, nanos, saved_nanos] = *counts;
    let row = HourRow {
        day,
        hour,
        app,
        caller,
        engine,
        voice,
        model,
        route,
        language,
        work,
        currency,
        requests,
        failures,
        fallbacks,
        recalled,
        characters,
        audio_ms,
        nanos,
        saved_nanos,
    };
    diesel::insert_into(usage_hours::table)
        .values(row)
        .on_conflict((
            of::day,
            of::hour,
            of::app,
            of::caller,
            of::engine,
            of::voice,
            of::model,
            of::route,
            of::language,
            of::work,
            of::currency,
        ))
        .do_update()
        .set((
            of::requests.eq(of::requests + excluded(of::requests)),
            of::failures.eq(of::failures + excluded(of::failures)),
            of::fallbacks.eq(of::fallbacks + excluded(of::fallbacks)),
            of::recalled.eq(of::recalled + excluded(of::recalled)),
            of::characters.eq(of::characters + excluded(of::characters)),
            of::audio_ms.eq(of::audio_ms + excluded(of::audio_ms)),
            of::nanos.eq(of::nanos + excluded(of::nanos)),
            of::saved_nanos.eq(of::saved_nanos + excluded(of::saved_nanos)),
        ))
        .execute(c)?;
    Ok(())
}

/// Day and hour in UTC of a time in microseconds since 1970, as the ledger and
/// `strftime` write them.
fn day_and_hour(micros: i64) -> (String, String) {
    let time = time::OffsetDateTime::from_unix_timestamp(micros.div_euclid(1_000_000));
    let time = time.unwrap_or(time::OffsetDateTime::UNIX_EPOCH);
    let day = format!("{:04}-{:02}-{:02}", time.year(), u8::from(time.month()), time.day());
    let hour = format!("{day}T{:02}:00Z", time.hour());
    (day, hour)
}

/// Adds a dispatch that was answered with kept audio: it has no entries.
pub(crate) fn add_recalled(c: &mut SqliteConnection, row: &StoredDispatch) -> Result<(), StoreError> {
    let (day, hour) = day_and_hour(row.started_at);
    let text = |part: &Option<String>| part.clone().unwrap_or_default();
    let voice = row.engine.as_ref().zip(row.voice.as_ref()).map(|(engine, voice)| format!("{engine}/{voice}"));
    let key = [
        day,
        hour,
        row.app.clone(),
        row.caller.clone(),
        text(&row.engine),
        voice.unwrap_or_default(),
        text(&row.model),
        row.requested.clone(),
        text(&row.language),
        row.work.name().to_owned(),
        row.currency.to_string(),
    ];
    add_counts(c, &key, &[0, 0, 0, 1, 0, 0, 0, row.saved_nanos])
}

#[derive(QueryableByName)]
struct Entry {
    #[diesel(sql_type = BigInt)]
    entry: i64,
}

/// The entry up to which the sums go, and those behind it.
fn next_facts(c: &mut SqliteConnection) -> Result<(i64, Vec<Fact>), StoreError> {
    let rolled: Entry = diesel::sql_query("SELECT entry FROM rolled_up").get_result(c)?;
    let facts = diesel::sql_query(FACTS).bind::<BigInt, _>(rolled.entry).bind::<BigInt, _>(AT_ONCE).load(c)?;
    Ok((rolled.entry, facts))
}

/// Adds the sums of the entries behind `from`, up to `last`, unless others did
/// so meanwhile.
fn roll_up(c: &mut SqliteConnection, (from, last): (i64, i64), sums: Sums) -> Result<(), StoreError> {
    let mark = diesel::sql_query("UPDATE rolled_up SET entry = ? WHERE entry = ?");
    match mark.bind::<BigInt, _>(last).bind::<BigInt, _>(from).execute(c)? {
        0 => Ok(()),
        _ => sums.write(c),
    }
}

#[derive(QueryableByName)]
struct LatencyCount {
    #[diesel(sql_type = Text)]
    first: String,
    #[diesel(sql_type = Nullable<Text>)]
    second: Option<String>,
    #[diesel(sql_type = BigInt)]
    bucket: i64,
    #[diesel(sql_type = BigInt)]
    calls: i64,
}

/// Median and 95th percentile of counts in the order of their buckets.
fn latency_of(counts: &[(i64, i64)]) -> Option<(i64, i64)> {
    let all: i64 = counts.iter().map(|(_, calls)| calls).sum();
    let percentile = |share: i64| {
        let rank = (all * share + 99) / 100;
        let mut passed = 0;
        let reached = counts.iter().find(|(_, calls)| {
            passed += calls;
            passed >= rank
        });
        reached.map_or(0, |(bucket, _)| micros_of(*bucket))
    };
    (all > 0).then(|| (percentile(50), percentile(95)))
}

impl Store {
    /// Adds all entries to the sums that are not in them yet. Reports do it
    /// first; now and then it spares them the work.
    pub async fn roll_up_usage(&self) -> Result<(), StoreError> {
        loop {
            // They are read and added up here, so that the writer is busy for a moment only.
            let (from, facts) = self.read(next_facts).await?;
            let Some(last) = facts.last().map(|fact| fact.id) else { return Ok(()) };
            let more = facts.len() as i64 == AT_ONCE;
            let mut sums = Sums::default();
            facts.into_iter().for_each(|fact| sums.add(fact));
            self.writer.submit(Durability::Process, move |c| roll_up(c, (from, last), sums)).await?;
            if !more {
                return Ok(());
            }
        }
    }

    /// Usage from one day to another, both included (`YYYY-MM-DD`), grouped by
    /// one or two columns. `apps` narrows it to some apps.
    ///
    /// # Errors
    /// [`StoreError::ManyGroups`] where the report would be too long.
    pub async fn usage(
        &self,
        by: (GroupBy, Option<GroupBy>),
        days: (String, String),
        apps: Option<Vec<String>>,
    ) -> Result<Vec<UsageTotal>, StoreError> {
        self.roll_up_usage().await?;
        self.read(move |c| {
            // Columns come from the closed list above; values are bound.
            let first = by.0.column();
            let second = by.1.map_or("NULL", GroupBy::column);
            let apps = apps.map(serde_json::Value::from).map(|apps| apps.to_string());
            let of = "day BETWEEN ? AND ? AND (? IS NULL OR app IN (SELECT value FROM json_each(?)))";
            let statement = format!(
                "SELECT {first} AS first, {second} AS second, currency, sum(requests) AS requests, \
                 sum(failures) AS failures, sum(fallbacks) AS fallbacks, sum(recalled) AS recalled, \
                 sum(characters) AS characters, sum(audio_ms) AS audio_ms, sum(nanos) AS nanos, \
                 sum(saved_nanos) AS saved_nanos, NULL AS median_us, NULL AS p95_us FROM usage_hours WHERE {of} GROUP BY 1, 2, 3 ORDER BY 1, 2, 3 \
                 LIMIT {}",
                MOST_GROUPS + 1
            );
            let bound = |statement: String| {
                diesel::sql_query(statement)
                    .bind::<Text, _>(days.0.clone())
                    .bind::<Text, _>(days.1.clone())
                    .bind::<Nullable<Text>, _>(apps.clone())
                    .bind::<Nullable<Text>, _>(apps.clone())
            };
            let mut totals: Vec<UsageTotal> = bound(statement).load(c)?;
            if totals.len() > MOST_GROUPS {
                return Err(StoreError::ManyGroups(MOST_GROUPS));
            }
            let by_hour = [Some(by.0), by.1].contains(&Some(GroupBy::Hour));
            let table = if by_hour { "usage_latency_hours" } else { "usage_latency" };
            let statement = format!(
                "SELECT {first} AS first, {second} AS second, bucket, sum(calls) AS calls FROM {table} \
                 WHERE {of} GROUP BY 1, 2, 3 ORDER BY 1, 2, 3"
            );
            let counts: Vec<LatencyCount> = bound(statement).load(c)?;
            add_latency(&mut totals, counts);
            Ok(totals)
        })
        .await
    }
}

fn add_latency(totals: &mut [UsageTotal], counts: Vec<LatencyCount>) {
    type Group = (String, Option<String>);
    let mut of_groups: BTreeMap<Group, Vec<(i64, i64)>> = BTreeMap::new();
    for LatencyCount { first, second, bucket, calls } in counts {
        of_groups.entry((first, second)).or_default().push((bucket, calls));
    }
    for total in totals {
        let counts = of_groups.get(&(total.first.clone(), total.second.clone()));
        (total.median_us, total.p95_us) = counts.and_then(|counts| latency_of(counts)).unzip();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_and_hours_are_those_of_the_calendar() {
        let mut c = SqliteConnection::establish(":memory:").expect("a database");
        #[derive(QueryableByName)]
        struct Moment {
            #[diesel(sql_type = Text)]
            hour: String,
        }
        let mut seconds: i64 = -2_000_000_000;
        while seconds < 10_000_000_000 {
            let told = diesel::sql_query("SELECT strftime('%Y-%m-%dT%H:00Z', ?, 'unixepoch') AS hour");
            let told: Moment = told.bind::<BigInt, _>(seconds).get_result(&mut c).expect("a time");
            let (day, hour) = day_and_hour(seconds * 1_000_000 + 999_999);
            assert_eq!((hour.as_str(), day.as_str()), (told.hour.as_str(), &told.hour[..10]), "{seconds}");
            seconds += 1_234_567;
        }
    }

    #[test]
    fn a_percentile_is_a_bucket_within_a_twentieth_of_what_was_measured() {
        for micros in [1_000, 1_499, 20_000, 333_333, 9_000_000] {
            let told = micros_of(bucket_of(micros));
            assert!((told - micros).abs() * 20 <= micros, "{micros} is told as {told}");
        }
        assert_eq!(micros_of(bucket_of(3)), 1_000, "shorter times are not told apart");
        let counts = [(10, 50), (20, 44), (30, 1), (40, 5)];
        assert_eq!(latency_of(&counts), Some((micros_of(10), micros_of(30))));
        assert_eq!(latency_of(&[]), None);
    }
}
