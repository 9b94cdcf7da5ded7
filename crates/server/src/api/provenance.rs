//! `/provenance-key`: the key that signs complete audio.

use dispatcher_gateway::Gateway;
use rocket::serde::json::Json;
use rocket::{State, get};

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::PublicKey;

/// The key of provenance
///
/// Public key for the signatures in files of made audio: a JSON Web Key of Ed25519 (RFC 8037). Anybody may
/// read it. `dispatcher provenance FILE` checks a file.
#[utoipa::path(
    operation_id = "readProvenanceKey",
    context_path = "/api/v1", tag = "synthesis and recognition",
    responses((status = 200, description = "The public key", body = PublicKey))
)]
#[get("/provenance-key")]
pub(crate) fn key(gateway: &State<Gateway>) -> Result<Json<PublicKey>, Problem> {
    let missing = || Problem::new(ProblemKind::NoSuchRecord, "this gateway signs no audio");
    let key = gateway.audio_signer().ok_or_else(missing)?;
    Ok(Json(PublicKey::ed25519(key.public(), key.id())))
}
