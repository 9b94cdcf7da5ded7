//! The end of the service: no new work, and answers that still leave.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// Counts the answers that are leaving, and says when no more are begun.
#[derive(Debug, Default, Clone)]
pub(crate) struct Drain(Arc<DrainState>);

#[derive(Debug, Default)]
struct DrainState {
    stopping: AtomicBool,
    leaving: AtomicUsize,
}

/// An answer that is leaving, until it is dropped.
#[derive(Debug)]
pub(crate) struct Leaving(Drain);

impl Drain {
    /// From now on no new work is taken.
    pub(crate) fn begin(&self) {
        self.0.stopping.store(true, Ordering::SeqCst);
    }

    pub(crate) fn is_stopping(&self) -> bool {
        self.0.stopping.load(Ordering::SeqCst)
    }

    pub(crate) fn is_idle(&self) -> bool {
        self.0.leaving.load(Ordering::SeqCst) == 0
    }

    /// An answer begins to leave.
    pub(crate) fn enter(&self) -> Leaving {
        self.0.leaving.fetch_add(1, Ordering::SeqCst);
        Leaving(self.clone())
    }
}

impl Drop for Leaving {
    fn drop(&mut self) {
        self.0.0.leaving.fetch_sub(1, Ordering::SeqCst);
    }
}
