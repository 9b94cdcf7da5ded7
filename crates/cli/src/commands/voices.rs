//! `dispatcher voices`.

use crate::args::VoicesArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::output;

pub(crate) async fn run(client: &Client, args: VoicesArgs, json: bool) -> Result<(), CliError> {
    let query = [
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
    if json {
        return output::print_json(&list);
    }
    let voices = output::items(&list);
    if voices.is_empty() {
        eprintln!("No voice fits. Leave out a filter, or see `dispatcher engine list` for engines that are absent.");
        return Ok(());
    }
    let rows = voices.iter().map(|voice| {
        vec![
            output::text(voice, "id"),
            output::text(voice, "languages"),
            output::text(voice, "gender"),
            output::money(&voice["price"]),
            output::text(voice, "availability"),
            output::text(voice, "character"),
        ]
    });
    output::print(&output::table(
        &["voice", "languages", "gender", "1,000 characters", "state", ""],
        rows.collect(),
        &[3],
    ))
}
