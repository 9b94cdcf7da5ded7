//! Who could do a request, in which order, with which calls and at what cost.
//! Nothing here calls an engine.

mod cast_voices;
pub(crate) mod estimate;
pub(crate) mod hearers;
pub(crate) mod languages;
pub(crate) mod lint;
pub(crate) mod order;
pub(crate) mod plan;
pub(crate) mod preview;
pub(crate) mod render_plan;
