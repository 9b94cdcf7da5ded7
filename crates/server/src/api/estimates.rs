//! `POST /estimates`: what a request would do and cost, with nothing sent.

use dispatcher_gateway::{Estimate, Gateway};
use rocket::serde::json::Json;
use rocket::{Data, State, post};

use super::{speech_request, transcripts};
use crate::access::Allowed;
use crate::headers::Meta;
use crate::problem::Problem;
use crate::spool::Spool;
use crate::wire::{EstimateAnswer, PlanLine, UtteranceRequest};

/// Estimate a request
///
/// Takes the body of an utterance or of a transcript and answers what it
/// would do and cost. No engine is called; the length of audio is measured.
#[utoipa::path(
    operation_id = "estimate",
    context_path = "/api/v1",
    tag = "speak and listen",
    request_body(content(
        (UtteranceRequest = "application/json"), (String = "text/plain"), (String = "application/ssml+xml"),
        (Vec<u8> = "audio/wav"), (Vec<u8> = "audio/mpeg"), (Vec<u8> = "multipart/form-data"),
    )),
    responses(
        (status = 200, description = "The plan and its cost", body = EstimateAnswer),
        (status = "4XX", description = "A fault of the request", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/estimates", data = "<data>")]
pub(crate) async fn estimate(
    allowed: Allowed,
    meta: Meta,
    data: Data<'_>,
    gateway: &State<Gateway>,
    spool: &State<Spool>,
) -> Result<Json<EstimateAnswer>, Problem> {
    let spoken = matches!(meta.essence.as_str(), "application/json" | "text/plain" | "application/ssml+xml" | "");
    let estimate = if spoken {
        let read = speech_request::read(&meta, data).await?;
        let mut estimate = gateway.estimate_speech(&allowed.0, &read.request)?;
        estimate.warnings.extend(read.left_out.iter().map(|member| format!("{member} would be left out")));
        estimate
    } else {
        let (audio, wish) = transcripts::read(&meta, data, spool).await?;
        let wanted = wish.route.or(wish.engine);
        let (model, language) = (wish.model.as_deref(), wish.language.as_deref());
        gateway.estimate_hearing(&allowed.0, &audio, wanted.as_deref(), model, language).await?
    };
    Ok(Json(answer(estimate)))
}

fn answer(estimate: Estimate) -> EstimateAnswer {
    EstimateAnswer {
        characters: estimate.plan.first().map_or(0, |planned| planned.usage.characters),
        plan: estimate.plan.iter().map(PlanLine::from).collect(),
        cost: estimate.cost.into(),
        exact: estimate.exact,
        fidelity: estimate.fidelity,
        sound: estimate.sound,
        length: estimate.length.map(|seconds| (seconds * 1_000.0).round() / 1_000.0),
        warnings: estimate.warnings,
    }
}
