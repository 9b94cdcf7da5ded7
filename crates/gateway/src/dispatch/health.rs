//! What is measured of engines, voices, models and routes: how many calls
//! there were, how many failed, and how long they took, by the hour. Hours are
//! kept in the records; the present one and the one before are held here too.

use std::collections::HashMap;
use std::sync::Weak;
use std::time::Duration;

use dispatcher_core::Work;
use dispatcher_store::{HealthHour, HealthScope};
use hdrhistogram::Histogram;
use hdrhistogram::serialization::{Deserializer, Serializer as _, V2Serializer};
use parking_lot::Mutex;

use crate::{BreakerView, Gateway, GatewayError, Inner, now_micros};

/// Hours that are kept in the records.
pub const HOURS_KEPT: i64 = 7 * 24;
/// Interval at which hours are written.
const EVERY: Duration = Duration::from_secs(30);
/// Things that are measured at a time; more are not, since each takes memory.
const MOST: usize = 2_000;
/// Calls from which on a usual time is known.
const ENOUGH: u64 = 20;
const HOUR_MICROS: i64 = 3_600_000_000;
/// The longest time that a histogram distinguishes from longer ones: two hours.
const LONGEST_MICROS: u64 = 7_200_000_000;

/// How long calls took: a histogram to one in a hundred, which grows with the
/// values. It is missing only where one cannot be made at all.
#[derive(Clone)]
struct Times(Option<Histogram<u32>>);

impl Default for Times {
    fn default() -> Self {
        Times(Histogram::new(2).ok())
    }
}

impl Times {
    fn record(&mut self, micros: Option<i64>) {
        let micros = micros.and_then(|micros| u64::try_from(micros).ok());
        if let Some((micros, histogram)) = micros.zip(self.0.as_mut()) {
            // A histogram that grows takes every value.
            let _ = histogram.record(micros.clamp(1, LONGEST_MICROS));
        }
    }

    fn add(&mut self, other: &Times) {
        if let (Some(sum), Some(histogram)) = (&mut self.0, &other.0) {
            // One that grows takes in every other.
            let _ = sum.add(histogram);
        }
    }

    fn count(&self) -> u64 {
        self.0.as_ref().map_or(0, Histogram::len)
    }

    /// The time that a share of the calls stayed within.
    fn within(&self, share: f64) -> Duration {
        Duration::from_micros(self.0.as_ref().map_or(0, |histogram| histogram.value_at_quantile(share)))
    }

    fn percentiles(&self) -> Option<Percentiles> {
        let of = |share| self.within(share);
        (self.count() > 0).then(|| Percentiles { median: of(0.5), p95: of(0.95), p99: of(0.99) })
    }

    fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        if let Some(histogram) = &self.0 {
            // Writing to memory does not fail.
            let _ = V2Serializer::new().serialize(histogram, &mut bytes);
        }
        bytes
    }

    /// Bytes that are no histogram count as none.
    fn of_bytes(bytes: &[u8]) -> Times {
        let mut times =
            Deserializer::new().deserialize(&mut &bytes[..]).map_or_else(|_| Times::default(), |it| Times(Some(it)));
        if let Some(histogram) = &mut times.0 {
            histogram.auto(true);
        }
        times
    }
}

/// One hour of one thing.
#[derive(Clone)]
struct Hour {
    hour: i64,
    calls: i64,
    failures: i64,
    fallbacks: i64,
    first: Times,
    total: Times,
    written: bool,
}

/// How one call ended, for those that it says something of.
pub(crate) struct Sample<'a> {
    pub(crate) scope: HealthScope,
    pub(crate) name: &'a str,
    pub(crate) work: Work,
    /// For a reason of the engine's own.
    pub(crate) failed: bool,
    /// It answered after another attempt had failed.
    pub(crate) fallback: bool,
    /// Microseconds.
    pub(crate) first: Option<i64>,
    pub(crate) total: Option<i64>,
}

/// Times of many calls.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Percentiles {
    pub median: Duration,
    pub p95: Duration,
    pub p99: Duration,
}

/// What was measured of one thing over some hours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MeasuredHealth {
    pub scope: HealthScope,
    /// An engine, `engine/voice`, `engine/model` or a route.
    pub name: String,
    pub work: Work,
    pub calls: u64,
    pub failures: u64,
    pub fallbacks: u64,
    /// Until the first audio, or the transcript, of calls that gave one.
    pub first: Option<Percentiles>,
    /// Until the end, of calls that did not fail.
    pub total: Option<Percentiles>,
}

type Series = HashMap<String, Vec<Hour>>;

/// What is measured.
#[derive(Default)]
pub(crate) struct HealthBook(Mutex<HashMap<(HealthScope, Work), Series>>);

fn hour_of(micros: i64) -> i64 {
    micros.div_euclid(HOUR_MICROS)
}

impl Hour {
    fn new(hour: i64) -> Hour {
        Hour {
            hour,
            calls: 0,
            failures: 0,
            fallbacks: 0,
            first: Times::default(),
            total: Times::default(),
            written: true,
        }
    }

    fn take(&mut self, sample: &Sample<'_>) {
        self.calls += 1;
        self.failures += i64::from(sample.failed);
        self.fallbacks += i64::from(sample.fallback);
        if !sample.failed {
            self.first.record(sample.first);
            self.total.record(sample.total);
        }
        self.written = false;
    }

    fn add(&mut self, other: &Hour) {
        self.calls += other.calls;
        self.failures += other.failures;
        self.fallbacks += other.fallbacks;
        self.first.add(&other.first);
        self.total.add(&other.total);
    }

    fn row(&self, scope: HealthScope, name: &str, work: Work) -> HealthHour {
        HealthHour {
            scope,
            name: name.to_owned(),
            work,
            hour: self.hour,
            calls: self.calls,
            failures: self.failures,
            fallbacks: self.fallbacks,
            first: self.first.to_bytes(),
            total: self.total.to_bytes(),
        }
    }

    fn of_row(row: &HealthHour) -> Hour {
        Hour {
            hour: row.hour,
            calls: row.calls,
            failures: row.failures,
            fallbacks: row.fallbacks,
            first: Times::of_bytes(&row.first),
            total: Times::of_bytes(&row.total),
            written: true,
        }
    }
}

impl HealthBook {
    pub(crate) fn note(&self, now: i64, sample: &Sample<'_>) {
        let mut book = self.0.lock();
        let measured: usize = book.values().map(HashMap::len).sum();
        let series = book.entry((sample.scope, sample.work)).or_default();
        let this = hour_of(now);
        let hours = match series.get_mut(sample.name) {
            Some(hours) => hours,
            None if measured >= MOST => return,
            None => series.entry(sample.name.to_owned()).or_default(),
        };
        if hours.last().is_none_or(|last| last.hour != this) {
            hours.push(Hour::new(this));
        }
        if let Some(hour) = hours.last_mut() {
            hour.take(sample);
        }
    }

    /// Hours that have changed since they were written last; what is over and
    /// written is forgotten.
    fn changed(&self, now: i64) -> Vec<HealthHour> {
        let mut book = self.0.lock();
        let mut rows = Vec::new();
        for ((scope, work), series) in book.iter_mut() {
            for (name, hours) in series.iter_mut() {
                for hour in hours.iter_mut().filter(|hour| !hour.written) {
                    rows.push(hour.row(*scope, name, *work));
                    hour.written = true;
                }
                hours.retain(|hour| hour.hour >= hour_of(now) - 1);
            }
            series.retain(|_, hours| !hours.is_empty());
        }
        rows
    }

    /// Takes up what an earlier run has written.
    fn take_up(&self, rows: &[HealthHour]) {
        let mut book = self.0.lock();
        for row in rows {
            let series = book.entry((row.scope, row.work)).or_default();
            series.entry(row.name.clone()).or_default().push(Hour::of_row(row));
        }
    }

    /// Calls and failures of each engine in this hour and the one before, where
    /// there were enough to know.
    pub(crate) fn failing(&self, now: i64) -> Vec<(String, Work, i64, i64)> {
        let book = self.0.lock();
        let mut sums = Vec::new();
        for ((_, work), series) in book.iter().filter(|((scope, _), _)| *scope == HealthScope::Engine) {
            for (engine, hours) in series {
                let recent = || hours.iter().filter(|hour| hour.hour >= hour_of(now) - 1);
                let calls: i64 = recent().map(|hour| hour.calls).sum();
                let failures: i64 = recent().map(|hour| hour.failures).sum();
                if u64::try_from(calls).is_ok_and(|calls| calls >= ENOUGH) {
                    sums.push((engine.clone(), *work, calls, failures));
                }
            }
        }
        sums
    }

    /// How long the first audio, or the transcript, of something takes, by a
    /// share of its calls in this hour and the one before; `None` if there
    /// were too few to know.
    pub(crate) fn usual_first(&self, scope: HealthScope, name: &str, work: Work, share: f64) -> Option<Duration> {
        let book = self.0.lock();
        let hours = book.get(&(scope, work))?.get(name)?;
        let mut first = Times::default();
        hours.iter().rev().take(2).for_each(|hour| first.add(&hour.first));
        (first.count() >= ENOUGH).then(|| first.within(share))
    }
}

/// Rows of hours, added up thing by thing; those of one thing follow one another.
#[derive(Default)]
struct Sums {
    whole: Vec<MeasuredHealth>,
    /// What it is of, and its hours so far.
    open: Option<(HealthScope, String, Work, Hour)>,
}

impl Sums {
    fn take(&mut self, row: &HealthHour) {
        match &mut self.open {
            Some((scope, name, work, sum)) if (*scope, &*name, *work) == (row.scope, &row.name, row.work) => {
                sum.add(&Hour::of_row(row));
            }
            _ => {
                self.close();
                self.open = Some((row.scope, row.name.clone(), row.work, Hour::of_row(row)));
            }
        }
    }

    fn close(&mut self) {
        let Some((scope, name, work, sum)) = self.open.take() else { return };
        let count = |count: i64| u64::try_from(count).unwrap_or_default();
        self.whole.push(MeasuredHealth {
            scope,
            name,
            work,
            calls: count(sum.calls),
            failures: count(sum.failures),
            fallbacks: count(sum.fallbacks),
            first: sum.first.percentiles(),
            total: sum.total.percentiles(),
        });
    }

    fn finish(mut self) -> Vec<MeasuredHealth> {
        self.close();
        self.whole
    }
}

impl Gateway {
    /// What was measured in the last hours, the present one included, of one
    /// kind of thing.
    ///
    /// # Errors
    /// When the records cannot be written or read; so with all of these.
    pub async fn health(&self, scope: HealthScope, hours: u32) -> Result<Vec<MeasuredHealth>, GatewayError> {
        self.write_health().await?;
        let since = hour_of(now_micros()) - i64::from(hours.max(1)) + 1;
        let sums = self.inner.store.fold_health(scope, since, |sums: &mut Sums, row| sums.take(&row)).await?;
        Ok(sums.finish())
    }

    /// The breakers of engines that have failed lately.
    pub fn breakers(&self) -> Vec<BreakerView> {
        self.inner.breakers.views()
    }

    /// Closes the breakers of an engine: it is called again at once.
    ///
    /// # Errors
    /// Where there is no such engine.
    pub async fn reset_breakers(&self, engine: &str, by: &str) -> Result<(), GatewayError> {
        self.registry().engine(engine)?;
        self.inner.store.note("breaker.close", engine.to_owned(), by.to_owned(), now_micros()).await?;
        self.inner.breakers.reset(engine);
        Ok(())
    }

    /// Writes what is not written yet.
    pub(crate) async fn write_health(&self) -> Result<(), GatewayError> {
        let now = now_micros();
        let rows = self.inner.health.changed(now);
        if rows.is_empty() {
            return Ok(());
        }
        Ok(self.inner.store.put_health(rows, hour_of(now) - HOURS_KEPT).await?)
    }

    /// Takes up what the last run has measured, and writes now and then until
    /// the gateway is gone.
    pub(crate) async fn keep_health(&self) -> Result<(), GatewayError> {
        let rows = self.inner.store.health_since(hour_of(now_micros()) - 1).await?;
        self.inner.health.take_up(&rows);
        let inner: Weak<Inner> = std::sync::Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(EVERY).await;
                let Some(inner) = inner.upgrade() else { return };
                if let Err(error) = (Gateway { inner }).write_health().await {
                    tracing::warn!(%error, "what was measured of engines was not written");
                }
            }
        });
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(name: &str, first: i64) -> Sample<'_> {
        Sample {
            scope: HealthScope::Engine,
            name,
            work: Work::Synthesis,
            failed: false,
            fallback: false,
            first: Some(first),
            total: Some(10 * first),
        }
    }

    #[test]
    fn hours_are_written_once_and_add_up() {
        let book = HealthBook::default();
        let hour = 400_000;
        for call in 1..=100 {
            book.note(hour * HOUR_MICROS + call, &sample("heron", call * 1_000));
        }
        let failed = Sample { failed: true, fallback: false, first: Some(9_000_000), ..sample("heron", 1) };
        book.note((hour + 1) * HOUR_MICROS, &failed);
        book.note((hour + 1) * HOUR_MICROS, &Sample { fallback: true, ..sample("heron", 50_000) });
        let mut rows = book.changed((hour + 1) * HOUR_MICROS);
        assert_eq!(rows.iter().map(|row| (row.hour - hour, row.calls)).collect::<Vec<_>>(), [(0, 100), (1, 2)]);
        assert_eq!(book.changed((hour + 1) * HOUR_MICROS), [], "nothing has changed since");
        let mut sums = Sums::default();
        rows.iter().for_each(|row| sums.take(row));
        sums.take(&HealthHour { name: "ibis".into(), ..rows[1].clone() });
        let all = sums.finish();
        assert_eq!(
            all.iter().map(|one| (one.name.as_str(), one.calls)).collect::<Vec<_>>(),
            [("heron", 102), ("ibis", 2)]
        );
        let told = &all[0];
        assert_eq!((told.calls, told.failures, told.fallbacks), (102, 1, 1));
        let first = told.first.expect("times");
        for (given, wanted) in [(first.median, 50), (first.p95, 95), (first.p99, 99)] {
            let milliseconds = given.as_micros() as f64 / 1_000.0;
            assert!((milliseconds / f64::from(wanted) - 1.0).abs() < 0.02, "{milliseconds} for {wanted}");
        }
        // What a crash has not lost is counted on.
        let later = HealthBook::default();
        later.take_up(&rows);
        later.note((hour + 1) * HOUR_MICROS, &sample("heron", 1_000));
        rows = later.changed((hour + 1) * HOUR_MICROS);
        assert_eq!(rows.iter().map(|row| (row.hour - hour, row.calls)).collect::<Vec<_>>(), [(1, 3)]);
    }

    #[test]
    fn a_usual_time_is_known_after_enough_calls() {
        let book = HealthBook::default();
        let usual = |share| book.usual_first(HealthScope::Engine, "heron", Work::Synthesis, share);
        for call in 0..19 {
            book.note(call, &sample("heron", 30_000));
        }
        assert_eq!(usual(0.5), None);
        book.note(20, &sample("heron", 900_000));
        let near = |given: Option<Duration>, wanted: u64| {
            given.is_some_and(|given| {
                given.abs_diff(Duration::from_millis(wanted)) < Duration::from_millis(wanted.div_ceil(50))
            })
        };
        assert!(near(usual(0.5), 30) && near(usual(1.0), 900), "{:?} {:?}", usual(0.5), usual(1.0));
        assert_eq!(book.usual_first(HealthScope::Engine, "heron", Work::Recognition, 0.5), None);
    }

    #[test]
    fn the_share_of_failures_is_known_after_enough_calls_of_two_hours() {
        let book = HealthBook::default();
        for call in 0..19 {
            book.note(call, &Sample { failed: call % 2 == 0, ..sample("heron", 30_000) });
        }
        assert_eq!(book.failing(0), []);
        book.note(HOUR_MICROS, &sample("heron", 30_000));
        assert_eq!(book.failing(HOUR_MICROS), [("heron".to_owned(), Work::Synthesis, 20, 10)]);
        assert_eq!(book.failing(2 * HOUR_MICROS), [], "one call is left of the last two hours");
    }

    #[test]
    fn no_more_things_are_measured_than_there_is_memory_for() {
        let book = HealthBook::default();
        for number in 0..MOST + 10 {
            book.note(0, &sample(&format!("heron/{number}"), 1_000));
        }
        assert_eq!(book.changed(0).len(), MOST);
    }
}
