//! `Idempotency-Key`: the same request twice is done once.
//!
//! Answers are kept in the spool folder for a day, or until the service ends.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use dispatcher_vault::hash_bytes;

use crate::problem::Problem;

/// Answers are kept so long.
const KEEP: Duration = Duration::from_secs(24 * 3_600);
/// And so many of them.
const MAX_KEPT: usize = 1_000;
/// Keys are unguessable but not endless.
const MAX_KEY: usize = 255;

/// An answer that was given.
#[derive(Debug, Clone)]
pub(crate) struct Kept {
    pub(crate) status: u16,
    pub(crate) headers: Vec<(String, String)>,
    pub(crate) content_type: String,
    pub(crate) body: Arc<tempfile::TempPath>,
}

enum Slot {
    Running { request: String },
    Done { request: String, at: Instant, answer: Kept },
}

/// The keys of this process.
#[derive(Default, Clone)]
pub(crate) struct Idempotency(Arc<Mutex<HashMap<String, Slot>>>);

/// A key that is being worked on; given up where it is dropped unfinished.
pub(crate) struct Claim {
    slots: Idempotency,
    key: String,
    request: String,
    done: bool,
}

/// What to do with a request.
pub(crate) enum Verdict {
    /// It is new: do it, and tell how it went.
    Do(Option<Claim>),
    /// It was done.
    Answer(Kept),
}

impl Idempotency {
    fn slots(&self) -> std::sync::MutexGuard<'_, HashMap<String, Slot>> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Looks a request up. `request` is everything that tells it from another.
    pub(crate) fn begin(&self, app: &str, key: Option<&str>, request: &[&[u8]]) -> Result<Verdict, Problem> {
        let Some(key) = key else { return Ok(Verdict::Do(None)) };
        if key.is_empty() || key.len() > MAX_KEY {
            return Err(Problem::new("bad-request", format!("an Idempotency-Key has 1 to {MAX_KEY} characters")));
        }
        let key = format!("{app}\n{key}");
        let request = digest(request);
        let mut slots = self.slots();
        if slots.len() >= MAX_KEPT {
            slots.retain(|_, slot| !matches!(slot, Slot::Done { at, .. } if at.elapsed() > KEEP));
            let oldest = slots
                .iter()
                .filter_map(|(k, s)| if let Slot::Done { at, .. } = s { Some((*at, k.clone())) } else { None });
            if let Some((_, oldest)) = oldest.min() {
                slots.remove(&oldest);
            }
        }
        match slots.get(&key) {
            Some(Slot::Running { request: first }) if *first == request => {
                Err(Problem::new("in-progress", "the first request with this Idempotency-Key is still being worked on"))
            }
            Some(Slot::Done { request: first, answer, at }) if *first == request && at.elapsed() < KEEP => {
                Ok(Verdict::Answer(answer.clone()))
            }
            Some(Slot::Running { .. } | Slot::Done { .. }) if !slots.get(&key).is_some_and(Slot::stale) => {
                Err(Problem::new("invalid", "this Idempotency-Key was used for another request"))
            }
            _ => {
                slots.insert(key.clone(), Slot::Running { request: request.clone() });
                Ok(Verdict::Do(Some(Claim { slots: self.clone(), key, request, done: false })))
            }
        }
    }
}

impl Slot {
    fn stale(&self) -> bool {
        matches!(self, Slot::Done { at, .. } if at.elapsed() >= KEEP)
    }
}

impl Claim {
    /// The answer was given whole.
    pub(crate) fn finish(mut self, answer: Kept) {
        self.done = true;
        let slot = Slot::Done { request: self.request.clone(), at: Instant::now(), answer };
        self.slots.slots().insert(self.key.clone(), slot);
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        if !self.done {
            self.slots.slots().remove(&self.key);
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
    hash_bytes(&whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kept() -> Kept {
        let body = Arc::new(tempfile::NamedTempFile::new().expect("file").into_temp_path());
        Kept { status: 200, headers: Vec::new(), content_type: "audio/wav".into(), body }
    }

    #[test]
    fn a_key_is_done_once_and_belongs_to_its_app_and_request() {
        let slots = Idempotency::default();
        let begin = |app: &str, body: &str| slots.begin(app, Some("k"), &[b"POST", body.as_bytes()]);
        let Ok(Verdict::Do(Some(claim))) = begin("quay", "a") else { panic!("new") };
        assert_eq!(begin("quay", "a").err().expect("running").status, 409);
        assert_eq!(begin("quay", "b").err().expect("another body").status, 422);
        assert!(matches!(begin("help", "a"), Ok(Verdict::Do(Some(_)))), "another app has its own keys");
        claim.finish(kept());
        assert!(matches!(begin("quay", "a"), Ok(Verdict::Answer(_))));
        assert_eq!(begin("quay", "b").err().expect("another body").status, 422);
    }

    #[test]
    fn a_request_that_failed_may_be_sent_again() {
        let slots = Idempotency::default();
        drop(slots.begin("quay", Some("k"), &[b"a"]));
        assert!(matches!(slots.begin("quay", Some("k"), &[b"b"]), Ok(Verdict::Do(Some(_)))));
        assert!(slots.begin("quay", Some(""), &[b"a"]).is_err());
    }
}
