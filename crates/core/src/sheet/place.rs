//! Faults, and where in the source of a sheet they lie.

use std::ops::Range;

/// A fault in a sheet, at its place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}:{line}:{column}: {key}: {message}")]
pub struct SheetError {
    /// The file, as it was named to the reader.
    pub file: String,
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// The key, dotted from the root; empty where the file is no TOML.
    pub key: String,
    /// What is wrong, with the path of the member.
    pub message: String,
}

impl SheetError {
    /// A fault at the key of a dotted path, found in the source.
    pub fn at_key(source: &str, file: &str, path: &[&str], message: impl Into<String>) -> SheetError {
        SheetError::at(source, file, locate(source, path), path.join("."), message.into())
    }

    pub(super) fn at(source: &str, file: &str, span: Option<Range<usize>>, key: String, message: String) -> SheetError {
        let at = span.map_or(0, |span| span.start.min(source.len()));
        let before = source.get(..at).unwrap_or_default();
        let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
        let line = before.matches('\n').count() + 1;
        let column = before[line_start..].chars().count() + 1;
        SheetError { file: file.into(), line, column, key, message }
    }
}

/// Position of the key in the source, or of the longest part of the path that exists.
fn locate(source: &str, path: &[&str]) -> Option<Range<usize>> {
    let root = toml::de::DeTable::parse(source).ok()?;
    let mut table = root.get_ref();
    let mut found = None;
    for key in path {
        let Some((name, value)) = table.iter().find(|(name, _)| name.get_ref().as_ref() == *key) else { break };
        found = Some(name.span());
        match value.get_ref().as_table() {
            Some(next) => table = next,
            None => break,
        }
    }
    found
}

/// The key written on the line of a position, with its table.
pub(super) fn key_at(source: &str, at: usize) -> String {
    let before = source.get(..at).unwrap_or(source);
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    let line = source[line_start..].lines().next().unwrap_or_default();
    let key = line.split('=').next().unwrap_or_default().trim();
    let table = source[..line_start]
        .lines()
        .rev()
        .find(|line| line.trim_start().starts_with('['))
        .map(|line| line.trim().trim_matches(['[', ']']).to_owned());
    match table {
        Some(table) if !key.starts_with('[') => format!("{table}.{key}"),
        _ => key.trim_matches(['[', ']']).to_owned(),
    }
}
