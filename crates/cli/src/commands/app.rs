//! `dispatcher app`.

use serde_json::{Value, json};

use crate::args::AppCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, command: AppCommand, json: bool) -> Result<(), CliError> {
    match command {
        AppCommand::List => {
            let list = client.get("/api/v1/apps", &[]).await?;
            if json { output::print_json(&list) } else { output::print(&render(&list)) }
        }
        AppCommand::Add { name, title, default_voice, default_recognition, default_format, rehearsal } => {
            let body = json!({
                "name": name, "title": title, "rehearsal": rehearsal,
                "default_voice": default_voice, "default_recognition": default_recognition,
                "default_format": default_format,
            });
            let app = client.post("/api/v1/apps", &body).await?;
            if json {
                return output::print_json(&app);
            }
            eprintln!("{name} is there; make a key for it: dispatcher app key {name}");
            Ok(())
        }
        AppCommand::Key { name, revoke: Some(id), .. } => {
            client.delete(&format!("/api/v1/apps/{}/keys/{}", segment(&name), segment(&id))).await?;
            eprintln!("the key {id} of {name} is revoked");
            Ok(())
        }
        AppCommand::Key { name, list: true, .. } => {
            let keys = client.get(&format!("/api/v1/apps/{}/keys", segment(&name)), &[]).await?;
            if json { output::print_json(&keys) } else { output::print(&render_keys(&keys)) }
        }
        AppCommand::Key { name, label, .. } => {
            let key = client.post(&format!("/api/v1/apps/{}/keys", segment(&name)), &json!({"label": label})).await?;
            if json {
                return output::print_json(&key);
            }
            eprintln!("This key of {name} is shown once:");
            output::print(&output::text(&key, "key"))
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
            if app["rehearsal"] == true { "rehearsal".into() } else { String::new() },
        ]
    });
    output::table(&["app", "title", "voice", "recognition", "format", ""], rows.collect(), &[])
}

fn render_keys(list: &Value) -> String {
    let keys = output::items(list);
    if keys.is_empty() {
        return "No keys yet.".into();
    }
    let rows = keys.iter().map(|key| {
        let state = if key["revoked"].is_null() { "active" } else { "revoked" };
        vec![
            output::text(key, "id"),
            output::text(key, "hint"),
            state.to_owned(),
            output::text(key, "label"),
            output::text(key, "created"),
            output::text(key, "last_used"),
        ]
    });
    output::table(&["id", "key", "state", "label", "made", "last used"], rows.collect(), &[])
}
