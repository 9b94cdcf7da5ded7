//! `dispatcher engine`.

use serde_json::{Value, json};

use crate::args::EngineCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, command: EngineCommand, json: bool) -> Result<(), CliError> {
    match command {
        EngineCommand::List => {
            let list = client.get("/api/v1/engines", &[]).await?;
            if json { output::print_json(&list) } else { output::print(&render_list(&list)) }
        }
        EngineCommand::Show { name } => {
            let engine = client.get(&format!("/api/v1/engines/{}", segment(&name)), &[]).await?;
            if json { output::print_json(&engine) } else { output::print(&render_one(&engine)) }
        }
        EngineCommand::Check { name } => {
            let check = client.post(&format!("/api/v1/engines/{}/check", segment(&name)), &json!({})).await?;
            if json {
                output::print_json(&check)?;
            } else {
                output::print(&render_check(&check))?;
            }
            if check["good"] == true {
                Ok(())
            } else {
                Err(CliError::Failed(format!("{name} does not work as its sheet says")))
            }
        }
    }
}

fn work(engine: &Value) -> String {
    match (engine["speaks"] == true, engine["listens"] == true) {
        (true, true) => "speaks, listens".into(),
        (true, false) => "speaks".into(),
        _ => "listens".into(),
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
    output::table(&["engine", "state", "site", "does", "voices", ""], rows.collect(), &[4])
}

fn render_one(engine: &Value) -> String {
    let mut lines = vec![format!("{} ({})", output::text(engine, "title"), output::text(engine, "name"))];
    let mut add = |name: &str, value: String| {
        if !value.is_empty() {
            lines.push(format!("  {name:<10} {value}"));
        }
    };
    add("state", output::state(&output::text(engine, "state")));
    add("reason", output::text(engine, "reason"));
    add("does", work(engine));
    add("site", format!("{}, by {}", output::text(engine, "site"), output::text(engine, "driver")));
    add("endpoint", output::text(engine, "endpoint"));
    add("models", output::text(engine, "models"));
    add("formats", output::text(engine, "formats"));
    add("price", output::text(engine, "price"));
    add("credential", output::text(engine, "parts"));
    let steps = engine["guide"].as_array().into_iter().flatten().filter_map(Value::as_str);
    for (number, step) in steps.enumerate() {
        add(if number == 0 { "access" } else { "" }, format!("{}. {step}", number + 1));
    }
    lines.join("\n")
}

fn render_check(check: &Value) -> String {
    let rows = check["steps"].as_array().into_iter().flatten().map(|step| {
        let good = step["good"] == true;
        let word = if good { "good" } else { "bad" };
        vec![output::text(step, "step"), word.to_owned(), output::text(step, "detail")]
    });
    output::table(&["step", "", "seen"], rows.collect(), &[])
}
