//! Links, as JSON.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A link request.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct LinkRequest {
    /// Path of a file of a job or prompt set, of an archive, or of a clip.
    #[schema(example = "/api/v1/jobs/01a22a98261671c2/files/rounds.mp3")]
    pub(crate) path: String,
    /// Seconds until it expires, 60 to 2592000 (default: 3600).
    pub(crate) expires_in: Option<u32>,
}

/// A link.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LinkAnswer {
    /// URL that anyone can fetch without a key until it expires.
    pub(crate) link: String,
    pub(crate) expires: String,
}
