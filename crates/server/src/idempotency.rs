//! `Idempotency-Key`: the same request twice is done once.
//!
//! Answers are kept in the spool folder for a day, or until the service ends.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use dispatcher_gateway::content_hash;
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
    Done { request: String, at: Instant, answer: StoredAnswer },
}

/// The keys of this process, by app: none pushes out another's.
#[derive(Default, Clone)]
pub(crate) struct Idempotency(Arc<Mutex<HashMap<String, Slots>>>);

type Slots = HashMap<String, Slot>;

/// A key that is being worked on; given up where it is dropped unfinished.
pub(crate) struct Claim {
    slots: Idempotency,
    app: String,
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
    fn slots(&self) -> parking_lot::MutexGuard<'_, HashMap<String, Slots>> {
        self.0.lock()
    }

    /// Looks a request up. `request` is everything that distinguishes it from another.
    pub(crate) fn begin(&self, app: &str, key: Option<&str>, request: &[&[u8]]) -> Result<Replay, Problem> {
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
        let slots = all.entry(app.to_owned()).or_default();
        make_room(slots);
        match slots.get(&key) {
            Some(Slot::Running { request: first }) if *first == request => Err(Problem::new(
                ProblemKind::InProgress,
                "the first request with this Idempotency-Key is still being worked on",
            )),
            Some(Slot::Done { request: first, answer, at }) if *first == request && at.elapsed() < KEEP => {
                Ok(Replay::Answer(answer.clone()))
            }
            Some(Slot::Running { .. } | Slot::Done { .. }) if !slots.get(&key).is_some_and(Slot::stale) => {
                Err(Problem::new(ProblemKind::Invalid, "this Idempotency-Key was used for another request"))
            }
            _ => {
                slots.insert(key.clone(), Slot::Running { request: request.clone() });
                let app = app.to_owned();
                Ok(Replay::Do(Some(Claim { slots: self.clone(), app, key, request, done: false })))
            }
        }
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
        let slot = Slot::Done { request: self.request.clone(), at: Instant::now(), answer };
        self.slots.slots().entry(self.app.clone()).or_default().insert(self.key.clone(), slot);
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        if !self.done
            && let Some(slots) = self.slots.slots().get_mut(&self.app)
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

    #[test]
    fn a_key_is_done_once_and_belongs_to_its_app_and_request() {
        let slots = Idempotency::default();
        let begin = |app: &str, body: &str| slots.begin(app, Some("k"), &[b"POST", body.as_bytes()]);
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
            let Ok(Replay::Do(Some(claim))) = slots.begin(app, Some(key), &[b"a"]) else { panic!("new: {key}") };
            claim.finish(StoredAnswer { bytes, ..kept() });
        };
        let is_known = |app: &str, key: &str| matches!(slots.begin(app, Some(key), &[b"a"]), Ok(Replay::Answer(_)));
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
        drop(slots.begin("quay", Some("k"), &[b"a"]));
        assert!(matches!(slots.begin("quay", Some("k"), &[b"b"]), Ok(Replay::Do(Some(_)))));
        assert!(slots.begin("quay", Some(""), &[b"a"]).is_err());
    }
}
