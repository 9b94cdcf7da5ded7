//! `dispatcher person`: who can sign in to the console with a password.

use reqwest::Method;
use serde_json::{Value, json};

use super::credential::read_secret;
use crate::args::{PersonArgs, PersonCommand, RoleName};
use crate::client::{Change, Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: PersonCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        PersonCommand::List => {
            let list = client.get("/api/v1/people", &[]).await?;
            form.print(&list, || render(&list))
        }
        PersonCommand::Add(args) => put(client, args, Change::Add).await,
        PersonCommand::Replace(args) => put(client, args, Change::Replace).await,
        PersonCommand::Role { name, role, apps } => {
            let change = with_role(json!({}), Some(role), &apps);
            client.send(client.request(Method::PUT, &path(&name)).json(&change)).await?;
            eprintln!("{name} has the role {}; earlier sessions of {name} have ended", role.name());
            Ok(())
        }
        PersonCommand::Remove { name } => {
            client.delete(&path(&name)).await?;
            eprintln!("Removed {name}; all sessions of {name} have ended");
            Ok(())
        }
    }
}

async fn put(
    client: &Client,
    PersonArgs { name, file, role, apps }: PersonArgs,
    change: Change,
) -> Result<(), CliError> {
    let list = client.get("/api/v1/people", &[]).await?;
    let exists = output::items(&list).iter().any(|person| output::text(person, "name") == name);
    change.check(exists, "person", &name)?;
    let password = match read_secret(file.as_deref())? {
        Some(text) => text.trim_end_matches(['\r', '\n']).to_owned(),
        None => rpassword::prompt_password("password: ")?,
    };
    client
        .send(client.request(Method::PUT, &path(&name)).json(&with_role(json!({"password": password}), role, &apps)))
        .await?;
    eprintln!("{name} can sign in with this password; earlier sessions of {name} have ended");
    Ok(())
}

fn with_role(mut change: Value, role: Option<RoleName>, apps: &[String]) -> Value {
    if let Some(role) = role {
        change["role"] = role.name().into();
    }
    if !apps.is_empty() {
        change["apps"] = apps.into();
    }
    change
}

fn path(name: &str) -> String {
    format!("/api/v1/people/{}", segment(name))
}

fn render(list: &Value) -> String {
    let row = |person: Value| {
        vec![
            output::text(&person, "name"),
            output::text(&person, "role"),
            output::text(&person, "apps"),
            output::time(&person["changed"]),
        ]
    };
    let rows: Vec<Vec<String>> = output::items(list).into_iter().map(row).collect();
    if rows.is_empty() {
        return "Nobody can sign in with a password yet. Add a person: dispatcher person add NAME".into();
    }
    output::table(&["person", "role", "apps", "changed"], rows, &[])
}
