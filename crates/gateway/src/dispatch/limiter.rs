//! Limits: calls of an engine are spread so that its own limit is not run
//! into, and those who wait take turns by app. Pieces of jobs go behind calls
//! that somebody waits for, and never take the last room there is.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{Backoff, Cause, Pace};
use dispatcher_engines::EngineError;
use parking_lot::{Mutex, MutexGuard};
use tokio::sync::oneshot;
use tokio::time::Instant;

/// Calls are spread a little wider than the limit allows, since the network
/// may bring two of them closer together.
const SPREAD: f64 = 1.06;
/// An engine counts a call a moment longer than its caller sees it.
const AFTERGLOW: Duration = Duration::from_millis(5);
/// A timer that rings late is made up for by as much.
const LATE: Duration = Duration::from_millis(5);
/// Retries after the engine reports that it is full.
const AGAIN: u32 = 3;
/// The waits before that, where the engine names none. Nobody else calls it
/// meanwhile, so that chance is not needed.
const SOON: Backoff =
    Backoff { first: Duration::from_millis(100), factor: 2, longest: Duration::from_secs(2), jitter: 0.0 };
/// An engine that wants to be left alone for longer is left to the next leg.
const LONGEST: Duration = Duration::from_secs(2);
/// A call that the engine refused goes ahead of waiting calls by this much.
const AHEAD: Duration = Duration::from_millis(30);

/// Calls of one app that may wait for an engine, and of all apps.
const WAITING_OF_APP: usize = 50;
const WAITING: usize = 200;
/// A call that would wait longer is refused at once, however long calls take.
const LONGEST_TURN: Duration = Duration::from_secs(20);
/// How long calls take where none has ended yet.
const UNKNOWN: Duration = Duration::from_secs(2);

/// The limiters of all engines that have limits, by name.
#[derive(Default)]
pub(crate) struct Limiters(Mutex<HashMap<String, Arc<Limiter>>>);

/// The limiter of one engine.
pub(crate) struct Limiter {
    pace: Pace,
    state: Mutex<LimiterState>,
}

/// Who goes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum Priority {
    /// Somebody waits for it.
    #[default]
    Interactive,
    /// A piece of a job.
    Batch,
}

struct LimiterState {
    running: u32,
    /// Of these, pieces of jobs.
    batch: u32,
    /// When the next call is due, were calls to come without end.
    due: Instant,
    /// The engine has said that it is full: nobody goes before this.
    closed: Instant,
    /// How long calls take: a mean in which the last ones count most.
    usual: Option<Duration>,
    interactive: Queue,
    jobs: Queue,
    /// A timer is set that admits calls again.
    timer: bool,
}

/// Those of one priority who wait.
#[derive(Default)]
struct Queue {
    /// By app.
    waiting: BTreeMap<String, VecDeque<oneshot::Sender<Permit>>>,
    /// Whose turn it is next.
    turns: VecDeque<String>,
}

/// A call that is let through; it counts as in work until this is dropped.
pub(crate) struct Permit(Option<Arc<Limiter>>, Priority, Instant);

impl Limiters {
    /// The limiter of an engine; `None` if it has no limits. A changed
    /// sheet changes the limiter.
    pub(crate) fn of(&self, engine: &str, pace: &Pace) -> Option<Arc<Limiter>> {
        if *pace == Pace::default() {
            return None;
        }
        let mut limiters = self.0.lock();
        let known = limiters.get(engine).filter(|limiter| limiter.pace == *pace).cloned();
        Some(known.unwrap_or_else(|| {
            let limiter = Arc::new(Limiter::new(pace.clone()));
            limiters.insert(engine.to_owned(), limiter.clone());
            limiter
        }))
    }
}

/// How busy an engine with limits is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Load {
    /// Calls in work.
    pub running: u32,
    /// Calls that wait for their turn.
    pub waiting: u32,
    /// Calls that could go at once.
    pub left: u32,
}

impl Limiters {
    /// How busy an engine is; `None` if it has no limits, or was not
    /// called yet.
    pub(crate) fn load(&self, engine: &str, pace: &Pace) -> Option<Load> {
        let limiters = self.0.lock();
        let known = limiters.get(engine).filter(|limiter| limiter.pace == *pace).map(|limiter| limiter.load());
        known.or_else(|| (*pace != Pace::default()).then(|| Limiter::new(pace.clone()).load()))
    }
}

impl Limiters {
    /// How many calls wait for each engine that has limits.
    pub(crate) fn waiting(&self) -> Vec<(String, u32)> {
        self.0.lock().iter().map(|(engine, limiter)| (engine.clone(), limiter.load().waiting)).collect()
    }
}

impl Limiter {
    fn load(&self) -> Load {
        let state = self.lock();
        let waiting = u32::try_from(state.waiting()).unwrap_or(u32::MAX);
        let room = self.pace.at_once.map(|most| most.saturating_sub(state.running));
        let by_rate = self.interval().map(|interval| {
            let ahead = state.due.saturating_duration_since(Instant::now()).as_secs_f64() / interval.as_secs_f64();
            (f64::from(self.pace.burst.unwrap_or(1).max(1)) - ahead).max(0.0).floor() as u32
        });
        let closed = (state.closed > Instant::now()).then_some(0);
        let left = closed.into_iter().chain(room).chain(by_rate).min().unwrap_or(u32::MAX);
        Load { running: state.running, waiting, left }
    }

    fn new(pace: Pace) -> Self {
        let state = LimiterState {
            running: 0,
            batch: 0,
            due: Instant::now(),
            closed: Instant::now(),
            usual: None,
            interactive: Queue::default(),
            jobs: Queue::default(),
            timer: false,
        };
        Limiter { pace, state: Mutex::new(state) }
    }

    fn lock(&self) -> MutexGuard<'_, LimiterState> {
        self.state.lock()
    }

    /// Time between two calls.
    fn interval(&self) -> Option<Duration> {
        self.pace.per_minute.map(|calls| Duration::from_secs_f64(60.0 * SPREAD / f64::from(calls)))
    }

    /// Waits for a turn. Whoever stops waiting loses it to the next.
    pub(crate) async fn enter(self: &Arc<Self>, app: &str, priority: Priority) -> Permit {
        let (turn, mine) = oneshot::channel();
        self.lock().lane(priority).push(app, turn);
        self.admit_ready();
        // The limiter outlives the calls that wait in it, so that a turn always comes.
        mine.await.unwrap_or(Permit(None, priority, Instant::now()))
    }

    /// Whether a further call of an app would wait too long: for a turn among
    /// calls in work, longer than a call takes; for its time among calls of a
    /// minute, longer than that or two intervals. After how long it may be made
    /// again.
    pub(crate) fn crowded(&self, app: &str) -> Option<Duration> {
        let state = self.lock();
        let own = state.interactive.waiting.get(app).map_or(0, VecDeque::len);
        let all: usize = state.interactive.waiting.values().map(VecDeque::len).sum();
        let now = Instant::now();
        let by_rate = self.interval().map(|interval| {
            let calls = u32::try_from(all).unwrap_or(u32::MAX);
            let ready = self.early(Priority::Interactive).unwrap_or_default();
            (state.due.saturating_duration_since(now) + interval * calls).saturating_sub(ready)
        });
        let usual = state.usual.unwrap_or(UNKNOWN);
        let by_room = self.pace.at_once.map(|most| {
            let ahead = all as f64 + if state.running >= most { 1.0 } else { 0.0 };
            usual.mul_f64(ahead / f64::from(most.max(1)))
        });
        let patience = |wait: Duration, longest: Duration| wait > longest.min(LONGEST_TURN);
        let long = by_room.is_some_and(|wait| patience(wait, usual))
            || by_rate.zip(self.interval()).is_some_and(|(wait, interval)| patience(wait, usual.max(interval * 2)));
        let wait = by_rate.into_iter().chain(by_room).max().unwrap_or_default();
        let crowded = own >= WAITING_OF_APP || all >= WAITING || long;
        crowded.then(|| wait.clamp(Duration::from_secs(1), 3 * LONGEST_TURN))
    }

    /// Keeps everybody out for a while, and a moment longer: who closes it
    /// goes first afterwards.
    fn close(&self, wait: Duration) {
        let mut state = self.lock();
        state.closed = state.closed.max(Instant::now() + wait + AHEAD);
        if let Some(interval) = self.interval() {
            state.due = state.due.max(state.closed) + interval;
        }
    }

    /// How many wait.
    #[cfg(test)]
    fn queue(&self) -> usize {
        self.lock().waiting()
    }

    /// Who may go next, were it time.
    fn foremost(&self, state: &LimiterState) -> Option<Priority> {
        if self.pace.at_once.is_some_and(|most| state.running >= most) {
            return None;
        }
        if !state.interactive.turns.is_empty() {
            return Some(Priority::Interactive);
        }
        // A call that comes meanwhile must not wait for a whole piece.
        let room = self.pace.at_once.is_none_or(|most| state.batch < most.saturating_sub(1).max(1));
        (room && !state.jobs.turns.is_empty()).then_some(Priority::Batch)
    }

    /// How much before its due time a call may go: a burst has that much
    /// room, of which jobs leave the last.
    fn early(&self, priority: Priority) -> Option<Duration> {
        let burst = self.pace.burst.unwrap_or(1).max(1) - 1;
        let burst = if priority == Priority::Batch { burst.saturating_sub(1) } else { burst };
        self.interval().map(|interval| interval * burst)
    }

    /// Lets through who may go now, and sees to it that the next one will.
    fn admit_ready(self: &Arc<Self>) {
        let mut state = self.lock();
        while let Some(priority) = self.foremost(&state) {
            let now = Instant::now();
            let due = self.early(priority).map(|early| state.due.checked_sub(early).unwrap_or(state.due));
            let opens = due.map_or(state.closed, |due| due.max(state.closed));
            if opens > now {
                if !state.timer {
                    state.timer = true;
                    let limiter = self.clone();
                    tokio::spawn(async move {
                        tokio::time::sleep_until(opens).await;
                        limiter.lock().timer = false;
                        limiter.admit_ready();
                    });
                }
                return;
            }
            let Some(turn) = state.lane(priority).next() else { continue };
            state.count(priority, 1);
            if let Some(interval) = self.interval() {
                state.due = state.due.max(now.checked_sub(LATE.min(interval)).unwrap_or(now)) + interval;
            }
            if let Err(mut unwanted) = turn.send(Permit(Some(self.clone()), priority, now)) {
                // Who waited has left: nothing was called.
                unwanted.0 = None;
                state.count(priority, -1);
            }
        }
    }
}

impl LimiterState {
    fn lane(&mut self, priority: Priority) -> &mut Queue {
        match priority {
            Priority::Interactive => &mut self.interactive,
            Priority::Batch => &mut self.jobs,
        }
    }

    /// How many wait, of either priority.
    fn waiting(&self) -> usize {
        let lanes = [&self.interactive, &self.jobs].into_iter();
        lanes.flat_map(|lane| lane.waiting.values()).map(VecDeque::len).sum()
    }

    /// Takes the length of a call into their mean.
    fn note(&mut self, length: Duration) {
        self.usual = Some(self.usual.map_or(length, |usual| usual.mul_f64(0.8) + length.mul_f64(0.2)));
    }

    fn count(&mut self, priority: Priority, change: i32) {
        self.running = self.running.saturating_add_signed(change);
        if priority == Priority::Batch {
            self.batch = self.batch.saturating_add_signed(change);
        }
    }
}

impl Queue {
    fn push(&mut self, app: &str, turn: oneshot::Sender<Permit>) {
        let queue = self.waiting.entry(app.to_owned()).or_default();
        queue.push_back(turn);
        if queue.len() == 1 {
            self.turns.push_back(app.to_owned());
        }
    }

    /// The next who waits: one of each app after the other.
    fn next(&mut self) -> Option<oneshot::Sender<Permit>> {
        loop {
            let app = self.turns.pop_front()?;
            let queue = self.waiting.get_mut(&app)?;
            let turn = queue.pop_front();
            if queue.is_empty() {
                self.waiting.remove(&app);
            } else {
                self.turns.push_back(app);
            }
            match turn {
                Some(turn) if !turn.is_closed() => return Some(turn),
                _ => {}
            }
        }
    }
}

impl Permit {
    /// Waits where an engine says that it is full although its limits were
    /// kept, as when the network has brought calls together, and says whether
    /// the call may be made again. `times` is how often it was already.
    pub(crate) async fn wait_again(&self, error: &EngineError, times: u32) -> bool {
        let wait = error.retry_after.unwrap_or(SOON.wait(times + 1, 0.0));
        let Some(limiter) = &self.0 else { return false };
        if error.cause != Cause::Throttled || times >= AGAIN || wait > LONGEST {
            return false;
        }
        limiter.close(wait);
        tokio::time::sleep(wait).await;
        true
    }
}

impl Drop for Permit {
    fn drop(&mut self) {
        let Some(limiter) = self.0.take() else { return };
        let priority = self.1;
        limiter.lock().note(self.2.elapsed());
        let leave = move || {
            limiter.lock().count(priority, -1);
            limiter.admit_ready();
        };
        match tokio::runtime::Handle::try_current() {
            Ok(runtime) => drop(runtime.spawn(async move {
                tokio::time::sleep(AFTERGLOW).await;
                leave();
            })),
            // The service is ending.
            Err(_) => leave(),
        }
    }
}

#[cfg(test)]
mod tests;
