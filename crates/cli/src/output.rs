//! Tables, colours and progress.

use std::io::{IsTerminal as _, Write};

use comfy_table::presets::NOTHING;
use comfy_table::{Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, Table};
use dispatcher_core::Money;
use serde_json::Value;

use crate::error::CliError;

/// How a command reports its result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum OutputForm {
    /// For people.
    Text,
    /// For programs.
    Json,
}

impl OutputForm {
    pub(crate) fn is_json(self) -> bool {
        self == OutputForm::Json
    }

    /// Prints an answer as it is, or as people read it.
    pub(crate) fn print(self, answer: &Value, text: impl FnOnce() -> String) -> Result<(), CliError> {
        match self {
            OutputForm::Text => print(&text()),
            OutputForm::Json => print_json(answer),
        }
    }
}

/// Colours carry no meaning alone; each has a word.
#[derive(Clone, Copy)]
pub(crate) enum Colour {
    Good,
    Warn,
    Bad,
    Notice,
}

/// Colours are for terminals, and for those who want them.
fn coloured() -> bool {
    std::env::var_os("NO_COLOR").is_none() && std::io::stdout().is_terminal() && std::io::stderr().is_terminal()
}

/// The text in a colour, on a terminal alone.
pub(crate) fn paint(text: &str, colour: Colour) -> String {
    if !coloured() {
        return text.to_owned();
    }
    let code = match colour {
        Colour::Good => "32",
        Colour::Warn => "33",
        Colour::Bad => "31",
        Colour::Notice => "34",
    };
    format!("\u{1b}[{code}m{text}\u{1b}[0m")
}

fn colour_of(state: &str) -> Option<Colour> {
    Some(match state {
        "ready" | "done" | "active" | "holds" | "closed" | "unchanged" => Colour::Good,
        "absent" | "abandoned" | "uncertain" | "superseded" | "running" | "untested" | "rehearsal" | "pending"
        | "unavailable" | "waiting" => Colour::Warn,
        "failed" | "refused" | "revoked" | "differs" | "changed" => Colour::Bad,
        _ => return None,
    })
}

/// A state with its colour, outside of tables.
pub(crate) fn state(text: &str) -> String {
    colour_of(text).map_or_else(|| text.to_owned(), |colour| paint(text, colour))
}

/// A cell; states have their colours.
fn cell(text: &String) -> Cell {
    let cell = Cell::new(text);
    match colour_of(text).filter(|_| coloured()) {
        Some(Colour::Good) => cell.fg(Color::Green),
        Some(Colour::Warn) => cell.fg(Color::Yellow),
        Some(Colour::Bad) => cell.fg(Color::Red),
        Some(Colour::Notice) => cell.fg(Color::Blue),
        None => cell,
    }
}

/// A table without lines; `right` names the columns of numbers.
pub(crate) fn table(head: &[&str], mut rows: Vec<Vec<String>>, right: &[usize]) -> String {
    for column in right {
        aligned(&mut rows.iter_mut().filter_map(|row| row.get_mut(*column)).collect::<Vec<_>>());
    }
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    if !std::io::stdout().is_terminal() {
        // Lines that are piped must not be broken.
        table.set_content_arrangement(ContentArrangement::Disabled);
    }
    let title =
        |title: &&str| if coloured() { Cell::new(title).add_attribute(Attribute::Dim) } else { Cell::new(title) };
    table.set_header(head.iter().map(title));
    for row in rows {
        table.add_row(row.iter().map(cell));
    }
    // Ids and numbers stay whole; the last column is the one that wraps.
    for column in 0..head.len().saturating_sub(1) {
        if let Some(column) = table.column_mut(column) {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
    }
    for column in right {
        if let Some(column) = table.column_mut(*column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table.to_string().lines().map(trim_line).collect::<Vec<_>>().join("\n")
}

/// Without the blanks at its end, which a narrow window would wrap; they may
/// stand inside the escape of a coloured cell.
fn trim_line(line: &str) -> String {
    const PLAIN: &str = "\x1b[0m";
    match line.trim_end().strip_suffix(PLAIN) {
        Some(coloured) => format!("{}{PLAIN}", coloured.trim_end()),
        None => line.trim_end().to_owned(),
    }
}

/// Writes to standard output.
pub(crate) fn print(text: &str) -> Result<(), CliError> {
    let mut out = std::io::stdout().lock();
    out.write_all(text.as_bytes())?;
    if !text.ends_with('\n') {
        out.write_all(b"\n")?;
    }
    Ok(out.flush()?)
}

/// Writes JSON to standard output.
pub(crate) fn print_json(value: &Value) -> Result<(), CliError> {
    print(&serde_json::to_string_pretty(value).unwrap_or_default())
}

/// A member as text; empty if it is missing or null.
pub(crate) fn text(value: &Value, member: &str) -> String {
    match &value[member] {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}

/// Characters of an id that are shown: its time in milliseconds and 12 random
/// bits, which distinguish the records of one host.
const SHORT_ID: usize = 16;

/// The beginning of an id, which every command takes in place of the whole.
pub(crate) fn short(id: &str) -> &str {
    id.get(..SHORT_ID).unwrap_or(id)
}

/// A member that is an id, shortened.
pub(crate) fn short_id(value: &Value, member: &str) -> String {
    short(&text(value, member)).to_owned()
}

/// An amount with the digits that count: `0.0013 EUR`.
pub(crate) fn money(value: &Value) -> String {
    match serde_json::from_value::<Money>(value.clone()) {
        Ok(money) => format!("{} {}", money.rounded(money.decimals()), money.currency),
        Err(_) => String::new(),
    }
}

/// An amount in a cell of a table, which shows all amounts of a column with
/// the same decimals.
pub(crate) fn money_cell(value: &Value) -> String {
    serde_json::from_value::<Money>(value.clone()).map_or_else(|_| String::new(), |money| money.to_string())
}

/// An amount as a header states it, with the digits that count.
pub(crate) fn money_text(text: &str) -> String {
    match amount_of(text) {
        Some(money) => format!("{} {}", money.rounded(money.decimals()), money.currency),
        None => text.to_owned(),
    }
}

/// The cells of a column, whose amounts all get the decimals that the most
/// exact of them needs.
fn aligned(column: &mut [&mut String]) {
    let amounts: Vec<Option<Money>> = column.iter().map(|cell| amount_of(cell)).collect();
    let Some(decimals) = amounts.iter().flatten().map(Money::decimals).max() else { return };
    for (cell, money) in column.iter_mut().zip(&amounts) {
        if let Some(money) = money {
            **cell = format!("{} {}", money.rounded(decimals), money.currency);
        }
    }
}

/// The amount in a cell as [`money_cell`] writes it.
fn amount_of(cell: &str) -> Option<Money> {
    let (amount, currency) = cell.split_once(' ')?;
    amount
        .contains('.')
        .then(|| serde_json::json!({"amount": amount, "currency": currency}))
        .and_then(|written| serde_json::from_value(written).ok())
}

/// Milliseconds, rounded for people.
pub(crate) fn milliseconds(value: &Value) -> String {
    value.as_f64().map_or_else(String::new, |ms| if ms < 10.0 { format!("{ms:.1} ms") } else { format!("{ms:.0} ms") })
}

/// `1 file`, `3 files`.
pub(crate) fn counted(number: &Value, noun: &str) -> String {
    if number == 1 { format!("1 {noun}") } else { format!("{number} {noun}s") }
}

/// `2026-11-25 04:18:22` of an RFC 3339 time in UTC.
pub(crate) fn time(value: &Value) -> String {
    let text = value.as_str().unwrap_or_default();
    text.chars().take(19).map(|c| if c == 'T' { ' ' } else { c }).collect()
}

/// Seconds, rounded for people.
pub(crate) fn seconds(value: &Value) -> String {
    value.as_f64().map_or_else(String::new, |s| format!("{s:.2} s"))
}

/// The items of a list.
pub(crate) fn items(list: &Value) -> Vec<Value> {
    list["items"].as_array().cloned().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_end_where_their_text_ends_coloured_or_not() {
        assert_eq!(trim_line("a  b   "), "a  b");
        assert_eq!(trim_line("a \x1b[2mwhy   \x1b[0m "), "a \x1b[2mwhy\x1b[0m");
        assert_eq!(trim_line(""), "");
    }

    #[test]
    fn a_piped_table_has_no_broken_lines_and_numbers_end_alike() {
        let rows = vec![vec!["heron".into(), "0.000800 EUR".into()], vec!["x".repeat(300), "1.500000 EUR".into()]];
        let table = table(&["engine", "cost"], rows, &[1]);
        let lines: Vec<&str> = table.lines().collect();
        assert_eq!(lines.len(), 3, "{table}");
        assert_eq!(lines[1].len(), lines[2].len(), "{table}");
        assert!(
            lines[1].ends_with(" 0.0008 EUR") && lines[2].ends_with(" 1.5000 EUR"),
            "one form in a column: {table}"
        );
    }
}
