//! The weather over a stand-in: how it misbehaves, for so many calls or until
//! it clears.

use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

/// What can go wrong on demand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Weather {
    /// Too many requests.
    Throttled,
    /// Out of service.
    Down,
    /// The connection is dropped without an answer.
    Reset,
    /// Half of the audio, or another share, then the connection is dropped.
    Half,
    /// The audio comes slowly, piece by piece.
    Drip,
    /// Bytes that are no audio, under an audio type.
    Garbage,
    /// Base64 with a letter that is none.
    BadBase64,
    /// A page of markup in place of audio.
    WrongType,
    /// No answer at all for a long time.
    Becalmed,
    Expired,
    NotActiveYet,
    WrongRegion,
    MissingRole,
    Unpaid,
    /// An error that repeats the credential it was sent.
    Echo,
    /// One voice more, one less, one with another character.
    NewCatalogue,
}

/// Which of its calls it strikes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Phase {
    Token,
    Catalogue,
    /// The one that has the work done.
    #[default]
    Call,
    Poll,
    Link,
}

#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Forecast {
    pub(crate) weather: Weather,
    #[serde(default)]
    pub(crate) phase: Phase,
    /// Calls that it lets pass first.
    #[serde(default)]
    pub(crate) skip: u32,
    /// Number of calls; until cleared if missing.
    #[serde(default)]
    pub(crate) calls: Option<u32>,
    /// The share of the audio behind which the connection is dropped.
    #[serde(default = "one_half")]
    pub(crate) share: f64,
    /// Milliseconds between pieces: 60 while it drips; none before the
    /// connection is dropped, unless given.
    #[serde(default)]
    pub(crate) pause: Option<u64>,
}

fn one_half() -> f64 {
    0.5
}

impl Forecast {
    /// How long to wait before each piece.
    pub(crate) async fn rest(&self) {
        let pause = match self.weather {
            Weather::Drip => Some(self.pause.unwrap_or(60)),
            Weather::Half => self.pause,
            _ => None,
        };
        if let Some(pause) = pause {
            tokio::time::sleep(std::time::Duration::from_millis(pause)).await;
        }
    }

    /// Behind how much of something the connection is dropped.
    pub(crate) fn cut(&self, whole: usize) -> Option<usize> {
        (self.weather == Weather::Half).then(|| (whole as f64 * self.share.clamp(0.0, 1.0)) as usize)
    }
}

/// What a stand-in has done so far.
#[derive(Debug, Clone, Copy, Default, Serialize)]
pub(crate) struct Delivered {
    /// Calls that reached it with a good credential.
    pub(crate) calls: u64,
    /// Calls answered whole.
    pub(crate) whole: u64,
    /// Calls it refused.
    pub(crate) refused: u64,
    /// Calls whose caller left before the end.
    pub(crate) left: u64,
    /// Characters of the calls answered whole.
    pub(crate) characters: u64,
    /// Bytes of audio sent or taken, whole or not.
    pub(crate) audio_bytes: u64,
}

/// Weather and count, shared by the calls of one stand-in.
#[derive(Debug, Default)]
pub(crate) struct Sky {
    forecast: Mutex<Option<Forecast>>,
    delivered: Mutex<Delivered>,
    limits: Mutex<Limits>,
    broken: Mutex<Vec<String>>,
    pace: Mutex<PaceRecord>,
}

/// How much a stand-in takes; without limit unless it is told one.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Limits {
    /// Calls a minute, counted second by second.
    #[serde(default)]
    pub(crate) per_minute: Option<u32>,
    #[serde(default)]
    pub(crate) at_once: Option<u32>,
}

#[derive(Debug, Default)]
struct PaceRecord {
    running: u32,
    begun: std::collections::VecDeque<std::time::Instant>,
}

/// A call that is in work; it counts until this is dropped.
pub(crate) struct Presence(std::sync::Arc<Sky>);

impl Drop for Presence {
    fn drop(&mut self) {
        lock(&self.0.pace).running -= 1;
    }
}

impl Sky {
    pub(crate) fn set(&self, forecast: Option<Forecast>) {
        *lock(&self.forecast) = forecast;
    }

    pub(crate) fn forecast(&self) -> Option<Forecast> {
        *lock(&self.forecast)
    }

    pub(crate) fn limit(&self, limits: Limits) {
        *lock(&self.limits) = limits;
    }

    /// Lets a call in, where the limits allow it.
    pub(crate) fn enter(self: &std::sync::Arc<Self>) -> Option<Presence> {
        let limits = *lock(&self.limits);
        let mut pace = lock(&self.pace);
        let now = std::time::Instant::now();
        let second = std::time::Duration::from_secs(1);
        while pace.begun.front().is_some_and(|begun| now.duration_since(*begun) >= second) {
            pace.begun.pop_front();
        }
        let many = limits.per_minute.is_some_and(|most| pace.begun.len() as u32 >= most.div_ceil(60));
        let full = limits.at_once.is_some_and(|most| pace.running >= most);
        if many || full {
            return None;
        }
        pace.begun.push_back(now);
        pace.running += 1;
        Some(Presence(self.clone()))
    }

    /// Claims of its sheet that it breaks from now on.
    pub(crate) fn set_broken(&self, claims: Vec<String>) {
        *lock(&self.broken) = claims;
    }

    pub(crate) fn breaks(&self, claim: &str) -> bool {
        lock(&self.broken).iter().any(|broken| broken == claim)
    }

    /// The weather of the call that has just come in.
    pub(crate) fn next(&self) -> Option<Forecast> {
        self.next_in(Phase::Call)
    }

    /// The weather of a call of another kind.
    pub(crate) fn next_in(&self, phase: Phase) -> Option<Forecast> {
        let mut forecast = lock(&self.forecast);
        let now = forecast.filter(|forecast| forecast.phase == phase)?;
        if let Some(Forecast { skip: skip @ 1.., .. }) = forecast.as_mut() {
            *skip -= 1;
            return None;
        }
        if let Some(Forecast { calls: Some(calls), .. }) = forecast.as_mut() {
            *calls -= 1;
            if *calls == 0 {
                *forecast = None;
            }
        }
        Some(now)
    }

    pub(crate) fn count(&self, change: impl FnOnce(&mut Delivered)) {
        change(&mut lock(&self.delivered));
    }

    pub(crate) fn delivered(&self) -> Delivered {
        *lock(&self.delivered)
    }
}

fn lock<T>(mutex: &Mutex<T>) -> parking_lot::MutexGuard<'_, T> {
    mutex.lock()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weather_lasts_as_long_as_it_was_told() {
        let sky = Sky::default();
        sky.set(serde_json::from_str(r#"{"weather":"throttled","calls":2}"#).expect("forecast"));
        let seen: Vec<bool> = (0..3).map(|_| sky.next().is_some()).collect();
        assert_eq!(seen, [true, true, false]);
        sky.set(serde_json::from_str(r#"{"weather":"down"}"#).expect("forecast"));
        assert!((0..9).all(|_| sky.next().is_some()));
        sky.set(None);
        assert!(sky.next().is_none());
        sky.set(serde_json::from_str(r#"{"weather":"down","skip":2,"calls":1}"#).expect("forecast"));
        let seen: Vec<bool> = (0..4).map(|_| sky.next().is_some()).collect();
        assert_eq!(seen, [false, false, true, false]);
    }
}
