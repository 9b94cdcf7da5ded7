//! `dispatcher clip`: audio that scripts insert.

use std::io::Write as _;

use reqwest::Method;
use serde_json::Value;

use crate::args::ClipCommand;
use crate::client::{self, Client, segment};
use crate::error::CliError;
use crate::files::Existing;
use crate::output::OutputForm;
use crate::{files, output};

pub(crate) async fn run(client: &Client, command: ClipCommand, form: OutputForm) -> Result<(), CliError> {
    match command {
        ClipCommand::List => {
            let list = client.get("/api/v1/clips", &[]).await?;
            form.print(&list, || render(&list))
        }
        ClipCommand::Add { file, title } => {
            let name = file.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            let query = [("title", Some(title.as_deref().unwrap_or(name)))];
            let kind = "application/octet-stream";
            let sent = client.post_file("/api/v1/clips", &query, &file, kind, "application/json").await?;
            let kept = client::json(sent).await?;
            if form.is_json() {
                return output::print_json(&kept);
            }
            output::print(&output::text(&kept, "src"))?;
            eprintln!(
                "{} s of audio. Scripts insert it with: <audio src=\"{}\"/>",
                kept["duration"],
                output::text(&kept, "src")
            );
            Ok(())
        }
        ClipCommand::Fetch { id, output, force } => {
            let existing = Existing::with(force);
            if let Some(path) = &output {
                crate::files::check_target(path, existing)?;
            }
            let id = id.strip_prefix("clip:").unwrap_or(&id);
            let request = client.request(Method::GET, &format!("/api/v1/clips/{}", segment(id)));
            let bytes = client.send(request).await?.bytes().await.map_err(CliError::Broken)?;
            let Some(path) = output else {
                let failed = |source| CliError::File { path: "standard output".into(), source };
                return std::io::stdout().write_all(&bytes).map_err(failed);
            };
            let failed = |source| CliError::File { path: path.clone(), source };
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            let mut aside = tempfile::NamedTempFile::new_in(folder.unwrap_or(".".as_ref())).map_err(failed)?;
            aside.write_all(&bytes).map_err(failed)?;
            files::persist(aside, &path, existing)?;
            eprintln!("{}  {:.1} kB", path.display(), bytes.len() as f64 / 1_000.0);
            Ok(())
        }
        ClipCommand::Remove { id } => {
            let id = id.strip_prefix("clip:").unwrap_or(&id);
            client.delete(&format!("/api/v1/clips/{}", segment(id))).await?;
            eprintln!("Removed clip {id}. Scripts that name it speak its fallback text.");
            Ok(())
        }
    }
}

fn render(list: &Value) -> String {
    let rows: Vec<Vec<String>> = output::items(list)
        .into_iter()
        .map(|clip| {
            let text = |member| output::text(&clip, member);
            let size = format!("{:.1} kB", clip["bytes"].as_f64().unwrap_or_default() / 1_000.0);
            let length = format!("{:.2} s", clip["duration"].as_f64().unwrap_or_default());
            vec![text("src"), text("title"), length, size, text("type"), text("app")]
        })
        .collect();
    if rows.is_empty() {
        return "No clips yet. Add one: dispatcher clip add FILE".into();
    }
    output::table(&["clip", "title", "duration", "size", "type", "app"], rows, &[2, 3])
}
