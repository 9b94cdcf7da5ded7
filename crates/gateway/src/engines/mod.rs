//! Engines and what belongs to them: sheets, credentials, voices, and checks
//! of what sheets claim.

pub(crate) mod catalogue;
pub(crate) mod check;
pub(crate) mod credentials;
pub(crate) mod registry;
pub(crate) mod sheets;
pub(crate) mod tariffs;
pub(crate) mod volumes;
