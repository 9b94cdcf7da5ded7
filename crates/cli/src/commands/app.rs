//! `dispatcher app`.

use serde_json::{Value, json};

use crate::args::{AppCommand, AppSettings, KeyCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: AppCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        AppCommand::List => {
            let list = client.get("/api/v1/apps", &[]).await?;
            form.print(&list, || render(&list))
        }
        AppCommand::Add { name, settings } => {
            let mut body = json!({"name": name});
            settings.write(&mut body)?;
            let app = client.post("/api/v1/apps", &body).await?;
            if form.is_json() {
                return output::print_json(&app);
            }
            eprintln!("Added app {name}. Add a key: dispatcher app key add {name}");
            Ok(())
        }
        AppCommand::Change { name, settings } => {
            let place = format!("/api/v1/apps/{}", segment(&name));
            let mut body = client.get(&place, &[]).await?;
            if let Some(members) = body.as_object_mut() {
                members.remove("created");
            }
            settings.write(&mut body)?;
            let app = client.put(&place, &body).await?;
            if form.is_json() {
                return output::print_json(&app);
            }
            eprintln!("Changed app {name}");
            Ok(())
        }
        AppCommand::Key(command) => key(client, command, form).await,
    }
}

/// Takes a setting away.
const NONE: &str = "none";

impl AppSettings {
    /// Writes what is given into an app.
    fn write(&self, app: &mut Value) -> Result<(), CliError> {
        let texts = [
            ("title", &self.title),
            ("default_voice", &self.default_voice),
            ("default_recognition", &self.default_recognition),
            ("default_format", &self.default_format),
            ("site", &self.site),
            ("region", &self.region),
            ("recall", &self.recall),
            ("language", &self.language),
        ];
        for (member, given) in texts {
            if let Some(text) = given {
                app[member] = if text == NONE { Value::Null } else { json!(text) };
            }
        }
        let numbers = [
            ("per_minute", "--per-minute", &self.per_minute),
            ("at_once", "--at-once", &self.at_once),
            ("transcript_days", "--transcript-days", &self.transcript_days),
        ];
        for (member, option, given) in numbers {
            let Some(text) = given else { continue };
            let number = text.parse::<u32>().ok();
            if number.is_none() && text != NONE {
                return Err(CliError::Failed(format!("{option} is a number or none, not '{text}'")));
            }
            app[member] = json!(number);
        }
        if let Some(rehearsal) = self.rehearsal {
            app["rehearsal"] = json!(rehearsal);
        }
        Ok(())
    }
}

async fn key(client: &Client, command: KeyCommand, form: OutputForm) -> Result<(), CliError> {
    let keys = |app: &str| format!("/api/v1/apps/{}/keys", segment(app));
    match command {
        KeyCommand::List { app } => {
            let list = client.get(&keys(&app), &[]).await?;
            form.print(&list, || render_keys(&list))
        }
        KeyCommand::Add { app, label, per_minute, at_once } => {
            let key = client
                .post(&keys(&app), &json!({"label": label, "per_minute": per_minute, "at_once": at_once}))
                .await?;
            if form.is_json() {
                return output::print_json(&key);
            }
            eprintln!("New key of app {app}, shown only this once:");
            output::print(&output::text(&key, "key"))
        }
        KeyCommand::Revoke { app, id } => {
            client.delete(&format!("{}/{}", keys(&app), segment(&id))).await?;
            eprintln!("Revoked key {id} of app {app}");
            Ok(())
        }
    }
}

fn render(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|app| {
        vec![
            output::text(&app, "name"),
            output::text(&app, "title"),
            output::text(&app, "default_voice"),
            output::text(&app, "default_recognition"),
            output::text(&app, "default_format"),
            [output::text(&app, "site"), output::text(&app, "region")].join(" ").trim().to_owned(),
            Some(output::text(&app, "recall")).filter(|recall| recall != "off").unwrap_or_default(),
            if app["rehearsal"] == true { "rehearsal".into() } else { String::new() },
        ]
    });
    output::table(&["app", "title", "voice", "recognition", "format", "where", "recall", ""], rows.collect(), &[])
}

fn render_keys(list: &Value) -> String {
    let keys = output::items(list);
    if keys.is_empty() {
        return "This app has no keys. Add one: dispatcher app key add APP".into();
    }
    let rows = keys.iter().map(|key| {
        let state = if key["revoked"].is_null() { "active" } else { "revoked" };
        vec![
            output::short_id(key, "id"),
            output::text(key, "hint"),
            state.to_owned(),
            output::text(key, "label"),
            output::time(&key["created"]),
            output::time(&key["last_used"]),
        ]
    });
    output::table(&["id", "key", "state", "label", "created", "last used"], rows.collect(), &[])
}
