//! Decoders that are not ours meet bytes that nobody has made on purpose, and
//! some panic (found by fuzzing): what they do stays theirs.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread is within a decoder whose panic would be caught, and
/// become an error: a program's panic hook need not report it.
pub fn expects_panic() -> bool {
    GUARDED.get()
}

/// What the work gives; `None` if it panics. A decoder that it was about
/// is then in no known state, and is not to be used again.
pub(crate) fn guarded<T>(work: impl FnOnce() -> T) -> Option<T> {
    let outer = GUARDED.replace(true);
    let done = catch_unwind(AssertUnwindSafe(work)).ok();
    GUARDED.set(outer);
    done
}
