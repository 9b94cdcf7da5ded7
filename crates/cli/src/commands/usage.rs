//! `dispatcher usage`.

use serde_json::Value;

use crate::args::UsageArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, args: UsageArgs, json: bool) -> Result<(), CliError> {
    let query = [
        ("by", Some(args.by.as_str())),
        ("from", args.from.as_deref()),
        ("to", args.to.as_deref()),
        ("app", args.app.as_deref()),
    ];
    let usage = client.get("/api/v1/usage", &query).await?;
    if json {
        return output::print_json(&usage);
    }
    output::print(&if args.csv { csv(&usage) } else { render(&usage) })
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
    let head: Vec<&str> = by.iter().map(String::as_str).chain(["requests", "characters", "audio", "cost"]).collect();
    let sum = |member: &str| items.iter().filter_map(|item| item[member].as_f64()).sum::<f64>();
    let mut rows: Vec<Vec<String>> = items
        .iter()
        .map(|item| {
            let numbers = [
                output::text(item, "requests"),
                output::text(item, "characters"),
                output::seconds(&item["audio"]),
                output::money(&item["cost"]),
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
                format!("{:.2} s", sum("audio")),
            ],
            _ => Default::default(),
        };
        rows.push(label.chain(numbers).chain([output::money(total)]).collect());
    }
    let right: Vec<usize> = (by.len()..head.len()).collect();
    format!("{period}\n{}", output::table(&head, rows, &right))
}

fn csv(usage: &Value) -> String {
    let quote = |text: String| {
        if text.contains([',', '"', '\n']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
    };
    let head = groups(&usage["by"])
        .into_iter()
        .chain(["requests", "characters", "audio_seconds", "amount", "currency"].map(str::to_owned));
    let mut out = head.collect::<Vec<_>>().join(",") + "\r\n";
    for item in output::items(usage) {
        let numbers = [
            output::text(&item, "requests"),
            output::text(&item, "characters"),
            output::text(&item, "audio"),
            output::text(&item["cost"], "amount"),
            output::text(&item["cost"], "currency"),
        ];
        let fields = groups(&item["group"]).into_iter().chain(numbers).map(quote);
        out += &(fields.collect::<Vec<_>>().join(",") + "\r\n");
    }
    out
}
