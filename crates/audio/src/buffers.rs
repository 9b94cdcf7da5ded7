//! Room that work leaves behind. A stream waits most of the time, and many
//! wait at once: what one push needed is not kept for the next.

/// Bytes that are kept.
const KEPT: usize = 4 << 10;

/// Empties a buffer of work, and gives its room back where it is large.
pub(crate) fn release<T>(buffer: &mut Vec<T>) {
    if buffer.capacity() * size_of::<T>() > KEPT {
        *buffer = Vec::new();
    } else {
        buffer.clear();
    }
}

/// Likewise of a buffer of which something is still needed.
pub(crate) fn release_beyond<T>(buffer: &mut Vec<T>) {
    if buffer.capacity() * size_of::<T>() > KEPT {
        buffer.shrink_to_fit();
    }
}
