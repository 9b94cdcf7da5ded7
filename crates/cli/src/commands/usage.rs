//! `dispatcher usage`.

use reqwest::Method;
use reqwest::header::ACCEPT;
use serde_json::Value;

use crate::args::UsageArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: UsageArgs, form: OutputForm) -> Result<(), CliError> {
    let query = [
        ("by", Some(args.by.as_str())),
        ("from", args.from.as_deref()),
        ("to", args.to.as_deref()),
        ("app", args.app.as_deref()),
    ];
    if args.csv {
        let given: Vec<(&str, &str)> = query.iter().filter_map(|(name, value)| Some((*name, (*value)?))).collect();
        let request = client.request(Method::GET, "/api/v1/usage").query(&given).header(ACCEPT, "text/csv");
        return output::print(&client.send(request).await?.text().await.map_err(CliError::Broken)?);
    }
    let usage = client.get("/api/v1/usage", &query).await?;
    form.print(&usage, || render(&usage))
}

fn groups(value: &Value) -> Vec<String> {
    value.as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect()
}

/// The usage as a table with its totals.
pub(crate) fn render(usage: &Value) -> String {
    let by = groups(&usage["by"]);
    let period = format!("{} to {} (UTC)", output::text(usage, "from"), output::text(usage, "to"));
    let items = output::items(usage);
    if items.is_empty() {
        return format!("Nothing was used, {period}.");
    }
    const COUNTS: [&str; 4] = ["requests", "failures", "fallbacks", "characters"];
    const OTHERS: [&str; 4] = ["duration", "median", "p95", "cost"];
    let head: Vec<&str> = by.iter().map(String::as_str).chain(COUNTS).chain(OTHERS).collect();
    let sum = |member: &str| items.iter().filter_map(|item| item[member].as_f64()).sum::<f64>();
    let mut rows: Vec<Vec<String>> = items
        .iter()
        .map(|item| {
            let others = [
                output::seconds(&item["duration"]),
                output::milliseconds(&item["latency_median"]),
                output::milliseconds(&item["latency_p95"]),
                output::money_cell(&item["cost"]),
            ];
            groups(&item["group"])
                .into_iter()
                .chain(COUNTS.map(|count| output::text(item, count)))
                .chain(others)
                .collect()
        })
        .collect();
    for (index, total) in usage["total"].as_array().into_iter().flatten().enumerate() {
        let label = (0..by.len()).map(|column| if column == 0 { "total".to_owned() } else { String::new() });
        // Counts have no currency: they are in the row of the first amount.
        let counts = COUNTS.map(|count| if index == 0 { format!("{:.0}", sum(count)) } else { String::new() });
        let duration = if index == 0 { format!("{:.2} s", sum("duration")) } else { String::new() };
        let others = [duration, String::new(), String::new(), output::money_cell(total)];
        rows.push(label.chain(counts).chain(others).collect());
    }
    let right: Vec<usize> = (by.len()..head.len()).collect();
    let table = output::table(&head, rows, &right);
    let mut shown = vec![period, table];
    let saved: Vec<String> = items.iter().filter(|item| item["recalled"] != 0).map(|item| saved(item, &by)).collect();
    if !saved.is_empty() {
        shown.push(format!("Saved by recall: {}", saved.join("; ")));
    }
    if usage["total"].as_array().is_some_and(|total| total.len() > 1) && !usage["converted"].is_null() {
        shown.push(format!("In all: {}", output::money(&usage["converted"])));
    }
    if usage["sample"] == true {
        shown.push(super::dispatches::SAMPLES.to_owned());
    }
    shown.join("\n")
}

/// `quay-announcer, flite: 3 requests, 0.0024 EUR`.
fn saved(item: &Value, by: &[String]) -> String {
    let group = groups(&item["group"]).join(", ");
    let group = if group.trim_matches([',', ' ']).is_empty() { by.join(", ") } else { group };
    format!("{group}: {} requests, {}", item["recalled"], output::money(&item["saved"]))
}
