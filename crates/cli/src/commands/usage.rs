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
    let head: Vec<&str> = by.iter().map(String::as_str).chain(["requests", "characters", "duration", "cost"]).collect();
    let sum = |member: &str| items.iter().filter_map(|item| item[member].as_f64()).sum::<f64>();
    let mut rows: Vec<Vec<String>> = items
        .iter()
        .map(|item| {
            let numbers = [
                output::text(item, "requests"),
                output::text(item, "characters"),
                output::seconds(&item["duration"]),
                output::money_cell(&item["cost"]),
            ];
            groups(&item["group"]).into_iter().chain(numbers).collect()
        })
        .collect();
    for (index, total) in usage["total"].as_array().into_iter().flatten().enumerate() {
        let label = (0..by.len()).map(|column| if column == 0 { "total".to_owned() } else { String::new() });
        // Counts have no currency: they stand with the first amount.
        let numbers = match index {
            0 => [
                format!("{:.0}", sum("requests")),
                format!("{:.0}", sum("characters")),
                format!("{:.2} s", sum("duration")),
            ],
            _ => Default::default(),
        };
        rows.push(label.chain(numbers).chain([output::money_cell(total)]).collect());
    }
    let right: Vec<usize> = (by.len()..head.len()).collect();
    let table = output::table(&head, rows, &right);
    match usage["sample"] == true {
        true => format!("{period}\n{table}\n{}", super::dispatches::SAMPLES),
        false => format!("{period}\n{table}"),
    }
}
