//! `/engines/{name}/statements`: what an engine bills, compared with the ledger.

use dispatcher_core::StatementMapping;
use dispatcher_gateway::{Gateway, GatewayError};
use rocket::serde::json::Json;
use rocket::{State, get, post, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json, read_small};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{ReconciliationAnswer, StatementMappingSchema};

/// Bytes of a statement.
const STATEMENT: u64 = 32 << 20;

/// Read the mapping of an engine's statements
#[utoipa::path(
    operation_id = "readStatementMapping",
    context_path = "/api/v1", tag = "records",
    params(("name" = String, Path)),
    responses((status = 200, description = "The mapping", body = StatementMappingSchema), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/engines/<name>/statement-mapping")]
pub(crate) async fn mapping(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<StatementMapping>, Problem> {
    Ok(Json(gateway.statement_mapping(name).await?))
}

/// Set the mapping of an engine's statements
///
/// Which column has the time, the amount and the currency.
#[utoipa::path(
    operation_id = "putStatementMapping",
    context_path = "/api/v1", tag = "records",
    params(("name" = String, Path)),
    request_body = StatementMappingSchema,
    responses((status = 200, description = "The mapping", body = StatementMappingSchema), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/engines/<name>/statement-mapping", data = "<data>")]
pub(crate) async fn put_mapping(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<StatementMapping>, Problem> {
    let mapping: StatementMapping = read_json(data, SMALL_BODY).await?;
    gateway.put_statement_mapping(name, &mapping, &allowed.0.who).await?;
    Ok(Json(mapping))
}

/// Reconcile a statement
///
/// Compares the engine's statement, as CSV (RFC 4180), with the ledger: matched lines, lines whose charge has
/// another amount or time, lines without a charge, and charges without a line, with the likely cause of
/// each. Lines of whole days are compared with the sums of their days. Nothing is changed.
#[utoipa::path(
    operation_id = "reconcileStatement",
    context_path = "/api/v1", tag = "records",
    params(("name" = String, Path)),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, description = "The comparison", body = ReconciliationAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/engines/<name>/statements", data = "<data>")]
pub(crate) async fn reconcile(
    _allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<ReconciliationAnswer>, Problem> {
    data.reserve(STATEMENT).await?;
    let body = read_small(data, STATEMENT).await?;
    let text =
        String::from_utf8(body).map_err(|_| Problem::new(ProblemKind::Invalid, "a statement is CSV in UTF-8"))?;
    let statement = gateway.reconcile(name, text).await?;
    Ok(Json(ReconciliationAnswer::of(name, statement).map_err(GatewayError::from)?))
}
