//! `dispatcher credit`.

use serde_json::Value;

use super::app::amount_in_words;
use crate::args::{CreditArgs, CreditCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: CreditCommand, form: OutputForm) -> Result<(), CliError> {
    let path = |engine: &str, name: &str| format!("/api/v1/credits/{}/{}", segment(engine), segment(name));
    match command {
        CreditCommand::List => {
            let list = client.get("/api/v1/credits", &[]).await?;
            form.print(&list, || render(&output::items(&list)))
        }
        CreditCommand::Set(args) => {
            let credit = client.put(&path(&args.engine, &args.name), &body(&args)?).await?;
            form.print(&credit, || render(std::slice::from_ref(&credit)))
        }
        CreditCommand::Retire { engine, name } => {
            client.delete(&path(&engine, &name)).await?;
            eprintln!("Retired the credit {name} of {engine}");
            Ok(())
        }
    }
}

fn body(args: &CreditArgs) -> Result<Value, CliError> {
    let mut body = args.amount.body()?;
    body["work"] = args.work.map(|work| work.name()).into();
    body["per"] = args.per.clone().into();
    body["from"] = args.from.clone().into();
    body["until"] = args.until.clone().into();
    Ok(body)
}

/// When it ends, is used or renews.
fn outlook(credit: &Value) -> String {
    let mut words = Vec::new();
    words.extend(credit["used_on"].as_str().map(|day| format!("used on {day} at this pace")));
    words.extend(credit["until"].as_str().map(|day| format!("ends {day}")));
    words.extend(credit["days_left"].as_f64().map(|days| match days > 0.0 {
        true => format!("{days} days left"),
        false => "over".to_owned(),
    }));
    if !credit["renews"].is_null() {
        words.push(format!("renews {}", output::time(&credit["renews"])));
    }
    words.join(", ")
}

fn render(credits: &[Value]) -> String {
    if credits.is_empty() {
        return "No credits yet. Set one: dispatcher credit set ENGINE NAME --characters COUNT --per month".into();
    }
    let rows = credits.iter().map(|credit| {
        vec![
            output::text(credit, "engine"),
            output::text(credit, "name"),
            amount_in_words(&credit["credit"]),
            output::text(credit, "per"),
            amount_in_words(&credit["left"]),
            format!("{} %", output::text(credit, "percent")),
            outlook(credit),
        ]
    });
    output::table(&["engine", "credit", "amount", "per", "left", "used", ""], rows.collect(), &[2, 4, 5])
}
