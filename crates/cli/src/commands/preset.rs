//! `dispatcher preset`.

use serde_json::{Value, json};

use crate::args::{PresetArgs, PresetCommand};
use crate::client::{Change, Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: PresetCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        PresetCommand::List => {
            let list = client.get("/api/v1/presets", &[]).await?;
            form.print(&list, || render(&list))
        }
        PresetCommand::Add(args) => put(client, args, Change::Add, form).await,
        PresetCommand::Replace(args) => put(client, args, Change::Replace, form).await,
        PresetCommand::Retire { name } => {
            client.delete(&format!("/api/v1/presets/{}", segment(&name))).await?;
            eprintln!("Retired preset {name}");
            Ok(())
        }
    }
}

async fn put(client: &Client, args: PresetArgs, change: Change, form: OutputForm) -> Result<(), CliError> {
    let PresetArgs { name, kind, sample_rate, channels, bitrate, vbr, purpose } = args;
    let path = format!("/api/v1/presets/{}", segment(&name));
    client.expect(&path, "preset", &name, change).await?;
    let purpose = match (purpose, change) {
        // A new format for the same use.
        (None, Change::Replace) => output::text(&client.get(&path, &[]).await?, "purpose"),
        (purpose, _) => purpose.unwrap_or_default(),
    };
    let body = json!({
        "type": kind, "sample_rate": sample_rate, "channels": channels, "bitrate": bitrate, "vbr": vbr,
        "purpose": purpose,
    });
    let preset = client.put(&path, &body).await?;
    if form.is_json() {
        return output::print_json(&preset);
    }
    eprintln!("Preset {name}: {}. Use it: dispatcher speak \"…\" --format {name}", format_of(&preset));
    Ok(())
}

fn format_of(preset: &Value) -> String {
    let rate = preset["sample_rate"].as_u64().unwrap_or_default();
    let channels = if preset["channels"] == 2 { ", stereo" } else { "" };
    // Types of raw samples tell the rate themselves.
    let kind = output::text(preset, "type");
    let kind = kind.split(";rate=").next().unwrap_or_default();
    format!("{kind}, {rate} Hz{channels}")
}

fn size(preset: &Value) -> String {
    match preset["bytes_per_second"].as_f64() {
        Some(bytes) => format!("{:.1} kB/s", bytes / 1_000.0),
        None => "varies".into(),
    }
}

fn render(list: &Value) -> String {
    let rows = output::items(list).into_iter().map(|preset| {
        let name = output::text(&preset, "name");
        let own = if preset["built_in"] == true { String::new() } else { "own".into() };
        let purpose = output::text(&preset, "purpose");
        vec![name, format_of(&preset), size(&preset), own, purpose]
    });
    output::table(&["preset", "audio", "size", "", "purpose"], rows.collect(), &[2])
}
