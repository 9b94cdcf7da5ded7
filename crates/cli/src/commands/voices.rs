//! `dispatcher voices`.

use std::path::Path;

use reqwest::Method;

use crate::args::VoicesArgs;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::files::Existing;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: VoicesArgs, form: OutputForm) -> Result<(), CliError> {
    if let Some(voice) = args.favourite.as_ref().or(args.unfavourite.as_ref()) {
        let path = format!("/api/v1/voices/{}/favourite", path_of(voice)?);
        let method = if args.favourite.is_some() { Method::PUT } else { Method::DELETE };
        client.send(client.request(method, &path)).await?;
        eprintln!("{voice} is {} favourite", if args.favourite.is_some() { "a" } else { "no longer a" });
        return Ok(());
    }
    if let (Some(voice), Some(output)) = (&args.audition, &args.output) {
        return audition(client, voice, args.text.as_deref(), output, Existing::with(args.force)).await;
    }
    let query = [
        ("use", args.purpose.as_deref()),
        ("format", args.format.as_deref()),
        ("max_price", args.max_price.as_deref()),
        ("sort", args.sort.as_deref()),
        ("favourite", args.favourites.then_some("true")),
        ("search", args.search.as_deref()),
        ("languages", args.languages.as_deref()),
        ("gender", args.gender.as_deref()),
        ("style", args.style.as_deref()),
        ("engine", args.engine.as_deref()),
        ("model", args.model.as_deref()),
        ("site", args.site.as_deref()),
        ("limit", Some("1000")),
    ];
    let list = client.get("/api/v1/voices", &query).await?;
    if form.is_json() {
        return output::print_json(&list);
    }
    let voices = output::items(&list);
    if voices.is_empty() {
        eprintln!("No voice matches. Remove a filter, or check the state of engines: dispatcher engine list");
        return Ok(());
    }
    if let Some(total) = list["total"].as_u64().filter(|total| *total > voices.len() as u64) {
        eprintln!("Showing the first {} of {total} voices; add a filter to narrow the list", voices.len());
    }
    let rows = voices.iter().map(|voice| {
        vec![
            output::text(voice, "id"),
            output::text(voice, "languages"),
            output::text(voice, "gender"),
            output::money_cell(&voice["price"]),
            format!("{}{}", output::text(voice, "availability"), if voice["stale"] == true { " (stale)" } else { "" }),
            format!("{}{}", if voice["favourite"] == true { "★ " } else { "" }, output::text(voice, "character")),
        ]
    });
    output::print(&output::table(
        &["voice", "languages", "gender", "1,000 characters", "state", ""],
        rows.collect(),
        &[3],
    ))
}

/// `engine/voice` as written in a path.
fn path_of(voice: &str) -> Result<String, CliError> {
    match voice.split_once('/') {
        Some((engine, voice)) => Ok(format!("{}/{}", segment(engine), segment(voice))),
        None => {
            Err(CliError::Usage(format!("'{voice}' is not a voice id; write engine/voice, as in dispatcher voices")))
        }
    }
}

async fn audition(
    client: &Client,
    voice: &str,
    text: Option<&str>,
    output: &Path,
    existing: Existing,
) -> Result<(), CliError> {
    let plain = output.as_os_str() == "-";
    if !plain {
        crate::files::check_target(output, existing)?;
    }
    let path = format!("/api/v1/voices/{}/sample", path_of(voice)?);
    let request = client.request(Method::GET, &path);
    let request = match text {
        Some(text) => request.query(&[("text", text)]),
        None => request,
    };
    let response = client.send(request).await?;
    let kept = response.headers().get("cache-status").is_some_and(|it| it.to_str().is_ok_and(|it| it.contains("hit")));
    let audio = response.bytes().await.map_err(CliError::Broken)?;
    match plain {
        true => std::io::Write::write_all(&mut std::io::stdout(), &audio)?,
        false => std::fs::write(output, &audio).map_err(|source| CliError::File { path: output.into(), source })?,
    }
    eprintln!("{voice}  {}", if kept { "recalled, not charged" } else { "spoken and kept" });
    Ok(())
}
