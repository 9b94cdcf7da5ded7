//! What can go wrong with records.

use std::path::PathBuf;

/// Errors of the store. Diesel's own are translated here and nowhere else.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("the database {path} cannot be opened")]
    Open { path: PathBuf, source: Box<dyn std::error::Error + Send + Sync> },
    #[error("there is already a {what} '{name}'")]
    Taken { what: &'static str, name: String },
    #[error("there is no {what} '{name}'")]
    Missing { what: &'static str, name: String },
    #[error("the {what} '{name}' has been changed since; its newest version is {version}")]
    Changed { what: &'static str, name: String, version: i64 },
    #[error("several ids begin with '{beginning}'; give more of the {what}'s id")]
    Ambiguous { what: &'static str, beginning: String },
    #[error("the database refused")]
    Database(#[source] diesel::result::Error),
    #[error("the disk of the database is full")]
    Full,
    #[error("no reader of the database was free in time")]
    Busy,
    #[error("a stored document cannot be read: {0}")]
    Document(String),
    #[error("the report has more than {0} rows; take fewer days, or group by less")]
    ManyGroups(usize),
    #[error("the writer of the database has stopped")]
    Stopped,
}

impl From<diesel::result::Error> for StoreError {
    fn from(error: diesel::result::Error) -> Self {
        match error {
            // SQLite names no code for it here: SQLITE_FULL, in its own words.
            diesel::result::Error::DatabaseError(_, told) if told.message().contains("disk is full") => {
                StoreError::Full
            }
            error => StoreError::Database(error),
        }
    }
}

impl StoreError {
    /// Names a unique key that was taken.
    pub(crate) fn taken(error: diesel::result::Error, what: &'static str, name: &str) -> Self {
        use diesel::result::{DatabaseErrorKind, Error};
        match error {
            Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => {
                StoreError::Taken { what, name: name.into() }
            }
            other => StoreError::Database(other),
        }
    }

    /// Whether the fault was one item's own, so that its group may go on.
    pub(crate) fn is_of_one_item(&self) -> bool {
        use diesel::result::Error;
        match self {
            StoreError::Taken { .. }
            | StoreError::Missing { .. }
            | StoreError::Ambiguous { .. }
            | StoreError::Changed { .. }
            | StoreError::Document(_) => true,
            StoreError::Database(error) => matches!(
                error,
                Error::NotFound
                    | Error::DatabaseError(
                        diesel::result::DatabaseErrorKind::UniqueViolation
                            | diesel::result::DatabaseErrorKind::ForeignKeyViolation
                            | diesel::result::DatabaseErrorKind::NotNullViolation
                            | diesel::result::DatabaseErrorKind::CheckViolation,
                        _
                    )
            ),
            _ => false,
        }
    }
}
