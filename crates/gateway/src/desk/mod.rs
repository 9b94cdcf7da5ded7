//! What operators read and change: apps with their keys, people with their
//! sessions, and the records. What an app key sees of it is decided here.

mod apps;
mod credits;
mod erasure;
mod people;
mod rates;
mod records;
mod retention;
mod statements;

pub(crate) use apps::{CONSOLE, key_id, label_of};
pub use apps::{NewKey, new_access_key};
pub use credits::{Credit, CreditView};
pub use erasure::Erasure;
pub use people::NewSession;
pub use records::{DispatchDetails, Overview, UsageReport};
pub use retention::{Retention, RetentionRun};
pub use statements::ReconciledStatement;
