//! Position of a chunk in a stream.

/// Whether more comes after a chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Chunk {
    More,
    /// The stream ends with it; it may be empty.
    Last,
}

impl Chunk {
    pub(crate) fn is_last(self) -> bool {
        self == Chunk::Last
    }
}
