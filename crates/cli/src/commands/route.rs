//! `dispatcher route`.

use serde_json::Value;

use crate::args::RouteCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, command: RouteCommand, json: bool) -> Result<(), CliError> {
    match command {
        RouteCommand::List => {
            let list = client.get("/api/v1/routes", &[]).await?;
            if json {
                return output::print_json(&list);
            }
            let routes = output::items(&list);
            if routes.is_empty() {
                return output::print("No routes yet. Make one: PUT /api/v1/routes/NAME (see /api/reference)");
            }
            let rows = routes.iter().map(|route| {
                let legs = route["legs"].as_array().into_iter().flatten().map(|leg| output::text(leg, "engine"));
                vec![
                    output::text(route, "name"),
                    output::text(route, "work"),
                    legs.collect::<Vec<_>>().join(" → "),
                    output::text(route, "note"),
                ]
            });
            output::print(&output::table(&["route", "for", "legs", ""], rows.collect(), &[]))
        }
        RouteCommand::Show { name } => {
            let route = client.get(&format!("/api/v1/routes/{}", segment(&name)), &[]).await?;
            if json { output::print_json(&route) } else { output::print(&render(&route)) }
        }
    }
}

fn render(route: &Value) -> String {
    let rows = route["legs"].as_array().into_iter().flatten().enumerate().map(|(index, leg)| {
        let voice = output::text(leg, "voice");
        let voice = if voice.is_empty() && route["work"] == "synthesis" { "by language".into() } else { voice };
        let deadline = leg["deadline"].as_u64().map(|ms| format!("{ms} ms")).unwrap_or_default();
        vec![
            (index + 1).to_string(),
            output::text(leg, "engine"),
            voice,
            output::text(leg, "model"),
            deadline,
            output::text(&leg["conditions"], "languages"),
        ]
    });
    let table = output::table(&["leg", "engine", "voice", "model", "deadline", "languages"], rows.collect(), &[4]);
    format!(
        "{} ({}) {}\n{table}",
        output::text(route, "name"),
        output::text(route, "work"),
        output::text(route, "note")
    )
}
