//! Small simulated engines, to try and test the product without any account.
//!
//! Each has a wire design of its own and is reached by nothing but an engine
//! sheet; nothing here shares code with the product's drivers. They speak and
//! hear tone speech ([`tone`]), so that what went through can be proved by
//! content.

mod bittern;
mod godwit;
mod heron;
mod phalarope;
mod pour;
mod serve;
mod spoken;
pub mod tone;
mod trouble;
mod turnstone;
mod weather;

pub use bittern::start as start_bittern;
pub use godwit::start as start_godwit;
pub use heron::{VOICES as HERON_VOICES, start as start_heron};
pub use phalarope::start as start_phalarope;
pub use serve::StandIn;
pub use turnstone::start as start_turnstone;
