//! `dispatcher engine`.

use std::path::Path;

use reqwest::Method;
use serde_json::{Value, json};

use crate::args::{EngineCommand, SheetArgs};
use crate::client::{Change, Client, json as read_json, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: EngineCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        EngineCommand::List => {
            let list = client.get("/api/v1/engines", &[]).await?;
            form.print(&list, || render_list(&list))
        }
        EngineCommand::Show { name, sheet: true } => {
            let sheet = client.get(&format!("/api/v1/engines/{}/sheet", segment(&name)), &[]).await?;
            if form.is_json() {
                output::print_json(&sheet)
            } else {
                output::print(output::text(&sheet, "document").trim_end())
            }
        }
        EngineCommand::Show { name, sheet: false } => {
            let engine = client.get(&format!("/api/v1/engines/{}", segment(&name)), &[]).await?;
            form.print(&engine, || render_one(&engine))
        }
        EngineCommand::Add(args) => put(client, &args, Change::Add, form).await,
        EngineCommand::Replace(args) => put(client, &args, Change::Replace, form).await,
        EngineCommand::Refresh { name } => {
            let path = format!("/api/v1/engines/{}/catalogue", segment(&name));
            let changes = client.post(&path, &json!({})).await?;
            form.print(&changes, || render_changes(&changes))
        }
        EngineCommand::Retire { name } => {
            client.delete(&format!("/api/v1/engines/{}", segment(&name))).await?;
            eprintln!("Retired engine {name}");
            Ok(())
        }
        EngineCommand::Reset { name } => {
            client.delete(&format!("/api/v1/breakers/{}", segment(&name))).await?;
            eprintln!("{name} is called again");
            Ok(())
        }
        EngineCommand::Schema => output::print(&dispatcher_core::sheet_schema()),
        // Drafts need no service and are made before there is a client.
        EngineCommand::Draft { command, name } => super::draft::run(command.as_deref(), name.as_deref(), form),
        EngineCommand::Check { name, quick, voice } => {
            let query = [("quick", quick.then_some("true")), ("voice", voice.as_deref())];
            let query: Vec<String> =
                query.iter().filter_map(|(name, value)| Some(format!("{name}={}", segment((*value)?)))).collect();
            let path = format!("/api/v1/engines/{}/check?{}", segment(&name), query.join("&"));
            eprintln!("Checking {name} with real calls, charged to the app of the key");
            let check = client.post(path.trim_end_matches('?'), &json!({})).await?;
            if form.is_json() {
                output::print_json(&check)?;
            } else {
                output::print(&render_check(&check))?;
            }
            if check["good"] == true { Ok(()) } else { Err(CliError::Failed(format!("{name} differs from its sheet"))) }
        }
    }
}

async fn put(client: &Client, args: &SheetArgs, change: Change, form: OutputForm) -> Result<(), CliError> {
    let sheet: &Path = &args.sheet;
    let source = match sheet.as_os_str() == "-" {
        true => std::io::read_to_string(std::io::stdin())?,
        false => std::fs::read_to_string(sheet).map_err(|source| CliError::File { path: sheet.into(), source })?,
    };
    if let Some(name) = name_of(&source) {
        client.expect(&format!("/api/v1/engines/{}", segment(&name)), "engine", &name, change).await?;
    }
    let path = if args.dry_run { "/api/v1/engines?dry_run=true" } else { "/api/v1/engines" };
    let request = client.request(Method::POST, path).header("Content-Type", "application/toml").body(source);
    let named = |error: CliError| match error {
        CliError::Problem(mut problem) => {
            // The service does not know what the file is called here.
            if let Some(rest) = problem.detail.strip_prefix("sheet:") {
                problem.detail = format!("{}:{rest}", sheet.display());
            }
            CliError::Problem(problem)
        }
        error => error,
    };
    let engine = match client.send(request).await {
        Ok(response) => read_json(response).await,
        Err(error) => Err(error),
    };
    let engine = engine.map_err(named)?;
    if form.is_json() {
        return output::print_json(&engine);
    }
    let name = output::text(&engine, "name");
    if args.dry_run {
        eprintln!("The sheet of {name} is valid; nothing was changed");
        return Ok(());
    }
    let done = if change == Change::Add { "Added" } else { "Replaced" };
    eprintln!("{done} {name} ({})", output::text(&engine, "state"));
    let parts = engine["parts"].as_array().map_or(0, Vec::len);
    if engine["state"] != "ready" && parts > 0 {
        eprintln!("Next: dispatcher credential add {name}, then: dispatcher engine check {name}");
    }
    Ok(())
}

/// The name that a sheet gives its engine; `None` where the sheet cannot be
/// read, which the service reports with line and column.
fn name_of(source: &str) -> Option<String> {
    let sheet: toml::Table = source.parse().ok()?;
    sheet.get("name")?.as_str().map(str::to_owned)
}

fn render_changes(changes: &Value) -> String {
    let mut lines = vec![format!("{} voices", changes["voices"])];
    let names = |member: &str| changes[member].as_array().cloned().unwrap_or_default();
    lines.extend(names("added").iter().filter_map(Value::as_str).map(|voice| format!("  + {voice}")));
    for voice in names("changed") {
        lines.push(format!("  ~ {} ({})", output::text(&voice, "voice"), output::text(&voice, "members")));
    }
    lines.extend(names("removed").iter().filter_map(Value::as_str).map(|voice| format!("  - {voice}")));
    if lines.len() == 1 {
        lines.push("  nothing changed".into());
    }
    lines.join("\n")
}

fn work(engine: &Value) -> String {
    match (engine["synthesis"] == true, engine["recognition"] == true) {
        (true, true) => "synthesis, recognition".into(),
        (true, false) => "synthesis".into(),
        _ => "recognition".into(),
    }
}

fn render_list(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|engine| {
        vec![
            output::text(&engine, "name"),
            output::text(&engine, "state"),
            output::text(&engine, "site"),
            work(&engine),
            output::text(&engine, "voices"),
            output::text(&engine, "reason"),
        ]
    });
    output::table(&["engine", "state", "site", "work", "voices", "reason"], rows.collect(), &[4])
}

fn render_one(engine: &Value) -> String {
    let mut lines = vec![format!("{} ({})", output::text(engine, "title"), output::text(engine, "name"))];
    let mut add = |name: &str, value: String| {
        if !value.is_empty() {
            lines.push(format!("  {name:<11} {value}"));
        }
    };
    add("state", output::state(&output::text(engine, "state")));
    add("reason", output::text(engine, "reason"));
    add("work", work(engine));
    add("site", format!("{}, by {}", output::text(engine, "site"), output::text(engine, "driver")));
    add("endpoint", output::text(engine, "endpoint"));
    add("access", output::text(engine, "access"));
    let pace: Vec<String> = [("per_minute", "calls per minute"), ("at_once", "at once")]
        .iter()
        .filter_map(|(member, unit)| Some(format!("{} {unit}", engine["pace"][member].as_u64()?)))
        .collect();
    add("pace", pace.join(", "));
    let catalogue = &engine["catalogue"];
    if catalogue.is_object() {
        let read = output::text(catalogue, "read");
        let problem = output::text(catalogue, "problem");
        let read = if read.is_empty() {
            "the sheet's own list".into()
        } else {
            format!("read {}", output::time(&catalogue["read"]))
        };
        add("voices", format!("{}, {read}", catalogue["voices"]));
        add("", if problem.is_empty() { problem } else { format!("stale: {problem}") });
    }
    add("credential", output::text(engine, "parts"));
    for work in ["synthesis", "recognition"] {
        let details = &engine[format!("{work}_details")];
        for (number, line) in capabilities(details).into_iter().enumerate() {
            add(if number == 0 { work } else { "" }, line);
        }
    }
    let steps = engine["guide"].as_array().into_iter().flatten().filter_map(Value::as_str);
    for (number, step) in steps.enumerate() {
        add(if number == 0 { "guide" } else { "" }, format!("{}. {step}", number + 1));
    }
    lines.join("\n")
}

/// What an engine can do, as its sheet says; a line each of price and limits,
/// models, controls and formats.
fn capabilities(details: &Value) -> Vec<String> {
    let each = |member: &str, word: &dyn Fn(&Value) -> String| -> String {
        details[member].as_array().into_iter().flatten().map(word).collect::<Vec<_>>().join(", ")
    };
    let limits = each("limits", &|limit| format!("at most {} {} a call", limit["most"], output::text(limit, "unit")));
    let model = |model: &Value| match output::text(model, "price_factor").as_str() {
        "1" => output::text(model, "name"),
        factor => format!("{} (price × {factor})", output::text(model, "name")),
    };
    let format = |format: &Value| {
        let rates = format["sample_rates"].as_array().into_iter().flatten();
        let rates: Vec<String> = rates.map(Value::to_string).collect();
        format!("{} at {} Hz", output::text(format, "type"), rates.join("/"))
    };
    let price = output::text(details, "price");
    let lines = [
        ("", [price, limits].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("; ")),
        ("models: ", each("models", &model)),
        ("controls: ", each("controls", &control)),
        ("formats: ", each("formats", &format)),
        ("languages: ", output::text(details, "languages")),
    ];
    lines.into_iter().filter(|(_, text)| !text.is_empty()).map(|(name, text)| format!("{name}{text}")).collect()
}

/// A control with its range: `pitch -3 to 3 semitones`.
fn control(control: &Value) -> String {
    let number = |member: &str| control[member].as_f64().map(|number| number.to_string());
    let range = match (number("least"), number("most")) {
        (Some(least), Some(most)) => format!(" {least} to {most}"),
        (None, Some(most)) => format!(" up to {most}"),
        _ => String::new(),
    };
    let unit = output::text(control, "unit");
    let unit = if unit.is_empty() { unit } else { format!(" {unit}") };
    let models = output::text(control, "models");
    let models = if models.is_empty() { models } else { format!(" (with {models})") };
    format!("{}{range}{unit}{models}", output::text(control, "name"))
}

fn render_check(check: &Value) -> String {
    let claims = check["claims"].as_array().cloned().unwrap_or_default();
    let rows = claims.iter().map(|claim| {
        vec![
            output::text(claim, "kind"),
            output::text(claim, "subject"),
            output::text(claim, "claimed"),
            output::text(claim, "seen"),
            output::text(claim, "verdict"),
        ]
    });
    let mut text = output::table(&["claim", "subject", "sheet", "engine", "verdict"], rows.collect(), &[]);
    for claim in claims.iter().filter(|claim| claim["verdict"] == "differs") {
        text.push_str(&format!("\n\n{} {}", output::text(claim, "kind"), output::text(claim, "subject")));
        for (name, member) in [("request", "request"), ("answer", "answer")] {
            let told = output::text(claim, member);
            if !told.is_empty() {
                text.push_str(&format!("\n  {name}: {}", told.replace('\n', "\n    ")));
            }
        }
    }
    let count = |verdict: &str| claims.iter().filter(|claim| claim["verdict"] == verdict).count();
    let (holds, differs, open) = (count("holds"), count("differs"), count("untested"));
    text.push_str(&format!("\n\n{holds} hold, {differs} differ, {open} untested; {}", output::money(&check["cost"])));
    text
}
