//! `dispatcher app`.

use serde_json::{Value, json};

use crate::args::{
    AllowanceCommand, AmountArgs, AppCommand, AppSettings, GrantArgs, KeyCommand, TokenArgs, TokenCommand,
};
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
        AppCommand::Erase { name, end_user, dry_run } => {
            let user = end_user.as_deref().map(|user| format!("&end_user={}", segment(user))).unwrap_or_default();
            let path = format!("/api/v1/apps/{}/erasure?dry_run={dry_run}{user}", segment(&name));
            let erased = client.post(&path, &json!({})).await?;
            let whose = end_user.map_or(name.clone(), |user| format!("{user} in {name}"));
            form.print(&erased, || render_erasure(&erased, &whose))
        }
        AppCommand::Key(command) => key(client, command, form).await,
        AppCommand::Allowance(command) => allowance(client, command, form).await,
        AppCommand::Token(command) => token(client, command, form).await,
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
            ("reply_hook", &self.reply_hook),
            ("apology", &self.apology),
            ("notice", &self.notice),
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
        for (member, given) in [("origins", &self.origins), ("disclosure", &self.disclosure)] {
            if let Some(text) = given {
                let words: Vec<&str> = text.split(',').map(str::trim).filter(|word| *word != NONE).collect();
                app[member] = json!(words);
            }
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
        KeyCommand::Add { app, label, per_minute, at_once, expires_in, grants } => {
            let GrantArgs { calls, routes, engines, voices, networks } = grants;
            let new = json!({
                "label": label, "per_minute": per_minute, "at_once": at_once, "expires_in": expires_in,
                "calls": calls, "routes": routes, "engines": engines, "voices": voices, "networks": networks,
            });
            let key = client.post(&keys(&app), &new).await?;
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

/// An amount of money as the API takes it.
fn cost_of(text: Option<&str>) -> Result<Value, CliError> {
    let Some(text) = text else { return Ok(Value::Null) };
    let wrong = || CliError::Failed(format!("--cost is an amount such as \"0.50 EUR\", not '{text}'"));
    let (amount, currency) = text.trim().split_once(' ').ok_or_else(wrong)?;
    Ok(json!({"amount": amount, "currency": currency.trim()}))
}

impl AmountArgs {
    /// The amount as members of a request.
    pub(super) fn body(&self) -> Result<Value, CliError> {
        let AmountArgs { cost, characters, seconds, requests } = self;
        let cost = cost_of(cost.as_deref())?;
        Ok(json!({"cost": cost, "characters": characters, "seconds": seconds, "requests": requests}))
    }
}

async fn allowance(client: &Client, command: AllowanceCommand, form: OutputForm) -> Result<(), CliError> {
    let of_app = |app: &str| format!("/api/v1/apps/{}/allowances", segment(app));
    match command {
        AllowanceCommand::List { app } => {
            let list = client.get("/api/v1/allowances", &[("app", app.as_deref())]).await?;
            form.print(&list, || render_allowances(&list))
        }
        AllowanceCommand::Add(args) => {
            let mut body = args.amount.body()?;
            body["per"] = args.per.into();
            body["key"] = args.key.into();
            let added = client.post(&of_app(&args.app), &body).await?;
            form.print(&added, || format!("Added allowance {}: {}", output::short_id(&added, "id"), in_words(&added)))
        }
        AllowanceCommand::Remove { app, id } => {
            client.delete(&format!("{}/{}", of_app(&app), segment(&id))).await?;
            eprintln!("Removed allowance {id} of app {app}");
            Ok(())
        }
    }
}

/// The one amount of a limit, or of what was used of it.
pub(super) fn amount_in_words(amounts: &Value) -> String {
    if amounts["cost"].is_object() {
        return output::money(&amounts["cost"]);
    }
    let units = [("characters", "characters"), ("seconds", "s of audio"), ("requests", "requests")];
    let given = units.iter().find(|(member, _)| !amounts[member].is_null());
    given.map_or(String::new(), |(member, unit)| format!("{} {unit}", amounts[member]))
}

/// A limit and its period.
fn in_words(allowance: &Value) -> String {
    let limit = amount_in_words(&allowance["limit"]);
    match output::text(allowance, "per").as_str() {
        "total" => format!("{limit} in total"),
        per => format!("{limit} per {per}"),
    }
}

fn render_allowances(list: &Value) -> String {
    let rows: Vec<Vec<String>> = output::items(list)
        .iter()
        .map(|allowance| {
            let percent = allowance["percent"].as_f64().unwrap_or_default();
            vec![
                output::short_id(allowance, "id"),
                output::text(allowance, "app"),
                output::short_id(allowance, "key"),
                in_words(allowance),
                amount_in_words(&allowance["used"]),
                format!("{percent:.0} %"),
                output::time(&allowance["renews"]),
            ]
        })
        .collect();
    if rows.is_empty() {
        return "No allowances. Add one: dispatcher app allowance add APP --cost \"20 EUR\" --per month".into();
    }
    output::table(&["id", "app", "key", "allowance", "used", "share", "renews"], rows, &[4, 5])
}

impl TokenArgs {
    fn body(&self) -> Result<Value, CliError> {
        let cost = cost_of(self.cost.as_deref())?;
        Ok(json!({
            "label": self.label,
            "calls": self.calls,
            "routes": self.routes,
            "origin": self.origin,
            "characters": self.characters,
            "seconds": self.seconds,
            "cost": cost,
            "end_user": self.end_user,
            "expires_in": self.expires_in,
        }))
    }
}

async fn token(client: &Client, command: TokenCommand, form: OutputForm) -> Result<(), CliError> {
    let of_app = |place: &str, app: &str| format!("/api/v1/tokens{place}?app={}", segment(app));
    match command {
        TokenCommand::List { app } => {
            let list = client.get(&of_app("", &app), &[]).await?;
            form.print(&list, || render_tokens(&list, &app))
        }
        TokenCommand::Add(args) => {
            let token = client.post(&of_app("", &args.app), &args.body()?).await?;
            if form.is_json() {
                return output::print_json(&token);
            }
            let ends = output::time(&token["expires"]);
            eprintln!("New token of app {}, which ends {ends}; shown only this once:", args.app);
            output::print(&output::text(&token, "token"))
        }
        TokenCommand::Revoke { app, id } => {
            client.delete(&of_app(&format!("/{}", segment(&id)), &app)).await?;
            eprintln!("Revoked token {id} of app {app}");
            Ok(())
        }
    }
}

/// What was used of an amount, and the amount where there is one.
fn used(token: &Value, member: &str) -> String {
    let used = output::text(&token["used"], member);
    if token[member].is_null() { used } else { format!("{used} of {}", token[member]) }
}

fn render_tokens(list: &Value, app: &str) -> String {
    let tokens = output::items(list);
    if tokens.is_empty() {
        return format!("This app has no tokens. Add one: dispatcher app token add {app} --calls speak");
    }
    let rows = tokens.iter().map(|token| {
        let costs: Vec<String> = token["used"]["costs"].as_array().into_iter().flatten().map(output::money).collect();
        let cost = if costs.is_empty() { "0".to_owned() } else { costs.join(", ") };
        let cost = if token["cost"].is_null() { cost } else { format!("{cost} of {}", output::money(&token["cost"])) };
        vec![
            output::short_id(token, "id"),
            output::text(token, "label"),
            output::text(token, "calls"),
            used(token, "characters"),
            used(token, "seconds"),
            cost,
            output::time(&token["expires"]),
            if token["revoked"].is_null() { String::new() } else { "revoked".into() },
        ]
    });
    output::table(&["id", "label", "calls", "characters", "seconds", "cost", "ends", ""], rows.collect(), &[])
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

/// What was erased of an app or an end user, or would be.
fn render_erasure(erased: &Value, whose: &str) -> String {
    let verb = if erased["dry_run"] == true { "Would erase" } else { "Erased" };
    let kinds = ["transcripts", "exchanges", "comparisons", "kept_answers", "linked_answers", "uploads", "jobs"];
    let counts: Vec<String> = kinds.iter().map(|kind| format!("{} {}", erased[kind], kind.replace('_', " "))).collect();
    let stays = match erased["running_jobs"].as_u64() {
        Some(0) | None => String::new(),
        Some(count) => format!("; {count} jobs are not over and stay"),
    };
    let dispatches = match erased["dispatches"].as_u64() {
        Some(0) | None => String::new(),
        Some(count) => format!("; the name goes from {count} dispatches and {} tokens", erased["tokens"]),
    };
    format!("{verb} of {whose}: {}{dispatches}{stays}", counts.join(", "))
}

fn render_keys(list: &Value) -> String {
    let keys = output::items(list);
    if keys.is_empty() {
        return "This app has no keys. Add one: dispatcher app key add APP".into();
    }
    let rows = keys.iter().map(|key| {
        vec![
            output::short_id(key, "id"),
            output::text(key, "hint"),
            output::text(key, "state"),
            output::text(key, "label"),
            output::time(&key["created"]),
            output::time(&key["last_used"]),
            output::time(&key["expires"]),
            granted(key),
        ]
    });
    output::table(&["id", "key", "state", "label", "created", "last used", "expires", "grants"], rows.collect(), &[])
}

/// `speak, records; quayside; from 10.1.0.0/16`; empty for a key that may do everything.
fn granted(key: &Value) -> String {
    let lists = ["calls", "routes", "engines", "voices"].map(|list| output::text(key, list));
    let networks = output::text(key, "networks");
    let from = (!networks.is_empty()).then(|| format!("from {networks}"));
    lists.into_iter().filter(|list| !list.is_empty()).chain(from).collect::<Vec<_>>().join("; ")
}
