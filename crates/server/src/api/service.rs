//! Health and metrics, outside `/api`.

use dispatcher_gateway::Gateway;
use rocket::http::ContentType;
use rocket::serde::json::Json;
use rocket::{State, get};
use serde::Serialize;
use utoipa::ToSchema;

use crate::drain::Drain;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// Whether the service works.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HealthAnswer {
    pub(crate) status: String,
    pub(crate) version: String,
    pub(crate) engines: usize,
}

/// Check the service
///
/// Answers 200 when the service can read its records.
#[utoipa::path(operation_id = "health", tag = "service", responses((status = 200, description = "It works", body = HealthAnswer)))]
#[get("/health")]
pub(crate) async fn health(gateway: &State<Gateway>, drain: &State<Drain>) -> Result<Json<HealthAnswer>, Problem> {
    if drain.is_stopping() {
        return Err(Problem { retry_after: Some(5), ..Problem::new(ProblemKind::Stopping, "the service is ending") });
    }
    // Not ready: what comes in could not be kept.
    gateway.check_room().map_err(|error| Problem { status: 503, ..Problem::from(error) })?;
    gateway.has_people().await?;
    Ok(Json(HealthAnswer {
        status: "ready".into(),
        version: env!("CARGO_PKG_VERSION").into(),
        engines: gateway.registry().engines().count(),
    }))
}

/// Counters as OpenMetrics
#[utoipa::path(operation_id = "metrics", tag = "service", responses((status = 200, description = "OpenMetrics text", body = String, content_type = "application/openmetrics-text")))]
#[get("/metrics")]
pub(crate) fn metrics(gateway: &State<Gateway>) -> Result<(ContentType, String), Problem> {
    let kind = ContentType::new("application", "openmetrics-text").with_params(("version", "1.0.0"));
    Ok((kind, gateway.metrics().map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?))
}
