//! `POST /estimates`: what a request would do and cost, with nothing sent.

use dispatcher_gateway::{Estimate, Gateway, GivenAudio};
use rocket::serde::json::Json;
use rocket::{State, post};

use super::speech_request::{self, Formats, SpeechRequest};
use super::transcript_request;
use super::transcripts::{hearer, only_short};
use crate::access::Allowed;
use crate::body::RequestBody;
use crate::headers::Meta;
use crate::parameters::no_query;
use crate::problem::Problem;
use crate::spool::Spool;
use crate::uploads::Uploads;
use crate::wire::{EstimateAnswer, PlanLine, TranscriptRequest, UtteranceRequest, thousandths};

/// Estimate a request
///
/// Takes the body of an utterance or a transcript request and answers with its plan and cost. No
/// engine is called; the duration of audio is measured. If the audio is too long for one call, the
/// cost is that of a job. With `upload` the audio is a complete upload, which is kept.
#[utoipa::path(
    operation_id = "estimate",
    context_path = "/api/v1",
    tag = "synthesis and recognition",
    request_body(content(
        (UtteranceRequest = "application/json"), (String = "text/plain"), (String = "application/ssml+xml"),
        (Vec<u8> = "audio/wav"), (Vec<u8> = "audio/mpeg"), (Vec<u8> = "multipart/form-data"),
    )),
    params(("upload" = Option<String>, Query, description = "The id of a complete upload of audio, in place of a body")),
    responses(
        (status = 200, description = "The plan and its cost", body = EstimateAnswer),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/estimates", data = "<data>")]
pub(crate) async fn estimate(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    spool: &State<Spool>,
    uploads: &State<Uploads>,
) -> Result<Json<EstimateAnswer>, Problem> {
    // The claim ends with it: the upload may still become a transcript.
    if let Some((audio, wish, _claimed)) = transcript_request::from_upload(&meta, &allowed.0.app.name, uploads).await? {
        return Ok(Json(answer(of_hearing(gateway, &allowed, &audio, wish).await?)));
    }
    let estimate = match meta.essence.as_str() {
        "text/plain" | "application/ssml+xml" => {
            let read = speech_request::read(&meta, data, &Formats::of(gateway, &allowed.0)).await?;
            of_speech(gateway, &allowed, read).await?
        }
        // JSON that carries audio is a recognition, any other a synthesis.
        "application/json" | "" => {
            let (rest, audio) = transcript_request::split_json(data, spool, transcript_request::MAX_BESIDE).await?;
            match audio {
                None => {
                    let read = speech_request::of_body(&meta, rest, &Formats::of(gateway, &allowed.0))?;
                    of_speech(gateway, &allowed, read).await?
                }
                Some(audio) => {
                    no_query(&meta.query, "JSON")?;
                    let (audio, wish) = transcript_request::of_split(&rest, Some(audio))?;
                    transcript_request::check(&wish)?;
                    of_hearing(gateway, &allowed, &audio, wish).await?
                }
            }
        }
        _ => {
            let (audio, wish) = transcript_request::read(&meta, data, gateway, spool).await?;
            of_hearing(gateway, &allowed, &audio, wish).await?
        }
    };
    Ok(Json(answer(estimate)))
}

async fn of_speech(gateway: &Gateway, allowed: &Allowed, read: SpeechRequest) -> Result<Estimate, Problem> {
    Ok(gateway.estimate_speech(&allowed.0, &speech_request::announced(read.request, &allowed.0)).await?)
}

async fn of_hearing(
    gateway: &Gateway,
    allowed: &Allowed,
    audio: &GivenAudio,
    wish: TranscriptRequest,
) -> Result<Estimate, Problem> {
    only_short(&wish)?;
    Ok(gateway.estimate_hearing(&allowed.0, audio, &hearer(&wish)?).await?)
}

fn answer(estimate: Estimate) -> EstimateAnswer {
    EstimateAnswer {
        characters: estimate.plan.first().map_or(0, |planned| planned.usage.characters),
        plan: estimate.plan.iter().map(PlanLine::from).collect(),
        cost: estimate.cost.into(),
        exact: estimate.exact,
        fidelity: estimate.fidelity,
        fingerprint: estimate.fingerprint,
        duration: estimate.length.map(thousandths),
        warnings: estimate.warnings,
    }
}
