//! `dispatcher statement`.

use reqwest::Method;
use reqwest::header::CONTENT_TYPE;
use serde_json::{Value, json};

use crate::args::{StatementCommand, StatementMapArgs};
use crate::client::{Client, json as read_json, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

/// Differences of each kind that are shown; `--json` has more.
const SHOWN: usize = 20;

pub(crate) async fn run(client: &Client, command: StatementCommand, form: OutputForm) -> Result<(), CliError> {
    let mapping_of = |engine: &str| format!("/api/v1/engines/{}/statement-mapping", segment(engine));
    match command {
        StatementCommand::Map(args) => {
            let mapping = client.put(&mapping_of(&args.engine), &mapping(&args)).await?;
            form.print(&mapping, || render_mapping(&mapping))
        }
        StatementCommand::Mapping { engine } => {
            let mapping = client.get(&mapping_of(&engine), &[]).await?;
            form.print(&mapping, || render_mapping(&mapping))
        }
        StatementCommand::Reconcile { engine, file } => {
            let text = super::speak::read_text(None, Some(&file))?;
            let path = format!("/api/v1/engines/{}/statements", segment(&engine));
            let request = client.request(Method::POST, &path).header(CONTENT_TYPE, "text/csv").body(text);
            let found = read_json(client.send(request).await?).await?;
            form.print(&found, || render(&found))?;
            match found["clean"] == true {
                true => Ok(()),
                false => Err(CliError::Failed(format!("the statement and the ledger differ for {engine}"))),
            }
        }
    }
}

fn mapping(args: &StatementMapArgs) -> Value {
    json!({
        "time": args.time, "amount": args.amount, "currency": args.currency, "currency_column": args.currency_column,
        "zone": args.zone, "delimiter": args.delimiter, "decimal_comma": args.decimal_comma,
        "tolerance": args.tolerance,
    })
}

fn render_mapping(mapping: &Value) -> String {
    let given = mapping.as_object().into_iter().flatten().filter(|(_, value)| !value.is_null());
    let rows = given.map(|(name, _)| vec![name.replace('_', " "), output::text(mapping, name)]);
    output::table(&["member", "value"], rows.collect(), &[])
}

fn amounts(value: &Value) -> String {
    let amounts: Vec<String> = value.as_array().into_iter().flatten().map(output::money).collect();
    if amounts.is_empty() { "-".into() } else { amounts.join(", ") }
}

const KINDS: [(&str, &str); 3] = [
    ("differing", "other amount or time"),
    ("not_charged", "billed, not in the ledger"),
    ("not_billed", "in the ledger, not billed"),
];

fn render(found: &Value) -> String {
    let matched = &found["matched"];
    let mut rows = vec![vec![
        "matched".to_owned(),
        output::text(matched, "count"),
        amounts(&matched["sum"]),
        amounts(&matched["sum"]),
        String::new(),
    ]];
    for (member, title) in KINDS {
        let kind = &found[member];
        let causes = kind["causes"].as_object().into_iter().flatten();
        let causes: Vec<String> = causes.map(|(cause, count)| format!("{count} {cause}")).collect();
        rows.push(vec![
            title.to_owned(),
            output::text(kind, "count"),
            amounts(&kind["billed"]),
            amounts(&kind["charged"]),
            causes.join(", "),
        ]);
    }
    let head = format!(
        "{} lines of {}, {} to {} (UTC)",
        found["lines"],
        output::text(found, "engine"),
        output::text(found, "from"),
        output::text(found, "to")
    );
    let sums = output::table(&["", "lines", "billed", "charged", "likely causes"], rows, &[1, 2, 3]);
    let mut shown = vec![head, sums];
    let differences: Vec<&Value> = KINDS
        .iter()
        .flat_map(|(member, _)| found[*member]["items"].as_array().into_iter().flatten().take(SHOWN))
        .collect();
    if !differences.is_empty() {
        shown.push(String::new());
        shown.push(render_differences(&differences));
    }
    shown.join("\n")
}

fn render_differences(differences: &[&Value]) -> String {
    let cell = |amount: &Value| if amount.is_null() { "-".to_owned() } else { output::money_cell(amount) };
    let rows = differences.iter().map(|difference| {
        let dispatch = match difference["dispatch"].is_null() {
            true => String::new(),
            false => output::short_id(difference, "dispatch"),
        };
        vec![
            output::text(difference, "row"),
            output::time(&difference["at"]),
            cell(&difference["billed"]),
            cell(&difference["charged"]),
            dispatch,
            output::text(difference, "detail"),
        ]
    });
    output::table(&["row", "time", "billed", "charged", "dispatch", "likely cause"], rows.collect(), &[0, 2, 3])
}
