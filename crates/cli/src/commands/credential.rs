//! `dispatcher credential`. A secret is never an argument.

use std::io::{IsTerminal as _, Read as _};
use std::path::{Path, PathBuf};

use reqwest::Method;
use secrecy::zeroize::Zeroizing;
use serde_json::{Value, json};

use crate::args::{CredentialCommand, RootKeyCommand};
use crate::client::{Client, json as read_json, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: CredentialCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        CredentialCommand::List => {
            let list = client.get("/api/v1/credentials", &[]).await?;
            form.print(&list, || render(&list))
        }
        CredentialCommand::Revoke { name } => {
            client.delete(&format!("/api/v1/credentials/{}", segment(&name))).await?;
            eprintln!("Revoked credential {name}");
            Ok(())
        }
        CredentialCommand::Add { engine, name, file, ends } => {
            add(client, engine, name, file.as_deref(), ends, form).await
        }
        CredentialCommand::Import { engine, name, file, dotenv, env, map } => {
            let from = match (file, dotenv, env) {
                (Some(file), ..) => SecretSource::KeyFile(file),
                (None, Some(file), _) => SecretSource::Dotenv(file),
                (None, None, true) => SecretSource::Environment,
                _ => return Err(CliError::Usage("name the source: --file, --dotenv or --env".into())),
            };
            import(client, engine, name, from, &map, form).await
        }
        CredentialCommand::Check { name } => {
            let check = client.post(&format!("/api/v1/credentials/{}/check", segment(&name)), &json!({})).await?;
            if form.is_json() {
                output::print_json(&check)?;
            } else {
                output::print(&render_check(&name, &check))?;
            }
            match check["works"] == false {
                true => Err(CliError::Failed(format!("{name} does not work"))),
                false => Ok(()),
            }
        }
        CredentialCommand::Replace { name, file, ends } => {
            let list = client.get("/api/v1/credentials", &[]).await?;
            let known = output::items(&list).into_iter().find(|it| it["name"] == name.as_str());
            let known = known.ok_or_else(|| {
                CliError::Usage(format!("credential '{name}' does not exist; list them: dispatcher credential list"))
            })?;
            add(client, output::text(&known, "engine"), Some(name), file.as_deref(), ends, form).await
        }
        CredentialCommand::Confirm { name } => {
            let kept = client.post(&format!("/api/v1/credentials/{}/confirm", segment(&name)), &json!({})).await?;
            eprintln!("Credential {name} may be sent to {}", output::text(&kept, "host"));
            Ok(())
        }
    }
}

/// `dispatcher root-key`.
pub(crate) async fn root_key(client: &Client, command: RootKeyCommand, form: OutputForm) -> Result<(), CliError> {
    let RootKeyCommand::Change = command;
    let done = client.post("/api/v1/root-key", &json!({})).await?;
    if form.is_json() {
        return output::print_json(&done);
    }
    eprintln!("Changed the root key; {} credentials are sealed under the new one", done["credentials"]);
    Ok(())
}

enum SecretSource {
    KeyFile(PathBuf),
    Dotenv(PathBuf),
    Environment,
}

async fn import(
    client: &Client,
    engine: String,
    name: Option<String>,
    from: SecretSource,
    map: &[String],
    form: OutputForm,
) -> Result<(), CliError> {
    let read = |path: &Path| {
        let text = std::fs::read_to_string(path).map_err(|source| CliError::File { path: path.into(), source })?;
        Ok::<_, CliError>(Zeroizing::new(text))
    };
    let body = match from {
        SecretSource::KeyFile(path) => {
            let text = read(&path)?;
            json!({"engine": engine, "name": name, "key_file": text.as_str()})
        }
        SecretSource::Dotenv(path) => {
            let lines = dotenv(&read(&path)?);
            let parts = named_parts(client, &engine, map, |name| lines.get(name).cloned()).await?;
            json!({"engine": engine, "name": name, "parts": parts})
        }
        SecretSource::Environment => {
            let parts = named_parts(client, &engine, map, |name| std::env::var(name).ok()).await?;
            json!({"engine": engine, "name": name, "parts": parts})
        }
    };
    send(client, &engine, &body, form).await
}

/// The parts of an engine's credential by the names of variables.
async fn named_parts(
    client: &Client,
    engine: &str,
    map: &[String],
    find: impl Fn(&str) -> Option<String>,
) -> Result<Value, CliError> {
    let (_, wanted) = wanted(client, engine).await?;
    let mut named = std::collections::HashMap::new();
    for pair in map {
        let (part, name) =
            pair.split_once('=').ok_or_else(|| CliError::Usage(format!("--map takes PART=NAME, not '{pair}'")))?;
        named.insert(part, name.to_owned());
    }
    let mut parts = serde_json::Map::new();
    for part in &wanted {
        let usual = format!("{engine}_{part}").to_uppercase().replace('-', "_");
        let name = named.remove(part.as_str()).unwrap_or(usual);
        let value = find(&name).filter(|value| !value.is_empty());
        let value = value.ok_or_else(|| {
            CliError::Usage(format!("there is no {name} for the part '{part}'; name another: --map {part}=NAME"))
        })?;
        parts.insert(part.clone(), value.into());
    }
    match named.keys().next() {
        Some(stranger) => {
            Err(CliError::Usage(format!("{engine} has no part '{stranger}'; it has {}", wanted.join(", "))))
        }
        None => Ok(Value::Object(parts)),
    }
}

/// NAME=value lines, with or without `export`, quotes and comments.
fn dotenv(text: &str) -> std::collections::HashMap<String, String> {
    let line = |line: &str| {
        let line = line.trim();
        let line = line.strip_prefix("export ").unwrap_or(line);
        let (name, value) = line.split_once('=').filter(|_| !line.starts_with('#'))?;
        let value = value.trim();
        let quoted = |quote: char| value.strip_prefix(quote)?.split_once(quote).map(|(inside, _)| inside);
        let value = match (quoted('\''), quoted('"')) {
            (Some(plain), _) => plain.to_owned(),
            (None, Some(text)) => text.replace("\\n", "\n").replace("\\\"", "\""),
            _ => value.split(" #").next().unwrap_or_default().trim().to_owned(),
        };
        Some((name.trim().to_owned(), value))
    };
    text.lines().filter_map(line).collect()
}

fn render_check(name: &str, check: &Value) -> String {
    let word = match check["works"].as_bool() {
        Some(true) => "works",
        Some(false) => "does not work",
        None => "is unproven",
    };
    let credential = &check["credential"];
    let mut lines = vec![format!("{name} version {} {word}: {}", credential["version"], output::text(check, "told"))];
    for (member, told) in [("roles", "rights"), ("more", "not needed"), ("missing", "missing")] {
        let roles = output::text(check, member);
        if !roles.is_empty() {
            lines.push(format!("  {told}: {roles}"));
        }
    }
    lines.join("\n")
}

/// An engine, and the parts of its credential.
async fn wanted(client: &Client, engine: &str) -> Result<(Value, Vec<String>), CliError> {
    let sheet = client.get(&format!("/api/v1/engines/{}", segment(engine)), &[]).await?;
    let wanted: Vec<String> =
        sheet["parts"].as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect();
    match wanted.is_empty() {
        true => Err(CliError::Usage(format!("{engine} needs no credential"))),
        false => Ok((sheet, wanted)),
    }
}

async fn send(client: &Client, engine: &str, body: &Value, form: OutputForm) -> Result<(), CliError> {
    let body = Zeroizing::new(serde_json::to_vec(body).unwrap_or_default());
    let request = client
        .request(Method::POST, "/api/v1/credentials")
        .header("Content-Type", "application/json")
        .body(body.to_vec());
    let kept = read_json(client.send(request).await?).await?;
    let (name, version) = (output::text(&kept, "name"), output::text(&kept, "version"));
    let (state, cause) = (output::text(&kept, "state"), output::text(&kept, "cause"));
    if form.is_json() {
        output::print_json(&kept)?;
    } else {
        match state.as_str() {
            "active" => eprintln!("{name} version {version} is active for {engine}"),
            "pending" => eprintln!(
                "{name} version {version} is pending for {engine} ({cause}): it is tried again for a day; \
                 see: dispatcher credential list"
            ),
            "unproven" => eprintln!(
                "{name} version {version} is in use for {engine}, but unproven; \
                 if the engine refuses it, the previous version is used"
            ),
            _ => {}
        }
        let next = output::text(&kept, "next");
        if !next.is_empty() {
            eprintln!("next: {next}");
        }
    }
    match state.as_str() {
        "refused" => Err(CliError::Failed(format!(
            "{engine} does not accept {name} version {version} ({cause}); the previous version stays in use"
        ))),
        _ => Ok(()),
    }
}

async fn add(
    client: &Client,
    engine: String,
    name: Option<String>,
    file: Option<&Path>,
    ends: Option<String>,
    form: OutputForm,
) -> Result<(), CliError> {
    let (sheet, wanted) = wanted(client, &engine).await?;
    let parts = match read_secret(file)? {
        Some(text) => parts_of(&text, &wanted)?,
        None => ask(&sheet, &wanted)?,
    };
    let mut body = json!({"engine": engine, "name": name, "parts": parts});
    if let Some(ends) = ends {
        body["ends"] = ends.into();
    }
    send(client, &engine, &body, form).await
}

/// The secret of a file or of standard input; `None` if it is to be asked.
pub(super) fn read_secret(file: Option<&Path>) -> Result<Option<Zeroizing<String>>, CliError> {
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
            output::time(&credential["last_used"]),
            output::time(&credential["ends"]),
        ]
    });
    output::table(
        &["credential", "version", "engine", "state", "cause", "parts", "bound to", "last used", "ends"],
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

    #[test]
    fn dotenv_files_are_read_as_they_are_written() {
        let lines =
            dotenv("# a comment\nexport A=plain # told\nB='single # not'\nC=\"two\\nlines\"\n\nD=\nnot a line\n");
        assert_eq!(lines["A"], "plain");
        assert_eq!(lines["B"], "single # not");
        assert_eq!(lines["C"], "two\nlines");
        assert_eq!((lines["D"].as_str(), lines.len()), ("", 4));
    }
}
