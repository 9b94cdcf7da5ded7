//! `Idempotency-Key`: the same request twice is done once.
//!
//! Answers are kept in the spool folder for a day, or until the service ends.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use dispatcher_gateway::{ErasureMode, ErasureScope, ReplayScope, content_hash};
use parking_lot::Mutex;

use crate::headers::ToldHeader;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// Answers are kept so long.
const KEEP: Duration = Duration::from_secs(24 * 3_600);
/// Answers kept of one app, and their bytes.
const MAX_KEPT: usize = 1_000;
const MAX_BYTES: u64 = 1 << 30;
/// A larger answer is not kept: its key may be used again.
pub(crate) const LARGEST_KEPT: u64 = 64 << 20;
/// Keys are unguessable but not endless.
const MAX_KEY: usize = 255;

/// An answer that was given.
#[derive(Debug, Clone)]
pub(crate) struct StoredAnswer {
    pub(crate) status: u16,
    pub(crate) headers: Vec<ToldHeader>,
    pub(crate) content_type: String,
    pub(crate) body: Arc<tempfile::TempPath>,
    /// Of the body.
    pub(crate) bytes: u64,
}

enum Slot {
    Running { request: String },
    Done { request: String, at: Instant, end_user: Option<String>, answer: StoredAnswer },
}

/// The keys of this process, by app and token: none pushes out another's.
#[derive(Default, Clone)]
pub(crate) struct Idempotency(Arc<Mutex<HashMap<Holder, Slots>>>);

/// An app, and the id of a token.
type Holder = (String, Option<String>);

type Slots = HashMap<String, Slot>;

/// A key that is being worked on; given up where it is dropped unfinished.
pub(crate) struct Claim {
    slots: Idempotency,
    holder: Holder,
    end_user: Option<String>,
    key: String,
    request: String,
    done: bool,
}

/// What to do with a request.
pub(crate) enum Replay {
    /// It is new: do it, and report the result.
    Do(Option<Claim>),
    /// It was done.
    Answer(StoredAnswer),
}

impl Idempotency {
    fn slots(&self) -> parking_lot::MutexGuard<'_, HashMap<Holder, Slots>> {
        self.0.lock()
    }

    /// Looks a request up. `request` is everything that distinguishes it from another.
    pub(crate) fn begin(&self, scope: ReplayScope, key: Option<&str>, request: &[&[u8]]) -> Result<Replay, Problem> {
        let Some(key) = key else { return Ok(Replay::Do(None)) };
        if key.is_empty() || key.len() > MAX_KEY {
            return Err(Problem::new(
                ProblemKind::BadRequest,
                format!("an Idempotency-Key has 1 to {MAX_KEY} characters"),
            ));
        }
        let key = key.to_owned();
        let request = digest(request);
        let mut all = self.slots();
        let ReplayScope { app, token, end_user } = scope;
        let holder = (app, token);
        let slots = all.entry(holder.clone()).or_default();
        make_room(slots);
        match slots.get(&key) {
            Some(Slot::Running { request: first }) if *first == request => Err(Problem::new(
                ProblemKind::InProgress,
                "the first request with this Idempotency-Key is still being worked on",
            )),
            Some(Slot::Done { request: first, answer, at, .. }) if *first == request && at.elapsed() < KEEP => {
                Ok(Replay::Answer(answer.clone()))
            }
            Some(Slot::Running { .. } | Slot::Done { .. }) if !slots.get(&key).is_some_and(Slot::stale) => {
                Err(Problem::new(ProblemKind::Invalid, "this Idempotency-Key was used for another request"))
            }
            _ => {
                slots.insert(key.clone(), Slot::Running { request: request.clone() });
                let slots = self.clone();
                Ok(Replay::Do(Some(Claim { slots, holder, end_user, key, request, done: false })))
            }
        }
    }

    /// Forgets the answers of an app or of one of its end users, or counts them.
    pub(crate) fn erase(&self, scope: &ErasureScope, mode: ErasureMode) -> usize {
        let within = |slot: &Slot| match slot {
            Slot::Done { end_user, .. } => scope.end_user.is_none() || *end_user == scope.end_user,
            Slot::Running { .. } => false,
        };
        let mut count = 0;
        for (_, slots) in self.slots().iter_mut().filter(|((app, _), _)| *app == scope.app) {
            count += slots.values().filter(|slot| within(slot)).count();
            if mode == ErasureMode::Erase {
                slots.retain(|_, slot| !within(slot));
            }
        }
        count
    }
}

/// Lets the oldest answers of an app go until another one has room.
fn make_room(slots: &mut Slots) {
    slots.retain(|_, slot| !slot.stale());
    loop {
        let done = slots.iter().filter_map(|(key, slot)| match slot {
            Slot::Done { at, answer, .. } => Some((*at, answer.bytes, key.clone())),
            Slot::Running { .. } => None,
        });
        let done: Vec<(Instant, u64, String)> = done.collect();
        if slots.len() < MAX_KEPT && done.iter().map(|(_, bytes, _)| bytes).sum::<u64>() < MAX_BYTES {
            return;
        }
        let Some((_, _, oldest)) = done.into_iter().min() else { return };
        slots.remove(&oldest);
    }
}

impl Slot {
    fn stale(&self) -> bool {
        matches!(self, Slot::Done { at, .. } if at.elapsed() >= KEEP)
    }
}

impl Claim {
    /// The answer was given whole.
    pub(crate) fn finish(mut self, answer: StoredAnswer) {
        self.done = true;
        let (request, end_user) = (self.request.clone(), self.end_user.clone());
        let slot = Slot::Done { request, at: Instant::now(), end_user, answer };
        self.slots.slots().entry(self.holder.clone()).or_default().insert(self.key.clone(), slot);
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        if !self.done
            && let Some(slots) = self.slots.slots().get_mut(&self.holder)
        {
            slots.remove(&self.key);
        }
    }
}

/// Parts are kept apart by their lengths.
fn digest(parts: &[&[u8]]) -> String {
    let mut whole = Vec::new();
    for part in parts {
        whole.extend_from_slice(&(part.len() as u64).to_be_bytes());
        whole.extend_from_slice(part);
    }
    content_hash(&whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kept() -> StoredAnswer {
        let body = Arc::new(tempfile::NamedTempFile::new().expect("file").into_temp_path());
        StoredAnswer { status: 200, headers: Vec::new(), content_type: "audio/wav".into(), body, bytes: 7 }
    }

    fn of_app(app: &str) -> ReplayScope {
        ReplayScope { app: app.into(), token: None, end_user: None }
    }

    #[test]
    fn a_key_is_done_once_and_belongs_to_its_app_and_request() {
        let slots = Idempotency::default();
        let begin = |app: &str, body: &str| slots.begin(of_app(app), Some("k"), &[b"POST", body.as_bytes()]);
        let Ok(Replay::Do(Some(claim))) = begin("quay", "a") else { panic!("new") };
        assert_eq!(begin("quay", "a").err().expect("running").status, 409);
        assert_eq!(begin("quay", "b").err().expect("another body").status, 422);
        assert!(matches!(begin("help", "a"), Ok(Replay::Do(Some(_)))), "another app has its own keys");
        claim.finish(kept());
        assert!(matches!(begin("quay", "a"), Ok(Replay::Answer(_))));
        assert_eq!(begin("quay", "b").err().expect("another body").status, 422);
    }

    #[test]
    fn the_keys_of_one_app_never_push_out_anothers() {
        let slots = Idempotency::default();
        let finish = |app: &str, key: &str, bytes: u64| {
            let Ok(Replay::Do(Some(claim))) = slots.begin(of_app(app), Some(key), &[b"a"]) else {
                panic!("new: {key}")
            };
            claim.finish(StoredAnswer { bytes, ..kept() });
        };
        let is_known =
            |app: &str, key: &str| matches!(slots.begin(of_app(app), Some(key), &[b"a"]), Ok(Replay::Answer(_)));
        finish("quay", "first", 7);
        for n in 0..MAX_KEPT + 5 {
            finish("greedy", &format!("key {n}"), 7);
        }
        assert!(is_known("quay", "first"));
        assert!(is_known("greedy", &format!("key {}", MAX_KEPT + 4)));
        assert!(!is_known("greedy", "key 0"), "its own oldest went");
        finish("large", "one", MAX_BYTES / 2);
        finish("large", "two", MAX_BYTES / 2);
        assert!(!is_known("large", "one") && is_known("large", "two"), "an app has so many bytes");
    }

    #[test]
    fn a_request_that_failed_may_be_sent_again() {
        let slots = Idempotency::default();
        drop(slots.begin(of_app("quay"), Some("k"), &[b"a"]));
        assert!(matches!(slots.begin(of_app("quay"), Some("k"), &[b"b"]), Ok(Replay::Do(Some(_)))));
        assert!(slots.begin(of_app("quay"), Some(""), &[b"a"]).is_err());
    }

    #[test]
    fn answers_of_an_app_and_of_an_end_user_are_erased_and_others_stay() {
        let slots = Idempotency::default();
        let of = |app: &str, token: Option<&str>, user: Option<&str>| ReplayScope {
            token: token.map(str::to_owned),
            end_user: user.map(str::to_owned),
            ..of_app(app)
        };
        let scopes = [
            of("quay", None, None),
            of("quay", None, Some("passenger-7")),
            of("quay", Some("t1"), Some("passenger-7")),
            of("help", None, Some("passenger-7")),
        ];
        for (n, scope) in scopes.iter().enumerate() {
            let key = format!("key {n}");
            let Ok(Replay::Do(Some(claim))) = slots.begin(scope.clone(), Some(&key), &[b"a"]) else { panic!("new") };
            claim.finish(kept());
        }
        let Ok(Replay::Do(Some(running))) = slots.begin(scopes[1].clone(), Some("running"), &[b"a"]) else {
            panic!("new")
        };
        let known = || {
            let again = |n: usize| slots.begin(scopes[n].clone(), Some(&format!("key {n}")), &[b"a"]);
            [0, 1, 2, 3].map(|n| matches!(again(n), Ok(Replay::Answer(_))))
        };
        let erase = |user: Option<&str>, mode| {
            slots.erase(&ErasureScope { app: "quay".into(), end_user: user.map(str::to_owned) }, mode)
        };
        assert_eq!((erase(Some("passenger-7"), ErasureMode::Count), known()), (2, [true; 4]));
        assert_eq!((erase(Some("passenger-7"), ErasureMode::Erase), known()), (2, [true, false, false, true]));
        assert_eq!((erase(None, ErasureMode::Erase), known()), (1, [false, false, false, true]));
        running.finish(kept());
        assert_eq!(erase(Some("passenger-7"), ErasureMode::Count), 1, "the one that ran meanwhile");
    }
}
