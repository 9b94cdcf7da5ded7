//! `dispatcher link`.

use serde_json::json;

use crate::args::LinkArgs;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: LinkArgs, form: OutputForm) -> Result<(), CliError> {
    let of_app = args.app.map(|app| format!("?app={}", segment(&app))).unwrap_or_default();
    let body = json!({"path": args.path, "expires_in": args.expires_in});
    let link = client.post(&format!("/api/v1/links{of_app}"), &body).await?;
    if form.is_json() {
        return output::print_json(&link);
    }
    eprintln!("Anyone with this link can fetch the file until {}:", output::time(&link["expires"]));
    output::print(&output::text(&link, "link"))
}
