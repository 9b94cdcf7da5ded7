//! `dispatcher alert`.

use serde_json::{Value, json};

use crate::args::{AlertArgs, AlertCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: AlertCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        AlertCommand::List => {
            let list = client.get("/api/v1/alerts", &[]).await?;
            form.print(&list, || render(&list))
        }
        AlertCommand::Set(args) => set(client, args, form).await,
        AlertCommand::Try { name } => {
            let sent = client.post(&format!("/api/v1/alerts/{}/try", segment(&name)), &json!({})).await?;
            form.print(&sent, || render_sent(&sent))?;
            match output::items(&sent).iter().all(|one| one["sent"] == true) {
                true => Ok(()),
                false => Err(CliError::Failed(format!("{name} was not sent to all addresses"))),
            }
        }
        AlertCommand::Retire { name } => {
            client.delete(&format!("/api/v1/alerts/{}", segment(&name))).await?;
            eprintln!("Retired alert {name}");
            Ok(())
        }
        AlertCommand::Notices { limit } => {
            let list = client.get("/api/v1/notices", &[("limit", Some(&limit.to_string()))]).await?;
            form.print(&list, || render_notices(&list))
        }
    }
}

async fn set(client: &Client, args: AlertArgs, form: OutputForm) -> Result<(), CliError> {
    let AlertArgs { name, on, to, engines, threshold, after, pause, quiet, note } = args;
    let body = json!({
        "on": on.name(), "to": to, "engines": engines, "threshold": threshold, "after": after, "pause": pause,
        "quiet": quiet, "note": note,
    });
    let alert = client.put(&format!("/api/v1/alerts/{}", segment(&name)), &body).await?;
    if form.is_json() {
        return output::print_json(&alert);
    }
    eprintln!("Alert {name}: {}. Try it: dispatcher alert try {name}", when(&alert));
    Ok(())
}

/// The condition of an alert, such as `error-share of heron, from 20 %, after 60 s`.
fn when(alert: &Value) -> String {
    let on = output::text(alert, "on");
    let threshold = alert["threshold"].as_f64().map(|threshold| match on.as_str() {
        "credential-ending" => format!("{threshold} days before"),
        "error-share" => format!("from {threshold} %"),
        "queue-full" => format!("from {threshold} calls"),
        _ => format!("below {threshold} MB"),
    });
    let engines = output::text(alert, "engines");
    let mut words = vec![if engines.is_empty() { on } else { format!("{on} of {engines}") }];
    words.extend(threshold);
    words.extend(alert["after"].as_u64().filter(|after| *after > 0).map(|after| format!("after {after} s")));
    words.join(", ")
}

fn render(list: &Value) -> String {
    let alerts = output::items(list);
    if alerts.is_empty() {
        return "No alerts yet. Set one: dispatcher alert set NAME --on breaker-open --to ADDRESS".into();
    }
    let rows = alerts.iter().map(|alert| {
        let pause = alert["pause"].as_u64().map(|minutes| format!("{minutes} min")).unwrap_or_default();
        vec![
            output::text(alert, "name"),
            when(alert),
            pause,
            output::text(alert, "quiet"),
            output::text(alert, "to"),
            output::text(alert, "note"),
        ]
    });
    output::table(&["alert", "when", "pause", "quiet", "to", "note"], rows.collect(), &[2])
}

fn render_sent(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|one| {
        let outcome = if one["sent"] == true { "sent".into() } else { output::text(&one, "problem") };
        vec![output::text(&one, "to"), outcome]
    });
    output::table(&["address", "outcome"], rows.collect(), &[])
}

fn render_notices(list: &Value) -> String {
    let notices = output::items(list);
    if notices.is_empty() {
        return "No notices.".into();
    }
    let rows = notices.iter().map(|notice| {
        let over = match output::time(&notice["over"]) {
            over if over.is_empty() => "lasts".to_owned(),
            over => over,
        };
        vec![
            output::time(&notice["since"]),
            over,
            output::text(notice, "alert"),
            output::text(notice, "detail"),
            output::text(notice, "problem"),
        ]
    });
    output::table(&["since", "over", "alert", "detail", ""], rows.collect(), &[])
}
