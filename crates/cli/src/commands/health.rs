//! `dispatcher health`.

use serde_json::{Value, json};

use crate::args::{HealthArgs, HealthScope};
use crate::client::Client;
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: HealthArgs, form: OutputForm) -> Result<(), CliError> {
    let (scope, hours) = (args.scope.name(), args.hours.to_string());
    let health = client.get("/api/v1/health", &[("scope", Some(scope)), ("hours", Some(&hours))]).await?;
    let breakers = match args.scope {
        HealthScope::Engine => client.get("/api/v1/breakers", &[]).await?,
        _ => json!({"items": []}),
    };
    let told = json!({"health": health["items"], "breakers": breakers["items"]});
    form.print(&told, || render(args.scope, args.hours, &told))
}

/// `97 %`; nothing of no calls.
fn share(part: &Value, calls: &Value) -> String {
    match (part.as_f64(), calls.as_f64()) {
        (Some(part), Some(calls)) if calls > 0.0 => format!("{:.0} %", 100.0 * part / calls),
        _ => String::new(),
    }
}

/// How the breakers of an engine stand, the worst first.
fn breaker(engine: &Value, breakers: &[Value]) -> String {
    let own = |state: &str| breakers.iter().find(|one| one["engine"] == *engine && one["state"] == state);
    match (own("open"), own("half-open")) {
        (Some(open), _) => {
            let seconds = open["retry_after"].as_f64().unwrap_or_default().ceil();
            format!("open: {}, {seconds} s", output::text(open, "cause"))
        }
        (None, Some(_)) => "half-open".into(),
        _ => "closed".into(),
    }
}

fn render(scope: HealthScope, hours: u32, told: &Value) -> String {
    let rows_of = |member: &str| told[member].as_array().cloned().unwrap_or_default();
    let (mut measured, breakers) = (rows_of("health"), rows_of("breakers"));
    // An engine that is open may not have been called lately.
    for open in breakers.iter().filter(|one| one["state"] != "closed") {
        if !measured.iter().any(|row| row["name"] == open["engine"]) {
            measured.push(json!({"name": open["engine"], "work": "", "calls": 0, "failures": 0, "fallbacks": 0}));
        }
    }
    let period = if hours == 1 { "this hour".to_owned() } else { format!("the last {hours} hours") };
    if measured.is_empty() {
        return format!("Nothing was measured in {period}: no {} was used.", scope.name());
    }
    let engines = scope == HealthScope::Engine;
    let mut head = vec![scope.name(), "work", "calls", "failed", "fallbacks", "median", "p95", "p99"];
    if engines {
        head.push("breaker");
    }
    let rows = measured.iter().map(|row| {
        let first = |member: &str| output::milliseconds(&row["first_audio"][member]);
        let mut cells = vec![
            output::text(row, "name"),
            output::text(row, "work"),
            output::text(row, "calls"),
            share(&row["failures"], &row["calls"]),
            share(&row["fallbacks"], &row["calls"]),
            first("median"),
            first("p95"),
            first("p99"),
        ];
        if engines {
            cells.push(breaker(&row["name"], &breakers));
        }
        cells
    });
    let table = output::table(&head, rows.collect(), &[2, 3, 4, 5, 6, 7]);
    format!("{table}\nOf {period}; times until the first audio or the transcript.")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_open_engine_is_shown_even_if_nothing_was_measured_of_it() {
        let told = json!({
            "health": [{
                "name": "bittern", "work": "synthesis", "calls": 40, "failures": 1, "fallbacks": 10,
                "first_audio": {"median": 31.2, "p95": 80.0, "p99": 120.0},
            }],
            "breakers": [
                {"engine": "heron", "state": "open", "cause": "unavailable", "retry_after": 4.2},
                {"engine": "bittern", "state": "closed", "cause": null, "retry_after": null},
            ],
        });
        let text = render(HealthScope::Engine, 24, &told);
        let rows: Vec<Vec<&str>> = text.lines().map(|line| line.split_whitespace().collect()).collect();
        let bittern =
            ["bittern", "synthesis", "40", "2", "%", "25", "%", "31", "ms", "80", "ms", "120", "ms", "closed"];
        assert_eq!(rows[1], bittern, "{text}");
        assert_eq!(rows[2], ["heron", "0", "open:", "unavailable,", "5", "s"], "{text}");
        assert!(text.ends_with("Of the last 24 hours; times until the first audio or the transcript."), "{text}");
    }

    #[test]
    fn nothing_measured_is_said_so() {
        let told = json!({"health": [], "breakers": []});
        assert_eq!(render(HealthScope::Route, 1, &told), "Nothing was measured in this hour: no route was used.");
    }
}
