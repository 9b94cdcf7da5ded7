//! `dispatcher route`.

use std::path::Path;

use serde_json::{Value, json};

use crate::args::RouteCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: RouteCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        RouteCommand::List => {
            let list = client.get("/api/v1/routes", &[]).await?;
            if form.is_json() {
                return output::print_json(&list);
            }
            let routes = output::items(&list);
            if routes.is_empty() {
                return output::print("No routes yet. Set one: dispatcher route set NAME --leg ENGINE/VOICE");
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
            output::print(&output::table(&["route", "work", "legs", "note"], rows.collect(), &[]))
        }
        RouteCommand::Show { name } => {
            let route = client.get(&format!("/api/v1/routes/{}", segment(&name)), &[]).await?;
            form.print(&route, || render(&route))
        }
        RouteCommand::Set { name, legs, recognition, note, file } => {
            let route = match file {
                Some(file) => read(&file)?,
                None => {
                    let legs: Vec<Value> = legs.iter().map(|leg| leg_of(leg)).collect::<Result<_, _>>()?;
                    let work = if recognition { "recognition" } else { "synthesis" };
                    json!({"work": work, "legs": legs, "note": note.unwrap_or_default()})
                }
            };
            let route = client.put(&format!("/api/v1/routes/{}", segment(&name)), &route).await?;
            form.print(&route, || render(&route))
        }
        RouteCommand::Retire { name } => {
            client.delete(&format!("/api/v1/routes/{}", segment(&name))).await?;
            eprintln!("Retired route {name}");
            Ok(())
        }
    }
}

/// A route as JSON, out of a file.
fn read(file: &Path) -> Result<Value, CliError> {
    let text = super::speak::read_text(None, Some(file))?;
    let wrong = |error| CliError::Usage(format!("{}: not a route in JSON: {error}", file.display()));
    serde_json::from_str(&text).map_err(wrong)
}

/// A leg as it is written on the command line: `heron/pellin,deadline=1500`.
fn leg_of(text: &str) -> Result<Value, CliError> {
    let mut parts = text.split(',').map(str::trim);
    let target = parts.next().unwrap_or_default();
    let (engine, voice) = target.split_once('/').map_or((target, None), |(engine, voice)| (engine, Some(voice)));
    let mut leg = json!({"engine": engine});
    if let Some(voice) = voice {
        leg["voice"] = voice.into();
    }
    for option in parts {
        let wrong = || {
            let known = "model=NAME, deadline=MILLISECONDS, credential=NAME, languages=RANGES or site=local|cloud";
            CliError::Usage(format!("--leg {text}: '{option}' is not {known}"))
        };
        match option.split_once('=').ok_or_else(wrong)? {
            ("model", value) => leg["model"] = value.into(),
            ("credential", value) => leg["credential"] = value.into(),
            ("deadline", value) => leg["deadline"] = value.parse::<u64>().map_err(|_| wrong())?.into(),
            ("languages", value) => {
                leg["conditions"]["languages"] = value.split_whitespace().collect();
            }
            ("site", value @ ("local" | "cloud")) => leg["conditions"]["site"] = value.into(),
            _ => return Err(wrong()),
        }
    }
    Ok(leg)
}

/// Criteria in words: `any female pt-PT voice`.
fn criteria(criteria: &Value) -> String {
    serde_json::from_value::<dispatcher_core::Criteria>(criteria.clone()).unwrap_or_default().to_string()
}

fn render(route: &Value) -> String {
    let rows = route["legs"].as_array().into_iter().flatten().enumerate().map(|(index, leg)| {
        let voice = match output::text(leg, "voice") {
            voice if voice.is_empty() && route["work"] == "synthesis" => criteria(&leg["criteria"]),
            voice => voice,
        };
        let deadline = leg["deadline"].as_u64().map(|ms| format!("{ms} ms")).unwrap_or_default();
        vec![
            (index + 1).to_string(),
            output::text(leg, "engine"),
            voice,
            output::text(leg, "model"),
            deadline,
            output::text(&leg["conditions"], "languages"),
            output::text(&leg["conditions"], "site"),
        ]
    });
    let table =
        output::table(&["leg", "engine", "voice", "model", "deadline", "languages", "site"], rows.collect(), &[4]);
    let (name, work, note) = (output::text(route, "name"), output::text(route, "work"), output::text(route, "note"));
    format!("{}\n{table}", format!("{name} ({work}) {note}").trim_end())
}
