//! Records in SQLite through Diesel: one writer that commits in groups, many
//! readers, and the queries of the product.
//!
//! Diesel's types and errors stay inside; callers see rows as plain structs
//! and [`StoreError`].

mod catalogue;
mod error;
mod ids;
mod jobs;
mod ledger;
mod lexicons;
mod models;
mod people;
mod pool;
mod presets;
mod prompts;
mod records;
mod schema;
mod states;
mod work;
mod writer;

pub use error::StoreError;
pub use ids::Identified;
pub use jobs::{JobChange, JobFilter, JobProgress, WebhookResult};
pub use ledger::{GroupBy, UsageRow};
pub use models::{
    AccessKey, App, AttemptRow, AuditRow, CatalogueAge, CatalogueRow, ChangeRow, ClipRow, CredentialRow, DispatchRow,
    FavouriteRow, JobFileRow, JobPieceRow, JobRow, LedgerRow, LexiconRow, PresetRow, PromptFileRow, PromptSetRow,
    RecalledRow, RouteRow, SampleDispatch, Session, SheetRow,
};
pub use people::Grant;
pub use pool::Store;
pub use records::BY;
pub use states::{AttemptState, CredentialState, DispatchState, JobState, LedgerKind};
pub use work::{AttemptEnd, DispatchEnd, DispatchFilter};
pub use writer::Durability;
