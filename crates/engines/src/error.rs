//! Why a call of an engine failed.

use std::time::Duration;

use dispatcher_core::Cause;

/// A failed call. `detail` is free of secrets.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{cause}: {detail}")]
pub struct EngineError {
    pub cause: Cause,
    /// What the engine or the connection said, shortened.
    pub detail: String,
    /// When the engine asked to be left alone until.
    pub retry_after: Option<Duration>,
}

/// Longer texts of engines are cut.
const MAX_DETAIL: usize = 300;

impl EngineError {
    pub(crate) fn new(cause: Cause, detail: impl Into<String>) -> Self {
        let detail: String = detail.into();
        let detail = detail.split_whitespace().collect::<Vec<_>>().join(" ");
        let detail = match detail.char_indices().nth(MAX_DETAIL) {
            Some((at, _)) => format!("{}…", &detail[..at]),
            None => detail,
        };
        EngineError { cause, detail, retry_after: None }
    }
}

/// Why a key file has no credential for an engine.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyFileError {
    #[error("the key file is not JSON (line {line})")]
    NotJson { line: usize },
    #[error("the key file has no '{part}' at {path}")]
    NoPart { part: String, path: String },
}
