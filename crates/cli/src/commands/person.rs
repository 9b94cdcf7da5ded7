//! `dispatcher person`: who can sign in to the console with a password.

use reqwest::Method;
use serde_json::{Value, json};

use super::credential::read_secret;
use crate::args::PersonCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, command: PersonCommand, json: bool) -> Result<(), CliError> {
    match command {
        PersonCommand::List => {
            let list = client.get("/api/v1/people", &[]).await?;
            if json { output::print_json(&list) } else { output::print(&render(&list)) }
        }
        PersonCommand::Add { name, file } => {
            let password = match read_secret(file.as_deref())? {
                Some(text) => text.trim_end_matches(['\r', '\n']).to_owned(),
                None => rpassword::prompt_password("password: ")?,
            };
            let request = client.request(Method::PUT, &path(&name)).json(&json!({"password": password}));
            client.send(request).await?;
            eprintln!("{name} can sign in; sessions that {name} had elsewhere have ended");
            Ok(())
        }
        PersonCommand::Remove { name } => {
            client.delete(&path(&name)).await?;
            eprintln!("removed {name}, whose sessions have ended");
            Ok(())
        }
    }
}

fn path(name: &str) -> String {
    format!("/api/v1/people/{}", segment(name))
}

fn render(list: &Value) -> String {
    let row = |person: Value| vec![output::text(&person, "name"), output::text(&person, "changed")];
    let rows: Vec<Vec<String>> = output::items(list).into_iter().map(row).collect();
    if rows.is_empty() {
        return "Nobody can sign in with a password yet. Add somebody: dispatcher person add NAME".into();
    }
    output::table(&["person", "password set"], rows, &[])
}
