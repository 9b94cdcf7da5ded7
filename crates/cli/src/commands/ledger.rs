//! `dispatcher ledger`.

use serde_json::Value;

use crate::args::LedgerCommand;
use crate::client::Client;
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: LedgerCommand, form: OutputForm) -> Result<(), CliError> {
    let LedgerCommand::Check = command;
    let check = client.get("/api/v1/ledger/check", &[]).await?;
    form.print(&check, || render(&check))?;
    match check["holds"] == true {
        true => Ok(()),
        false => Err(CliError::Failed("the ledger is not in order".into())),
    }
}

fn amounts(value: &Value) -> String {
    let amounts: Vec<String> = value.as_array().into_iter().flatten().map(output::money).collect();
    if amounts.is_empty() { "nothing".into() } else { amounts.join(", ") }
}

fn render(check: &Value) -> String {
    let mut lines = vec![format!(
        "{} entries; settled {}; held {}",
        check["entries"],
        amounts(&check["settled"]),
        amounts(&check["held"])
    )];
    for rule in check["rules"].as_array().into_iter().flatten() {
        let count = rule["count"].as_i64().unwrap_or_default();
        let verdict = if count == 0 { "holds  ".to_owned() } else { format!("{count} faults") };
        lines.push(format!("{verdict}  {}", output::text(rule, "rule")));
        for fault in rule["faults"].as_array().into_iter().flatten() {
            let attempt = fault["attempt"].as_i64().map_or(String::new(), |number| format!(" attempt {number}"));
            let dispatch = output::short_id(fault, "dispatch");
            lines.push(format!("         {dispatch}{attempt}: {}", output::text(fault, "detail")));
        }
        if count > 20 {
            lines.push(format!("         … and {} more", count - 20));
        }
    }
    lines.join("\n")
}
