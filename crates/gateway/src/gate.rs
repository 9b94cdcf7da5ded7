//! Limits: calls of an engine are spread so that its own limit is not run
//! into, and those who wait take turns by app.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use dispatcher_core::Pace;
use tokio::sync::oneshot;

/// Calls are spread a little wider than the limit allows, since the network
/// may bring two of them closer together.
const SPREAD: f64 = 1.06;
/// An engine counts a call a moment longer than its caller sees it.
const AFTERGLOW: Duration = Duration::from_millis(5);
/// A timer that rings late is made up for by as much.
const LATE: Duration = Duration::from_millis(5);

/// The gates of all engines that have limits, by name.
#[derive(Default)]
pub(crate) struct Gates(Mutex<HashMap<String, Arc<Gate>>>);

/// The gate before one engine.
pub(crate) struct Gate {
    pace: Pace,
    state: Mutex<State>,
}

struct State {
    running: u32,
    /// When the next call is due, were calls to come without end.
    due: Instant,
    /// Who waits, by app.
    waiting: BTreeMap<String, VecDeque<oneshot::Sender<Permit>>>,
    /// Whose turn it is next.
    turns: VecDeque<String>,
    /// A timer is set that opens the gate again.
    timer: bool,
}

/// A call that is let through; it counts as in work until this is dropped.
pub(crate) struct Permit(Option<Arc<Gate>>);

impl Gates {
    /// The gate before an engine; nothing where it has no limits. A changed
    /// sheet changes the gate.
    pub(crate) fn of(&self, engine: &str, pace: &Pace) -> Option<Arc<Gate>> {
        if *pace == Pace::default() {
            return None;
        }
        let mut gates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let known = gates.get(engine).filter(|gate| gate.pace == *pace).cloned();
        Some(known.unwrap_or_else(|| {
            let gate = Arc::new(Gate::new(pace.clone()));
            gates.insert(engine.to_owned(), gate.clone());
            gate
        }))
    }
}

impl Gate {
    fn new(pace: Pace) -> Self {
        let state =
            State { running: 0, due: Instant::now(), waiting: BTreeMap::new(), turns: VecDeque::new(), timer: false };
        Gate { pace, state: Mutex::new(state) }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Time between two calls.
    fn interval(&self) -> Option<Duration> {
        self.pace.per_minute.map(|calls| Duration::from_secs_f64(60.0 * SPREAD / f64::from(calls)))
    }

    /// Waits for a turn. Whoever stops waiting loses it to the next.
    pub(crate) async fn enter(self: &Arc<Self>, app: &str) -> Permit {
        let (turn, mine) = oneshot::channel();
        {
            let mut state = self.lock();
            let queue = state.waiting.entry(app.to_owned()).or_default();
            queue.push_back(turn);
            if queue.len() == 1 {
                state.turns.push_back(app.to_owned());
            }
        }
        self.pump();
        // The gate outlives those who wait at it, so that a turn always comes.
        mine.await.unwrap_or(Permit(None))
    }

    /// How many wait.
    #[cfg(test)]
    fn queue(&self) -> usize {
        self.lock().waiting.values().map(VecDeque::len).sum()
    }

    /// Lets through who may go now, and sees to it that the next one will.
    fn pump(self: &Arc<Self>) {
        let mut state = self.lock();
        let early = self.interval().map(|interval| interval * (self.pace.burst.unwrap_or(1).max(1) - 1));
        loop {
            if self.pace.at_once.is_some_and(|most| state.running >= most) {
                return;
            }
            let now = Instant::now();
            let opens = early.map(|early| state.due.checked_sub(early).unwrap_or(state.due));
            if let Some(opens) = opens.filter(|opens| *opens > now) {
                if !state.timer && !state.turns.is_empty() {
                    state.timer = true;
                    let gate = self.clone();
                    tokio::spawn(async move {
                        tokio::time::sleep_until(opens.into()).await;
                        gate.lock().timer = false;
                        gate.pump();
                    });
                }
                return;
            }
            let Some(turn) = state.next() else { return };
            state.running += 1;
            if let Some(interval) = self.interval() {
                state.due = state.due.max(now.checked_sub(LATE.min(interval)).unwrap_or(now)) + interval;
            }
            if let Err(mut unwanted) = turn.send(Permit(Some(self.clone()))) {
                // Who waited has left: nothing was called.
                unwanted.0 = None;
                state.running -= 1;
            }
        }
    }
}

impl State {
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

impl Drop for Permit {
    fn drop(&mut self) {
        let Some(gate) = self.0.take() else { return };
        let leave = move || {
            gate.lock().running -= 1;
            gate.pump();
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
mod tests {
    use super::*;

    fn gate(per_minute: Option<u32>, burst: Option<u32>, at_once: Option<u32>) -> Arc<Gate> {
        Arc::new(Gate::new(Pace { per_minute, burst, at_once }))
    }

    #[tokio::test]
    async fn calls_are_spread_evenly_and_never_closer_than_the_limit() {
        let gate = gate(Some(6_000), None, None);
        let begun = Instant::now();
        let mut times = Vec::new();
        for _ in 0..40 {
            drop(gate.enter("a").await);
            times.push(begun.elapsed());
        }
        // 100 calls a second: the fortieth after 39 intervals of 10.6 ms.
        let last = times[39].as_secs_f64();
        assert!((0.395..0.490).contains(&last), "{last}");
        assert!(times.windows(11).all(|w| (w[10] - w[0]).as_secs_f64() > 0.097), "{times:?}");
    }

    #[tokio::test]
    async fn a_burst_goes_at_once_after_a_pause() {
        let gate = gate(Some(600), Some(5), None);
        let begun = Instant::now();
        for _ in 0..5 {
            drop(gate.enter("a").await);
        }
        assert!(begun.elapsed() < Duration::from_millis(60), "{:?}", begun.elapsed());
        drop(gate.enter("a").await);
        assert!(begun.elapsed() > Duration::from_millis(90), "{:?}", begun.elapsed());
    }

    #[tokio::test]
    async fn no_more_at_once_than_the_limit_and_apps_take_turns() {
        let gate = gate(None, None, Some(1));
        let first = gate.enter("greedy").await;
        let order = Arc::new(Mutex::new(Vec::new()));
        let mut tasks = Vec::new();
        for (number, app) in ["greedy", "greedy", "greedy", "modest"].into_iter().enumerate() {
            let (waits, order) = (gate.clone(), order.clone());
            tasks.push(tokio::spawn(async move {
                let _permit = waits.enter(app).await;
                order.lock().expect("order").push(app);
            }));
            while gate.queue() < number + 1 {
                tokio::task::yield_now().await;
            }
        }
        // One who leaves takes nobody's turn.
        let left = tokio::time::timeout(Duration::from_millis(5), gate.enter("left"));
        assert!(left.await.is_err());
        drop(first);
        for task in tasks {
            task.await.expect("a turn");
        }
        assert_eq!(*order.lock().expect("order"), ["greedy", "modest", "greedy", "greedy"]);
    }
}
