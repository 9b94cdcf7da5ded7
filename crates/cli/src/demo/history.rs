//! Four weeks of made-up requests, so that the lists, sums and charts of the
//! demo have something to show. No engine was called for any of them: each
//! record is marked as a sample, and `serve` refuses a data folder with samples.

use dispatcher_core::{Cause, MoneyError, PriceTerms, Sheet, Tariff, Usage, Work};
use dispatcher_gateway::day_of;
use dispatcher_store::{
    AttemptState, DispatchState, LedgerEntry, LedgerKind, SampleDispatch, StoredAttempt, StoredDispatch,
};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use uuid::{NoContext, Timestamp, Uuid};

use super::scenario;
use crate::error::CliError;

const SECOND: i64 = 1_000_000;
const HOUR: i64 = 3_600 * SECOND;
const DAY: i64 = 24 * HOUR;
/// Days of history before today.
const DAYS: i64 = 28;
/// Every demo has the same history.
const SEED: u64 = 615;

/// Heron's price per character until [`price_rise`].
pub(super) const OLD_PRICE: &str = "0.000014";

/// The midnight, 12 days before today, at which heron became dearer;
/// microseconds since 1970.
pub(super) fn price_rise(now: i64) -> i64 {
    midnight(now) - 12 * DAY
}

/// Start of the history, microseconds since 1970.
pub(super) fn beginning(now: i64) -> i64 {
    midnight(now) - DAYS * DAY
}

fn midnight(at: i64) -> i64 {
    at - at.rem_euclid(DAY)
}

/// Saturday or Sunday; 1970 began on a Thursday.
fn is_weekend(day: i64) -> bool {
    matches!((day.div_euclid(DAY) + 3).rem_euclid(7), 5 | 6)
}

/// A candidate of the route: engine, voice by language, and the range of its
/// time to first audio in milliseconds.
struct SampleLeg {
    engine: &'static str,
    voice: fn(&str) -> Option<&'static str>,
    first: (i64, i64),
    /// Milliseconds.
    deadline: i64,
}

/// How one app uses the gateway.
struct Habit {
    app: &'static str,
    work: Work,
    route: &'static str,
    media_type: &'static str,
    /// Requests of a weekday and of a day at the weekend, each give or take a quarter.
    daily: (i64, i64),
    /// Hours of the day between which it works.
    hours: (i64, i64),
    /// Least and most characters of a text, or seconds of a recording.
    size: (i64, i64),
    legs: [SampleLeg; 2],
}

const HABITS: [Habit; 3] = [
    Habit {
        app: "quay-announcer",
        work: Work::Synthesis,
        route: "quayside",
        media_type: "audio/mpeg",
        daily: (44, 26),
        hours: (5, 23),
        size: (38, 140),
        legs: [
            SampleLeg { engine: "heron", voice: heron_voice, first: (170, 420), deadline: 3_000 },
            SampleLeg { engine: "espeak-ng", voice: espeak_voice, first: (25, 70), deadline: 5_000 },
        ],
    },
    Habit {
        app: "helpline",
        work: Work::Synthesis,
        route: "harbour-phone",
        media_type: "audio/PCMU",
        daily: (31, 7),
        hours: (8, 18),
        size: (30, 210),
        legs: [
            SampleLeg { engine: "heron", voice: |_| Some("isolde"), first: (170, 420), deadline: 2_000 },
            SampleLeg { engine: "flite", voice: |_| Some("awb"), first: (40, 120), deadline: 5_000 },
        ],
    },
    Habit {
        app: "drill-captions",
        work: Work::Recognition,
        route: "captions",
        media_type: "audio/mpeg",
        daily: (3, 1),
        hours: (7, 16),
        size: (150, 780),
        legs: [
            SampleLeg { engine: "turnstone", voice: |_| None, first: (900, 2_600), deadline: 20_000 },
            SampleLeg { engine: "pocketsphinx", voice: |_| None, first: (4_000, 9_000), deadline: 60_000 },
        ],
    },
];

fn heron_voice(language: &str) -> Option<&'static str> {
    Some(match language {
        "pt-PT" => "beatriz",
        "fr-FR" => "armand",
        _ => "pellin",
    })
}

fn espeak_voice(language: &str) -> Option<&'static str> {
    Some(match language {
        "pt-PT" => "pt",
        "fr-FR" => "fr-fr",
        _ => "en-gb",
    })
}

/// What keeps an engine from answering, `back` days before today.
fn trouble(engine: &str, back: i64, hour: i64) -> Option<(Cause, &'static str)> {
    match (engine, back, hour) {
        ("heron", 17, 7..=8) => Some((Cause::Throttled, "too many requests in a minute")),
        ("heron", 6, 14..=15) => Some((Cause::Unavailable, "the engine is being restarted")),
        ("flite", 6, 15) => Some((Cause::TimedOut, "no audio within 5000 ms")),
        ("turnstone", 20 | 9, _) => Some((Cause::TimedOut, "no transcript within 20000 ms")),
        _ => None,
    }
}

/// How an attempt ended.
enum SampleOutcome {
    Done,
    Failed(Cause, &'static str),
    Left,
}

/// What an outcome is in the records; times in microseconds.
struct Ended {
    attempt: AttemptState,
    dispatch: DispatchState,
    cause: Option<Cause>,
    detail: Option<&'static str>,
    charged: Option<Usage>,
    total: i64,
}

impl SampleOutcome {
    fn ended(&self, leg: &SampleLeg, usage: Usage, first: i64, whole: i64) -> Ended {
        match *self {
            SampleOutcome::Done => Ended {
                attempt: AttemptState::Done,
                dispatch: DispatchState::Done,
                cause: None,
                detail: None,
                charged: Some(usage),
                total: whole,
            },
            SampleOutcome::Failed(cause, why) => {
                let total = if cause == Cause::TimedOut { leg.deadline * 1_000 } else { first };
                Ended {
                    attempt: AttemptState::Failed,
                    dispatch: DispatchState::Failed,
                    cause: Some(cause),
                    detail: Some(why),
                    charged: None,
                    total,
                }
            }
            SampleOutcome::Left => Ended {
                attempt: AttemptState::Abandoned,
                dispatch: DispatchState::Abandoned,
                cause: Some(Cause::Abandoned),
                detail: Some("the caller left before the end"),
                charged: Some(Usage { milliseconds: usage.milliseconds / 3, ..usage }),
                total: first + (whole - first) / 3,
            },
        }
    }
}

struct HistoryWriter {
    random: StdRng,
    tariffs: Vec<(String, Tariff)>,
    now: i64,
}

/// The history until now.
///
/// # Errors
/// When a sheet of the demo has a fault.
pub(super) fn history(now: i64) -> Result<Vec<SampleDispatch>, CliError> {
    let mut tariffs = Vec::new();
    for (file, source) in scenario::SHEETS {
        let sheet = Sheet::parse(source, file).map_err(|error| CliError::Failed(error.to_string()))?;
        tariffs.push((sheet.name.clone(), sheet.tariff.clone()));
    }
    let mut writer = HistoryWriter { random: StdRng::seed_from_u64(SEED), tariffs, now };
    let mut all = Vec::new();
    for back in (0..=DAYS).rev() {
        let day = midnight(now) - back * DAY;
        for habit in &HABITS {
            let usual = if is_weekend(day) { habit.daily.1 } else { habit.daily.0 };
            for _ in 0..writer.random.random_range(usual - usual / 4..=usual + usual / 4) {
                let started = day + writer.random.random_range(habit.hours.0 * HOUR..habit.hours.1 * HOUR);
                let one = writer.dispatch(habit, back, started);
                // Drawn all the same, so that the days before do not depend on the hour.
                if started + 15 * 60 * SECOND < now {
                    all.push(one.map_err(|error| CliError::Failed(error.to_string()))?);
                }
            }
        }
    }
    Ok(all)
}

impl HistoryWriter {
    fn dispatch(&mut self, habit: &Habit, back: i64, started: i64) -> Result<SampleDispatch, MoneyError> {
        let seconds = started.div_euclid(SECOND).unsigned_abs();
        let nanos = u32::try_from(started.rem_euclid(SECOND) * 1_000).unwrap_or(0);
        let id = Uuid::new_v7(Timestamp::from_unix(NoContext, seconds, nanos)).simple().to_string();
        let language = match (habit.app, self.random.random_range(0..10)) {
            ("quay-announcer", 8) => "pt-PT",
            ("quay-announcer", 9) => "fr-FR",
            _ => "en-GB",
        };
        let size = self.random.random_range(habit.size.0..=habit.size.1);
        let usage = match habit.work {
            Work::Synthesis => Usage {
                characters: size.unsigned_abs(),
                bytes: size.unsigned_abs(),
                milliseconds: (size * self.random.random_range(58..68)).unsigned_abs(),
            },
            Work::Recognition => Usage {
                milliseconds: (size * 1_000 + self.random.random_range(0..1_000)).unsigned_abs(),
                ..Usage::default()
            },
        };
        let hour = started.rem_euclid(DAY) / HOUR;
        let fate = self.random.random_range(0..1_000);
        let mut sample = SampleDispatch {
            dispatch: row(habit, id, language, started, usage),
            attempts: Vec::new(),
            ledger: Vec::new(),
        };
        for (leg, number) in habit.legs.iter().zip(1..) {
            let outcome = match (trouble(leg.engine, back, hour), fate) {
                (Some((cause, why)), _) => SampleOutcome::Failed(cause, why),
                (None, 0..6) => SampleOutcome::Left,
                (None, 6..10) => SampleOutcome::Failed(Cause::Broken, "the answer ended before its audio"),
                (None, 10..14) if number == 1 => SampleOutcome::Failed(Cause::Unavailable, "HTTP 503"),
                (None, _) => SampleOutcome::Done,
            };
            let over = !matches!(outcome, SampleOutcome::Failed(..));
            self.attempt(&mut sample, leg, number, usage, &outcome)?;
            if over {
                break;
            }
        }
        Ok(sample)
    }

    /// Adds an attempt, and what follows from it for the dispatch.
    fn attempt(
        &mut self,
        sample: &mut SampleDispatch,
        leg: &SampleLeg,
        number: i64,
        usage: Usage,
        outcome: &SampleOutcome,
    ) -> Result<(), MoneyError> {
        let first = self.random.random_range(leg.first.0..=leg.first.1) * 1_000;
        let whole = first + to_i64(usage.milliseconds) * self.random.random_range(60..140);
        let ended = outcome.ended(leg, usage, first, whole);
        let language = sample.dispatch.language.clone().unwrap_or_default();
        let voice = (leg.voice)(&language).map(str::to_owned);
        let offset = sample.attempts.iter().filter_map(|one| one.total_us).sum::<i64>() + 900 * number;
        sample.attempts.push(StoredAttempt {
            dispatch: sample.dispatch.id.clone(),
            number,
            engine: leg.engine.into(),
            voice: voice.clone(),
            model: None,
            state: ended.attempt,
            cause: ended.cause.map(|cause| cause.name().into()),
            detail: ended.detail.map(str::to_owned),
            offset_us: offset,
            first_us: ended.charged.map(|_| first),
            total_us: Some(ended.total),
            credential: None,
        });
        let cost = self.charge(sample, leg.engine, number, usage, ended.charged)?;
        let dispatch = &mut sample.dispatch;
        dispatch.cost_nanos += cost;
        dispatch.state = ended.dispatch;
        dispatch.engine = Some(leg.engine.into());
        dispatch.voice = voice;
        dispatch.first_us = ended.charged.map(|_| offset + first);
        dispatch.total_us = Some(offset + ended.total);
        if dispatch.work == Work::Synthesis {
            dispatch.audio_ms = ended.charged.map_or(0, |usage| to_i64(usage.milliseconds));
        }
        dispatch.problem = ended.detail.map(|detail| format!("{}: {detail}", leg.engine));
        Ok(())
    }

    /// Adds the ledger entries of an attempt; gives what it cost.
    fn charge(
        &self,
        sample: &mut SampleDispatch,
        engine: &str,
        number: i64,
        usage: Usage,
        charged: Option<Usage>,
    ) -> Result<i64, MoneyError> {
        let at = sample.dispatch.started_at;
        let tariff = self.tariff(engine, at);
        let price = tariff.of_call(PriceTerms { day: &day_of(at), ..PriceTerms::default() })?;
        let hold = price.cost(usage)?.nanos;
        let settled = charged.map(|usage| Ok((usage, price.cost(usage)?.nanos))).transpose()?;
        let entries = [(LedgerKind::Hold, usage, hold, 1), (LedgerKind::Release, usage, hold, -1)].into_iter();
        for (kind, usage, nanos, sign) in
            entries.chain(settled.map(|(usage, nanos)| (LedgerKind::Settle, usage, nanos, 1)))
        {
            sample.ledger.push(LedgerEntry {
                dispatch: sample.dispatch.id.clone(),
                attempt: number,
                kind,
                app: sample.dispatch.app.clone(),
                engine: engine.into(),
                model: None,
                work: sample.dispatch.work,
                day: day_of(at),
                characters: sign * to_i64(usage.characters),
                audio_ms: sign * to_i64(usage.milliseconds),
                nanos: sign * nanos,
                currency: tariff.currency,
                at,
            });
        }
        Ok(settled.map_or(0, |(_, nanos)| nanos))
    }

    /// The tariff of an engine at a time. Engines of this host cost nothing.
    fn tariff(&self, engine: &str, at: i64) -> Tariff {
        let found = self.tariffs.iter().find(|(name, _)| name == engine);
        let tariff = found.map_or_else(Tariff::free, |(_, tariff)| tariff.clone());
        match engine == "heron" && at < price_rise(self.now) {
            true => Tariff { price: OLD_PRICE.into(), ..tariff },
            false => tariff,
        }
    }
}

/// A dispatch before its first attempt.
fn row(habit: &Habit, id: String, language: &str, started: i64, usage: Usage) -> StoredDispatch {
    StoredDispatch {
        requested: habit.route.into(),
        media_type: habit.media_type.into(),
        language: Some(language.into()),
        characters: to_i64(usage.characters),
        audio_ms: to_i64(usage.milliseconds),
        sample: true,
        ..StoredDispatch::begun(id, habit.app, habit.work, started)
    }
}

fn to_i64(value: u64) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;

    /// Monday 2026-11-30 and the four days behind it, at a quarter past noon.
    fn nows() -> impl Iterator<Item = i64> {
        (0..5).map(|day| 1_795_996_800 * SECOND + day * DAY + 12 * HOUR + 15 * 60 * SECOND)
    }

    #[test]
    fn it_covers_four_weeks_of_three_apps_and_ends_before_now() {
        for now in nows() {
            let all = history(now).expect("a history");
            let mut days: BTreeMap<String, usize> = BTreeMap::new();
            for one in &all {
                *days.entry(day_of(one.dispatch.started_at)).or_default() += 1;
                assert!(one.dispatch.started_at < now && one.dispatch.sample);
            }
            assert_eq!(days.len(), 29, "four weeks and today");
            for app in ["quay-announcer", "helpline", "drill-captions"] {
                assert!(all.iter().any(|one| one.dispatch.app == app), "{app}");
            }
            let count = |day: i64| days[&day_of(midnight(now) - day * DAY)];
            let whole: Vec<i64> = (1..=DAYS).collect();
            let mean = |weekend: bool| {
                let chosen: Vec<usize> = whole
                    .iter()
                    .filter(|day| is_weekend(midnight(now) - **day * DAY) == weekend)
                    .map(|day| count(*day))
                    .collect();
                chosen.iter().sum::<usize>() / chosen.len()
            };
            assert!(mean(false) > 3 * mean(true) / 2, "weekdays {} weekends {}", mean(false), mean(true));
        }
    }

    #[test]
    fn its_ledger_adds_up_to_its_dispatches() {
        for now in nows() {
            for one in history(now).expect("a history") {
                let of = |kind: LedgerKind| {
                    one.ledger.iter().filter(|entry| entry.kind == kind).map(|entry| entry.nanos).sum::<i64>()
                };
                assert_eq!(of(LedgerKind::Settle), one.dispatch.cost_nanos, "{:?}", one.dispatch);
                assert_eq!(of(LedgerKind::Hold) + of(LedgerKind::Release), 0, "every hold is released");
                let last = one.attempts.last().expect("an attempt");
                assert_eq!(
                    (last.state.name(), Some(&last.engine)),
                    (one.dispatch.state.name(), one.dispatch.engine.as_ref())
                );
                assert_eq!(one.dispatch.first_us.is_some(), one.dispatch.state != DispatchState::Failed);
            }
        }
    }

    #[test]
    fn it_has_a_price_change_fallbacks_and_failures_with_their_causes() {
        let now = nows().next().expect("a time");
        let all = history(now).expect("a history");
        for (one, price) in all.iter().flat_map(|one| {
            let settled = one.ledger.iter().filter(|entry| entry.kind == LedgerKind::Settle && entry.engine == "heron");
            settled.map(move |entry| (one, entry.nanos / entry.characters))
        }) {
            let wanted = if one.dispatch.started_at < price_rise(now) { 14_000 } else { 16_000 };
            assert_eq!(price, wanted, "{}", day_of(one.dispatch.started_at));
        }
        let causes = |state: DispatchState, attempts: usize| {
            let chosen = all.iter().filter(|one| one.dispatch.state == state && one.attempts.len() == attempts);
            let mut causes: Vec<&str> =
                chosen.flat_map(|one| &one.attempts).filter_map(|one| one.cause.as_deref()).collect();
            causes.sort_unstable();
            causes.dedup();
            causes
        };
        assert_eq!(causes(DispatchState::Done, 2), ["throttled", "timed-out", "unavailable"], "fallbacks");
        assert!(causes(DispatchState::Failed, 2).contains(&"broken"), "{:?}", causes(DispatchState::Failed, 2));
        assert_eq!(causes(DispatchState::Abandoned, 1), ["abandoned"]);
    }

    #[test]
    fn ids_sort_by_time_and_the_same_days_come_again() {
        let now = nows().next().expect("a time");
        let mut all = history(now).expect("a history");
        all.sort_by(|one, other| one.dispatch.id.cmp(&other.dispatch.id));
        assert!(all.windows(2).all(|pair| pair[0].dispatch.started_at / 1_000 <= pair[1].dispatch.started_at / 1_000));
        let sizes = |now: i64| {
            let all = history(now).expect("a history");
            all.iter().take(500).map(|one| one.dispatch.characters).collect::<Vec<_>>()
        };
        assert_eq!(sizes(now), sizes(now + HOUR), "the hour of the start changes nothing of earlier days");
    }
}
