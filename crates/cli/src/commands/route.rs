//! `dispatcher route`.

use std::path::Path;

use serde_json::{Value, json};

use crate::args::{RouteCommand, RouteTryArgs};
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
        RouteCommand::Versions { name } => {
            let list = client.get(&format!("/api/v1/routes/{}/versions", segment(&name)), &[]).await?;
            form.print(&list, || render_versions(&list))
        }
        RouteCommand::Try(args) => {
            let path = format!("/api/v1/routes/{}/try", segment(&args.name));
            let preview = client.post(&path, &tried(args)?).await?;
            form.print(&preview, || render_preview(&preview))
        }
        RouteCommand::Set { name, legs, recognition, order, hedge, note, file } => {
            let route = match file {
                Some(file) => read(&file)?,
                None => {
                    let legs: Vec<Value> = legs.iter().map(|leg| leg_of(leg)).collect::<Result<_, _>>()?;
                    let work = if recognition { "recognition" } else { "synthesis" };
                    json!({"work": work, "order": order.name(), "hedge": hedge, "legs": legs,
                           "note": note.unwrap_or_default()})
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
            let known = "model=NAME, deadline=MILLISECONDS, credential=NAME, weight=NUMBER, languages=RANGES, \
                         formats=NAMES, apps=NAMES, hours=FROM-TO, region=NAME or site=local|cloud";
            CliError::Usage(format!("--leg {text}: '{option}' is not {known}"))
        };
        match option.split_once('=').ok_or_else(wrong)? {
            ("model", value) => leg["model"] = value.into(),
            ("credential", value) => leg["credential"] = value.into(),
            ("deadline", value) => leg["deadline"] = value.parse::<u64>().map_err(|_| wrong())?.into(),
            ("weight", value) => leg["weight"] = value.parse::<u32>().map_err(|_| wrong())?.into(),
            (list @ ("languages" | "formats" | "apps"), value) => {
                leg["conditions"][list] = value.split_whitespace().collect();
            }
            (condition @ ("hours" | "region"), value) => leg["conditions"][condition] = value.into(),
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
            conditions(leg),
        ]
    });
    let table = output::table(&["leg", "engine", "voice", "model", "deadline", "conditions"], rows.collect(), &[4]);
    let (name, work, note) = (output::text(route, "name"), output::text(route, "work"), output::text(route, "note"));
    let order = route["order"].as_str().filter(|order| *order != "listed");
    let work = order.map_or(work.clone(), |order| format!("{work}, {order} first"));
    let work = if route["hedge"] == true { format!("{work}, hedged") } else { work };
    format!("{}\n{table}", format!("{name} ({work}) {note}").trim_end())
}

/// The conditions of a leg in words: `pt en; local; 22:00-06:00 UTC`.
fn conditions(leg: &Value) -> String {
    let conditions = &leg["conditions"];
    let mut words: Vec<String> = ["languages", "site", "region", "formats"]
        .map(|name| output::text(conditions, name))
        .into_iter()
        .filter(|words| !words.is_empty())
        .collect();
    let apps = output::text(conditions, "apps");
    words.extend((!apps.is_empty()).then(|| format!("for {apps}")));
    words.extend(conditions["hours"].as_str().map(|hours| format!("{hours} UTC")));
    words.extend(leg["weight"].as_u64().map(|weight| format!("weight {weight}")));
    words.join("; ")
}

/// What a route is tried with, as JSON.
fn tried(args: RouteTryArgs) -> Result<Value, CliError> {
    let text = match (&args.text, &args.file) {
        (None, None) => None,
        (text, file) => Some(super::speak::read_text(text.clone(), file.as_deref())?),
    };
    let ssml = text.as_deref().is_some_and(|text| text.trim_start().starts_with('<'));
    let mut wish = json!({
        (if ssml { "ssml" } else { "text" }): text, "seconds": args.seconds, "language": args.language,
        "model": args.model, "app": args.app, "audio": args.format.map(|format| json!({"type": format})),
    });
    if let Some(members) = wish.as_object_mut() {
        members.retain(|_, value| !value.is_null());
    }
    Ok(wish)
}

fn render_preview(preview: &Value) -> String {
    let mut legs = preview["legs"].as_array().cloned().unwrap_or_default();
    // In the order in which they would be tried.
    legs.sort_by_key(|leg| leg["place"].as_u64().unwrap_or(u64::MAX));
    let rows = legs.iter().map(|leg| {
        let speaker = match output::text(leg, "voice") {
            voice if voice.is_empty() => output::text(leg, "engine"),
            voice => voice,
        };
        let why = match (leg["passed_over"].as_str(), leg["in_place_of"].as_str()) {
            (Some(why), _) => format!("passed over: {why}"),
            (None, Some(missing)) => format!("in place of {missing}"),
            (None, None) => String::new(),
        };
        vec![
            leg["place"].as_u64().map_or("-".into(), |place| place.to_string()),
            output::text(leg, "leg"),
            speaker,
            output::text(leg, "model"),
            output::money_cell(&leg["cost"]),
            output::milliseconds(&leg["usual_first"]),
            output::text(leg, "fidelity"),
            why,
        ]
    });
    let head = ["tried", "leg", "engine", "model", "cost", "usual", "fidelity", ""];
    let table = output::table(&head, rows.collect(), &[4, 5]);
    let order = match output::text(preview, "order").as_str() {
        "listed" => "as listed".to_owned(),
        order => format!("{order} first"),
    };
    format!("{table}\nFor the app {}, {order}; nothing was sent.", output::text(preview, "app"))
}

fn render_versions(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|version| {
        let legs = version["route"]["legs"].as_array().cloned().unwrap_or_default();
        let legs: Vec<String> = legs
            .iter()
            .map(|leg| match output::text(leg, "voice") {
                voice if voice.is_empty() => output::text(leg, "engine"),
                voice => format!("{}/{voice}", output::text(leg, "engine")),
            })
            .collect();
        let state = if version["retired"] == true { "retired" } else { "" };
        vec![
            output::text(&version, "version"),
            output::time(&version["at"]),
            output::text(&version, "by"),
            legs.join(" → "),
            state.to_owned(),
        ]
    });
    output::table(&["version", "at", "by", "legs", ""], rows.collect(), &[0])
}
