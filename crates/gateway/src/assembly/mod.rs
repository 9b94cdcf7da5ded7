//! One sound out of many: segments, breaks and inserted sounds in their order.

pub(crate) mod compose;
pub(crate) mod insert;
