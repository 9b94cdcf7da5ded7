//! Long texts: what they take in memory and time is bounded for all requests
//! together.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use tokio::runtime::{Handle, RuntimeFlavor};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::GatewayError;

/// Shorter texts go without a turn.
const SHORT: usize = 16 << 10;
/// KiB of long texts that are worked on at once. A script takes some forty
/// times its length while it is planned and spoken.
const AT_ONCE: usize = 6 << 10;
/// KiB of long texts that may wait for that.
const WAITING: usize = 24 << 10;
/// A request waits this long for its turn.
const PATIENCE: Duration = Duration::from_secs(10);
/// Work on a longer text would hold up an async thread.
const QUICK: usize = 32 << 10;

/// The turns of long texts.
pub(crate) struct Texts {
    room: Arc<Semaphore>,
    /// KiB that wait.
    waiting: Arc<AtomicUsize>,
    /// Long texts are planned one after the other: the other cores answer.
    planning: Semaphore,
}

/// KiB that wait, until this is dropped.
struct WaitingText(Arc<AtomicUsize>, usize);

impl Drop for WaitingText {
    fn drop(&mut self) {
        self.0.fetch_sub(self.1, Ordering::SeqCst);
    }
}

/// StorageRoom for a text, until it is dropped.
pub(crate) type TextRoom = Option<OwnedSemaphorePermit>;

impl Default for Texts {
    fn default() -> Self {
        Texts { room: Arc::new(Semaphore::new(AT_ONCE)), waiting: Arc::default(), planning: Semaphore::new(1) }
    }
}

impl Texts {
    /// Waits for room for a text of this size in bytes.
    ///
    /// # Errors
    /// [`GatewayError::Crowded`] where others take it for too long.
    pub(crate) async fn room(&self, bytes: usize) -> Result<TextRoom, GatewayError> {
        if bytes < SHORT {
            return Ok(None);
        }
        let crowded = || {
            let what = "too many long texts are being spoken at present".into();
            GatewayError::Crowded { what, retry_after: PATIENCE }
        };
        let weight = bytes.div_ceil(1 << 10).min(AT_ONCE);
        let waiting = WaitingText(self.waiting.clone(), weight);
        if waiting.0.fetch_add(weight, Ordering::SeqCst) + weight > WAITING {
            return Err(crowded());
        }
        let weight = u32::try_from(weight).unwrap_or(u32::MAX);
        match tokio::time::timeout(PATIENCE, self.room.clone().acquire_many_owned(weight)).await {
            Ok(Ok(room)) => Ok(Some(room)),
            _ => Err(crowded()),
        }
    }

    /// Does work on a text of this size in bytes; on a long one in its turn, and
    /// beside the async work.
    pub(crate) async fn unhurried<T>(&self, bytes: usize, work: impl FnOnce() -> T) -> T {
        if bytes <= QUICK {
            return work();
        }
        let _turn = self.planning.acquire().await;
        let threads = Handle::try_current().is_ok_and(|handle| handle.runtime_flavor() == RuntimeFlavor::MultiThread);
        if threads { tokio::task::block_in_place(work) } else { work() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn long_texts_take_turns_and_short_ones_none() {
        let texts = Texts::default();
        let mut held = Vec::new();
        for _ in 0..3 {
            held.push(texts.room(2 << 20).await.expect("room"));
        }
        assert!(texts.room(SHORT - 1).await.expect("no turn").is_none());
        let error = texts.room(2 << 20).await.expect_err("all of it is taken");
        assert!(matches!(error, GatewayError::Crowded { .. }), "{error}");
        // Maximum number that may wait.
        let (waiting, _) = tokio::join!(futures::future::join_all((0..12).map(|_| texts.room(2 << 20))), async {
            tokio::task::yield_now().await;
            assert!(texts.room(2 << 20).await.is_err(), "at once");
        });
        assert!(waiting.iter().all(Result::is_err), "nobody gave room in time");
        let waits = texts.room(2 << 20);
        held.pop();
        assert!(waits.await.expect("room again").is_some());
    }
}
