//! `dispatcher audit`.

use std::io::Write as _;
use std::path::Path;

use serde_json::Value;

use crate::args::AuditArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::output::{self, OutputForm};

/// Entries of one page of an export.
const PAGE: &str = "5000";

pub(crate) async fn run(client: &Client, args: AuditArgs, form: OutputForm) -> Result<(), CliError> {
    if let Some(file) = &args.export {
        return export(client, &args, file).await;
    }
    let list = page(client, &args, &args.limit.to_string(), None).await?;
    form.print(&list, || render(&output::items(&list)))
}

async fn page(client: &Client, args: &AuditArgs, limit: &str, cursor: Option<&str>) -> Result<Value, CliError> {
    let query = [
        ("from", args.from.as_deref()),
        ("to", args.to.as_deref()),
        ("who", args.who.as_deref()),
        ("action", args.action.as_deref()),
        ("limit", Some(limit)),
        ("cursor", cursor),
    ];
    client.get("/api/v1/audit", &query).await
}

/// Writes all entries, the newest first, page by page.
async fn export(client: &Client, args: &AuditArgs, file: &Path) -> Result<(), CliError> {
    let failed = |source| CliError::File { path: file.to_owned(), source };
    let mut out: Box<dyn std::io::Write + Send> = match file.as_os_str() == "-" {
        true => Box::new(std::io::stdout()),
        false => Box::new(std::io::BufWriter::new(std::fs::File::create(file).map_err(failed)?)),
    };
    let (mut cursor, mut count) = (None, 0);
    loop {
        let list = page(client, args, PAGE, cursor.as_deref()).await?;
        for item in output::items(&list) {
            writeln!(out, "{item}").map_err(failed)?;
            count += 1;
        }
        match list["next"].as_str() {
            Some(next) => cursor = Some(next.to_owned()),
            None => break,
        }
    }
    out.flush().map_err(failed)?;
    eprintln!("Exported {count} entries");
    Ok(())
}

fn render(entries: &[Value]) -> String {
    if entries.is_empty() {
        return "There are no such entries.".into();
    }
    let rows = entries.iter().map(|entry| {
        let text = |member: &str| output::text(entry, member);
        vec![output::time(&entry["at"]), text("who"), text("action"), text("subject")]
    });
    output::table(&["at", "who", "action", "subject"], rows.collect(), &[])
}
