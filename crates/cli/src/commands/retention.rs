//! `dispatcher retention`.

use serde_json::{Value, json};

use crate::args::RetentionCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: RetentionCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        RetentionCommand::List => {
            let list = client.get("/api/v1/retention", &[]).await?;
            form.print(&list, || render(&output::items(&list)))
        }
        RetentionCommand::Set { kind, days } => {
            let path = format!("/api/v1/retention/{}", segment(&kind));
            let set = client.put(&path, &json!({"days": days})).await?;
            form.print(&set, || render(std::slice::from_ref(&set)))
        }
        RetentionCommand::End { kind } => {
            client.delete(&format!("/api/v1/retention/{}", segment(&kind))).await?;
            eprintln!("Ended the rule: {kind} are kept");
            Ok(())
        }
        RetentionCommand::Remove { dry_run } => {
            let path = format!("/api/v1/retention/removal?dry_run={dry_run}");
            let removed = client.post(&path, &json!({})).await?;
            form.print(&removed, || render_removal(&output::items(&removed), dry_run))
        }
    }
}

fn render(kinds: &[Value]) -> String {
    let rows = kinds.iter().map(|kind| {
        let kept = match kind["days"].as_i64() {
            Some(1) => "1 day".into(),
            Some(days) => format!("{days} days"),
            None => "no rule".into(),
        };
        vec![output::text(kind, "kind"), kept, output::text(kind, "set_by"), output::time(&kind["set"])]
    });
    output::table(&["kind", "kept", "set by", "set"], rows.collect(), &[])
}

fn render_removal(kinds: &[Value], dry_run: bool) -> String {
    if kinds.is_empty() {
        return "No kind of records has a rule. Set one: dispatcher retention set dispatches 90".into();
    }
    let rows = kinds
        .iter()
        .map(|kind| vec![output::text(kind, "kind"), format!("{} days", kind["days"]), kind["records"].to_string()]);
    let done = if dry_run { "would be removed" } else { "removed" };
    output::table(&["kind", "kept", done], rows.collect(), &[2])
}
