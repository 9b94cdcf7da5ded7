//! Decoders that are not ours meet bytes that nobody has made on purpose, and
//! some panic (found by fuzzing): what they do stays theirs.

use std::panic::{AssertUnwindSafe, catch_unwind};

/// What the work gives; nothing where it panics. A decoder that it was about
/// is then in no known state, and is not to be used again.
pub(crate) fn guarded<T>(work: impl FnOnce() -> T) -> Option<T> {
    catch_unwind(AssertUnwindSafe(work)).ok()
}
