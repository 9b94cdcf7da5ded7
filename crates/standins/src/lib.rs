//! Small simulated engines, to try and test the product without any account.
//!
//! Each has a wire design of its own and is reached by nothing but an engine
//! sheet; nothing here shares code with the product's drivers. They speak and
//! hear tone speech ([`tone`]), so that what went through can be proved by
//! content.

mod avocet;
mod bittern;
mod curlew;
mod dotterel;
mod godwit;
mod heron;
mod listen;
mod phalarope;
mod pour;
mod redshank;
mod sanderling;
mod serve;
mod socket;
mod spoken;
mod timetable;
pub mod tone;
mod trouble;
mod turnstone;
mod weather;
mod whimbrel;

pub use avocet::start as start_avocet;
pub use bittern::start as start_bittern;
pub use curlew::start as start_curlew;
pub use dotterel::start as start_dotterel;
pub use godwit::start as start_godwit;
pub use heron::{VOICES as HERON_VOICES, start as start_heron};
pub use phalarope::start as start_phalarope;
pub use redshank::start as start_redshank;
pub use sanderling::start as start_sanderling;
pub use serve::StandIn;
pub use timetable::start as start_timetable;
pub use turnstone::start as start_turnstone;
pub use whimbrel::start as start_whimbrel;
