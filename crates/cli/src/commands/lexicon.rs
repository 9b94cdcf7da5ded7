//! `dispatcher lexicon`.

use reqwest::Method;
use reqwest::header::CONTENT_TYPE;
use serde_json::{Value, json};

use super::speak::read_text;
use crate::args::{LexiconArgs, LexiconCommand, LexiconWordArgs};
use crate::client::{self, Change, Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

fn place(name: &str) -> String {
    format!("/api/v1/lexicons/{}", segment(name))
}

pub(crate) async fn run(client: &Client, command: LexiconCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        LexiconCommand::List => {
            let list = client.get("/api/v1/lexicons", &[]).await?;
            form.print(&list, || render(&list))
        }
        LexiconCommand::Show { name } => {
            let response = client.send(client.request(Method::GET, &place(&name))).await?;
            output::print(&response.text().await.map_err(CliError::Broken)?)
        }
        LexiconCommand::Versions { name } => {
            let list = client.get(&format!("{}/versions", place(&name)), &[]).await?;
            form.print(&list, || render_versions(&list))
        }
        LexiconCommand::Add(args) => put(client, args, Change::Add, form).await,
        LexiconCommand::Replace(args) => put(client, args, Change::Replace, form).await,
        LexiconCommand::Word(LexiconWordArgs { name, word, alias, phoneme, language }) => {
            let body = json!({"grapheme": word, "alias": alias, "phoneme": phoneme, "language": language});
            let kept = client.post(&format!("{}/words", place(&name)), &body).await?;
            if form.is_json() {
                return output::print_json(&kept);
            }
            eprintln!("Lexicon {name}, version {}: {} lexemes", kept["version"], kept["lexemes"]);
            Ok(())
        }
        LexiconCommand::Retire { name } => {
            client.delete(&place(&name)).await?;
            eprintln!("Retired lexicon {name}");
            Ok(())
        }
    }
}

async fn put(client: &Client, args: LexiconArgs, change: Change, form: OutputForm) -> Result<(), CliError> {
    let LexiconArgs { name, file, app, on_request } = args;
    client.expect(&place(&name), "lexicon", &name, change).await?;
    let document = read_text(None, file.as_deref())?;
    let always = if on_request { "false" } else { "true" };
    let mut query = vec![("always", always)];
    query.extend(app.as_deref().map(|app| ("app", app)));
    let request = client.request(Method::PUT, &place(&name)).query(&query);
    let request = request.header(CONTENT_TYPE, "application/pls+xml").body(document);
    let kept = client::json(client.send(request).await?).await?;
    if form.is_json() {
        return output::print_json(&kept);
    }
    let whose = kept["app"].as_str().map_or("all apps".to_owned(), |app| format!("app {app}"));
    let (version, lexemes) = (&kept["version"], &kept["lexemes"]);
    let language = output::text(&kept, "language");
    eprintln!("Lexicon {name}, version {version}: {lexemes} lexemes in {language}, for {whose}");
    if on_request {
        eprintln!("Scripts use it with: <lexicon uri=\"{name}\" xml:id=\"x\"/> … <lookup ref=\"x\">");
    }
    Ok(())
}

fn render(list: &Value) -> String {
    let rows: Vec<Vec<String>> = output::items(list)
        .into_iter()
        .map(|lexicon| {
            let holds = if lexicon["always"] == true { "always" } else { "on request" };
            let app = lexicon["app"].as_str().unwrap_or("all apps").to_owned();
            let examples: Vec<&str> =
                lexicon["examples"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
            let text = |member| output::text(&lexicon, member);
            let (version, lexemes) = (lexicon["version"].to_string(), lexicon["lexemes"].to_string());
            vec![text("name"), version, text("language"), lexemes, app, holds.into(), examples.join(", ")]
        })
        .collect();
    if rows.is_empty() {
        return "No lexicons yet. Add one: dispatcher lexicon add NAME FILE.pls".into();
    }
    output::table(&["lexicon", "version", "language", "lexemes", "app", "used", "examples"], rows, &[1, 3])
}

fn render_versions(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|one| {
        let state = if one["retired"] == true { "retired" } else { "" };
        vec![one["version"].to_string(), output::time(&one["at"]), output::text(&one, "by"), state.to_owned()]
    });
    output::table(&["version", "added", "by", ""], rows.collect(), &[0])
}
