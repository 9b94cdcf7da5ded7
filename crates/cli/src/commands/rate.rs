//! `dispatcher rate`.

use serde_json::{Value, json};

use crate::args::RateCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: RateCommand, form: OutputForm) -> Result<(), CliError> {
    let list = async || client.get("/api/v1/rates", &[]).await;
    match command {
        RateCommand::List => {
            let list = list().await?;
            form.print(&list, || render(&output::items(&list)))
        }
        RateCommand::Set { currency, rate, from } => {
            let from = from.unwrap_or_else(|| dispatcher_gateway::day_of(dispatcher_gateway::now_micros()));
            let known = output::items(&list().await?).into_iter().find(|it| it["currency"] == currency.as_str());
            let mut rates: Vec<Value> = known.and_then(|it| it["rates"].as_array().cloned()).unwrap_or_default();
            rates.retain(|it| it["from"] != from.as_str());
            rates.push(json!({"from": from, "rate": rate}));
            rates.sort_by_key(|it| output::text(it, "from"));
            let path = format!("/api/v1/rates/{}", segment(&currency));
            let set = client.put(&path, &json!({"rates": rates})).await?;
            form.print(&set, || render(std::slice::from_ref(&set)))
        }
        RateCommand::Retire { currency } => {
            client.delete(&format!("/api/v1/rates/{}", segment(&currency))).await?;
            eprintln!("Retired the rates of {currency}");
            Ok(())
        }
    }
}

fn render(currencies: &[Value]) -> String {
    if currencies.is_empty() {
        return "No rates yet. Set one: dispatcher rate set USD 0.92".into();
    }
    let rows = currencies.iter().flat_map(|currency| {
        let rates = currency["rates"].as_array().cloned().unwrap_or_default();
        rates.into_iter().map(|rate| {
            let worth = format!("{} {}", output::text(&rate, "rate"), output::text(currency, "to"));
            vec![format!("1 {}", output::text(currency, "currency")), worth, output::text(&rate, "from")]
        })
    });
    output::table(&["of", "is", "from"], rows.collect(), &[])
}
