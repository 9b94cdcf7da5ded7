//! What a job is to do, as it is written down.

use std::path::Path;

use dispatcher_core::{KeyGrants, Work};
use dispatcher_engines::AudioSource;
use serde::{Deserialize, Serialize};

use super::Dictation;
use crate::{GatewayError, SynthesisRequest};

/// Long work that is asked for.
#[derive(Debug, Clone)]
pub struct NewJob {
    /// What people know it by.
    pub title: String,
    pub work: JobWork,
    /// The recording, where there is one.
    pub audio: Option<AudioSource>,
    /// URL to notify of its end.
    pub webhook: Option<String>,
    /// What its reader is warned of.
    pub warnings: Vec<String>,
}

/// The work of a job.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum JobWork {
    Speech { tracks: Vec<Track> },
    Hearing(Box<Dictation>),
}

/// What becomes one file.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Track {
    /// Of the file's name, without its ending; made from the title where
    /// nothing is said.
    pub name: Option<String>,
    pub title: String,
    pub request: SynthesisRequest,
}

/// The work, and with what right it is done.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Stored {
    /// Its caller might use voices that are made for this account.
    pub(super) operator: bool,
    /// Of the key that made it.
    #[serde(default)]
    pub(super) grants: KeyGrants,
    pub(super) work: JobWork,
}

impl JobWork {
    pub(super) fn kind(&self) -> Work {
        match self {
            JobWork::Speech { .. } => Work::Synthesis,
            JobWork::Hearing(_) => Work::Recognition,
        }
    }
}

/// Brings what the work needs into the job's folder.
pub(super) async fn bring_in(audio: Option<&AudioSource>, folder: &Path) -> Result<(), GatewayError> {
    let failed = GatewayError::files("the folder of a job");
    tokio::fs::create_dir_all(folder.join("files")).await.map_err(failed)?;
    let place = folder.join("source");
    match audio {
        None => Ok(()),
        Some(AudioSource::Memory(bytes)) => tokio::fs::write(place, bytes).await.map_err(failed),
        // A second name where it can have one, a copy where it cannot.
        Some(AudioSource::File(path)) => match tokio::fs::hard_link(&***path, &place).await {
            Ok(()) => Ok(()),
            Err(_) => tokio::fs::copy(&***path, &place).await.map(drop).map_err(failed),
        },
    }
}

/// Letters that file names are cut to.
const LONGEST: usize = 60;

/// A few safe letters of a title for a file name: small ASCII letters,
/// figures and hyphens.
pub(super) fn slug(title: &str) -> String {
    let mut slug = String::new();
    for c in title.chars() {
        if c.is_ascii_alphanumeric() {
            slug.push(c.to_ascii_lowercase());
        } else if !slug.is_empty() && !slug.ends_with('-') && c != '\'' && c != '’' {
            slug.push('-');
        }
    }
    if slug.len() > LONGEST {
        let cut = slug[..LONGEST].rfind('-').unwrap_or(LONGEST);
        slug.truncate(cut);
    }
    slug.trim_end_matches('-').to_owned()
}

impl Track {
    /// The file's name without its ending; with its number where it is one of
    /// several.
    pub(super) fn stem(&self, number: usize, of: usize) -> String {
        if let Some(name) = &self.name {
            return name.clone();
        }
        let slug = slug(&self.title);
        let digits = of.to_string().len().max(3);
        match (of, slug.is_empty()) {
            (1, true) => "utterance".into(),
            (1, false) => slug,
            (_, true) => format!("{number:0digits$}"),
            (_, false) => format!("{number:0digits$}-{slug}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn file_names_are_safe_and_keep_their_order() {
        let track = |title: &str| Track {
            name: None,
            title: title.into(),
            request: serde_json::from_value(serde_json::json!({
                "text": {"plain": "a"}, "wanted": null, "model": null, "language": null, "unsupported": "adapt",
                "shaping": {}, "format": {"codec": "wav", "rate": 24000, "channels": 1}, "trace": null,
            }))
            .expect("a request"),
        };
        assert_eq!(track("Safety on board").stem(1, 12), "001-safety-on-board");
        assert_eq!(track("../../etc/passwd\0").stem(12, 12), "012-etc-passwd");
        assert_eq!(track("非常口").stem(3, 4), "003");
        assert_eq!(track("The crew's day").stem(1, 1), "the-crews-day");
        assert_eq!(track("x".repeat(200).as_str()).stem(1, 1).len(), LONGEST);
        assert_eq!(Track { name: Some("row-7".into()), ..track("Seven") }.stem(7, 9), "row-7");
    }
}
