//! `dispatcher profile`.

use serde_json::{Value, json};

use crate::args::ProfileCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, command: ProfileCommand, json: bool) -> Result<(), CliError> {
    match command {
        ProfileCommand::List => {
            let list = client.get("/api/v1/profiles", &[]).await?;
            if json { output::print_json(&list) } else { output::print(&render(&list)) }
        }
        ProfileCommand::Set { name, kind, sample_rate, channels, bitrate, vbr, purpose } => {
            let body = json!({
                "type": kind, "rate": sample_rate, "channels": channels, "bitrate": bitrate, "vbr": vbr,
                "purpose": purpose,
            });
            let profile = client.put(&format!("/api/v1/profiles/{}", segment(&name)), &body).await?;
            if json {
                return output::print_json(&profile);
            }
            eprintln!("{name} is {}; use it: dispatcher speak \"…\" --format {name}", format_of(&profile));
            Ok(())
        }
        ProfileCommand::Retire { name } => {
            client.delete(&format!("/api/v1/profiles/{}", segment(&name))).await?;
            eprintln!("{name} is retired");
            Ok(())
        }
    }
}

fn format_of(profile: &Value) -> String {
    let rate = profile["rate"].as_u64().unwrap_or_default();
    let channels = if profile["channels"] == 2 { ", stereo" } else { "" };
    // Types of raw samples tell the rate themselves.
    let kind = output::text(profile, "type");
    let kind = kind.split(";rate=").next().unwrap_or_default();
    format!("{kind}, {rate} Hz{channels}")
}

fn size(profile: &Value) -> String {
    match profile["bytes_per_second"].as_f64() {
        Some(bytes) => format!("{:.1} kB/s", bytes / 1_000.0),
        None => "by the sound".into(),
    }
}

fn render(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|profile| {
        let name = output::text(&profile, "name");
        let own = if profile["built_in"] == true { String::new() } else { "own".into() };
        let purpose = output::text(&profile, "purpose");
        vec![name, format_of(&profile), size(&profile), own, purpose]
    });
    output::table(&["profile", "audio", "size", "", "for"], rows.collect(), &[2])
}
