//! Large files, sent in parts. A part that breaks off is sent again from
//! where the service has it.

use std::path::Path;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use reqwest::Method;
use reqwest::header::CONTENT_TYPE;
use tokio::io::{AsyncReadExt as _, AsyncSeekExt as _};

use crate::client::{self, Client};
use crate::error::CliError;
use crate::output;

/// Bytes of a part.
const PART: u64 = 16 << 20;
/// Larger files go in parts.
pub(super) const LARGEST_BODY: u64 = 90_000_000;
/// Parts that break off one after the other.
const MOST_TRIES: u32 = 8;

/// Whether a file is too large for one body.
pub(super) fn is_large(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|metadata| metadata.len() > LARGEST_BODY)
}

/// Sends a file; gives the id of the upload.
pub(super) async fn in_parts(client: &Client, path: &Path, kind: &str) -> Result<String, CliError> {
    let failed = |source| CliError::File { path: path.into(), source };
    let mut file = tokio::fs::File::open(path).await.map_err(failed)?;
    let length = file.metadata().await.map_err(failed)?.len();
    let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
    let begin = client.request(Method::POST, "/api/v1/uploads").query(&[("name", name), ("type", kind)]);
    let begun = client.send(begin.header("Upload-Complete", "?0").header(CONTENT_TYPE, kind)).await?;
    let id = output::text(&client::json(begun).await?, "id");
    let place = format!("/api/v1/uploads/{id}");
    let bar = ProgressBar::new(length);
    if let Ok(style) = ProgressStyle::with_template("{bar:30} {bytes}/{total_bytes} sent") {
        bar.set_style(style);
    }
    let (mut offset, mut tries) = (0, 0);
    while offset < length {
        file.seek(std::io::SeekFrom::Start(offset)).await.map_err(failed)?;
        let mut part = Vec::new();
        (&mut file).take(PART).read_to_end(&mut part).await.map_err(failed)?;
        let last = offset + part.len() as u64 >= length;
        let request = client
            .request(Method::PATCH, &place)
            .header("Upload-Offset", offset)
            .header("Upload-Complete", if last { "?1" } else { "?0" })
            .header(CONTENT_TYPE, "application/partial-upload");
        let sent = part.len() as u64;
        match client.send(request.body(part)).await {
            Ok(_) => (offset, tries) = (offset + sent, 0),
            Err(error) if tries >= MOST_TRIES || matches!(error, CliError::Problem(_)) => return Err(error),
            Err(_) => {
                tries += 1;
                tokio::time::sleep(Duration::from_secs(u64::from(tries))).await;
                offset = received(client, &place).await.unwrap_or(offset);
            }
        }
        bar.set_position(offset);
    }
    bar.finish_and_clear();
    Ok(id)
}

/// How many bytes the service has.
async fn received(client: &Client, place: &str) -> Option<u64> {
    let response = client.send(client.request(Method::HEAD, place)).await.ok()?;
    response.headers().get("Upload-Offset")?.to_str().ok()?.parse().ok()
}
