//! Positions of values in an engine's answer.

use dispatcher_core::SheetError;
use serde_json_path::JsonPath;

use crate::request::SheetSource;

/// A place that a sheet names, as a JSONPath or as `header:NAME`.
pub(crate) enum AnswerPlace {
    Path(JsonPath),
    /// In lower case.
    Header(String),
}

impl AnswerPlace {
    /// The place that a key of a sheet names for a value.
    ///
    /// # Errors
    /// At the key, where the text is neither.
    pub(crate) fn compile(text: &str, name: &str, sheet: SheetSource<'_>, key: &[&str]) -> Result<Self, SheetError> {
        match text.split_once(':') {
            Some(("header", header)) => Ok(AnswerPlace::Header(header.trim().to_ascii_lowercase())),
            _ => JsonPath::parse(text).map(AnswerPlace::Path).map_err(|error| {
                let message = format!("{name} is neither a JSONPath nor header:NAME: {error}");
                SheetError::at_key(sheet.0, sheet.1, key, message)
            }),
        }
    }
}
