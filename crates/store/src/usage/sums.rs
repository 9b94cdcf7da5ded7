//! Sums by hour, to which new entries of the ledger are added.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text};

use super::bucket_of;
use crate::models::StoredDispatch;
use crate::schema::usage_hours;
use crate::{Durability, Store, StoreError};

/// Entries that are added to the sums at once.
const AT_ONCE: i64 = 5_000;
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
}
