//! `dispatcher credential`. A secret is never an argument.

use std::io::{IsTerminal as _, Read as _};
use std::path::Path;

use reqwest::Method;
use secrecy::zeroize::Zeroizing;
use serde_json::{Value, json};

use crate::args::CredentialCommand;
use crate::client::{Client, json as read_json, segment};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, command: CredentialCommand, json: bool) -> Result<(), CliError> {
    match command {
        CredentialCommand::List => {
            let list = client.get("/api/v1/credentials", &[]).await?;
            if json { output::print_json(&list) } else { output::print(&render(&list)) }
        }
        CredentialCommand::Revoke { name } => {
            client.delete(&format!("/api/v1/credentials/{}", segment(&name))).await?;
            eprintln!("{name} is revoked");
            Ok(())
        }
        CredentialCommand::Add { engine, name, file } => add(client, engine, name, file.as_deref(), json).await,
    }
}

async fn add(
    client: &Client,
    engine: String,
    name: Option<String>,
    file: Option<&Path>,
    json: bool,
) -> Result<(), CliError> {
    let sheet = client.get(&format!("/api/v1/engines/{}", segment(&engine)), &[]).await?;
    let wanted: Vec<String> =
        sheet["parts"].as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect();
    if wanted.is_empty() {
        return Err(CliError::Usage(format!("{engine} needs no credential")));
    }
    let parts = match read_secret(file)? {
        Some(text) => parts_of(&text, &wanted)?,
        None => ask(&sheet, &wanted)?,
    };
    let body = Zeroizing::new(
        serde_json::to_vec(&json!({"engine": engine, "name": name, "parts": parts})).unwrap_or_default(),
    );
    let request = client
        .request(Method::POST, "/api/v1/credentials")
        .header("Content-Type", "application/json")
        .body(body.to_vec());
    let kept = read_json(client.send(request).await?).await?;
    if json {
        return output::print_json(&kept);
    }
    eprintln!("{} version {} is kept for {engine}", output::text(&kept, "name"), output::text(&kept, "version"));
    Ok(())
}

/// The secret of a file or of standard input; nothing where it is to be asked.
fn read_secret(file: Option<&Path>) -> Result<Option<Zeroizing<String>>, CliError> {
    let mut text = Zeroizing::new(String::new());
    match file.filter(|file| file.as_os_str() != "-") {
        Some(path) => {
            let read = std::fs::read_to_string(path).map_err(|source| CliError::File { path: path.into(), source })?;
            text.push_str(&read);
        }
        None if file.is_none() && std::io::stdin().is_terminal() => return Ok(None),
        None => {
            std::io::stdin().read_to_string(&mut text)?;
        }
    }
    Ok(Some(text))
}

/// One secret, or a JSON object of parts.
fn parts_of(text: &str, wanted: &[String]) -> Result<Value, CliError> {
    let text = text.trim();
    if let Ok(Value::Object(parts)) = serde_json::from_str(text) {
        return Ok(Value::Object(parts));
    }
    match wanted {
        [only] if !text.is_empty() => Ok(json!({ only: text })),
        [_] => Err(CliError::Usage("the secret is empty".into())),
        _ => Err(CliError::Usage(format!("send a JSON object with the parts {}", wanted.join(", ")))),
    }
}

fn ask(sheet: &Value, wanted: &[String]) -> Result<Value, CliError> {
    for step in sheet["guide"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        eprintln!("  {step}");
    }
    let mut parts = serde_json::Map::new();
    for part in wanted {
        let secret = rpassword::prompt_password(format!("{part}: "))?;
        parts.insert(part.clone(), secret.trim().into());
    }
    Ok(Value::Object(parts))
}

fn render(list: &Value) -> String {
    let credentials = output::items(list);
    if credentials.is_empty() {
        return "No credentials yet. Add one: dispatcher credential add ENGINE".into();
    }
    let rows = credentials.iter().map(|credential| {
        vec![
            output::text(credential, "name"),
            output::text(credential, "version"),
            output::text(credential, "engine"),
            output::text(credential, "state"),
            output::text(credential, "cause"),
            output::text(credential, "parts"),
            output::text(credential, "host"),
            output::text(credential, "last_used"),
        ]
    });
    output::table(
        &["credential", "version", "engine", "state", "cause", "parts", "bound to", "last used"],
        rows.collect(),
        &[1],
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_secret_or_an_object_of_parts() {
        let one = ["token".to_owned()];
        assert_eq!(parts_of("  abc\n", &one).expect("one"), json!({"token": "abc"}));
        assert_eq!(parts_of("{\"token\": \"x\"}", &one).expect("object"), json!({"token": "x"}));
        assert!(parts_of("\n", &one).is_err());
        assert!(parts_of("abc", &["id".to_owned(), "secret".to_owned()]).is_err());
    }
}
