//! What operators read and change: apps with their keys, people with their
//! sessions, and the records. What an app key sees of it is decided here.

mod apps;
mod people;
mod records;

pub use apps::new_access_key;
pub(crate) use apps::{key_id, label_of};
pub use people::NewSession;
pub use records::{DispatchDetails, Overview};
