//! `/api/v1/alerts`, `/notices` and `/events`: alert rules, the notices they
//! raised, and a stream of events.

use dispatcher_gateway::Gateway;
use rocket::response::stream::{Event, EventStream};
use rocket::serde::json::Json;
use rocket::{Shutdown, State, delete, get, http::Status, post, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{AlertAnswer, AlertRequest, DispatchEvent, List, NoticeAnswer, SentAnswer, ToldEvent};

/// List alerts
#[utoipa::path(
    operation_id = "listAlerts",
    context_path = "/api/v1", tag = "alerts",
    responses((status = 200, description = "The alerts, by name", body = List<AlertAnswer>)),
    security(("key" = []))
)]
#[get("/alerts")]
pub(crate) fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Json<List<AlertAnswer>> {
    Json(List::whole(gateway.alert_rules().iter().map(AlertAnswer::from).collect()))
}

/// Read an alert
#[utoipa::path(
    operation_id = "readAlert",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "alerts",
    responses((status = 200, description = "The alert", body = AlertAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/alerts/<name>")]
pub(crate) fn read(_allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Json<AlertAnswer>, Problem> {
    let rules = gateway.alert_rules();
    if let Some(rule) = rules.iter().find(|rule| rule.name == name) {
        return Ok(Json(rule.into()));
    }
    let mut problem = Problem::new(ProblemKind::NoSuchRecord, format!("there is no alert '{name}'"));
    problem.nearest = dispatcher_core::nearest(name, rules.iter().map(|rule| rule.name.as_str()), 3);
    Err(problem)
}

/// Create or replace an alert
///
/// The service checks the condition every 5 seconds. It sends one message when the condition begins and
/// another when it is over.
#[utoipa::path(
    operation_id = "putAlert",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "alerts",
    request_body = AlertRequest,
    responses((status = 200, description = "The alert", body = AlertAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/alerts/<name>", data = "<data>")]
pub(crate) async fn put_alert(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<AlertAnswer>, Problem> {
    let request: AlertRequest = read_json(data, SMALL_BODY).await?;
    let rule = request.into_rule(name).map_err(|(at, why)| Problem::at(ProblemKind::Invalid, at, why))?;
    gateway.put_alert_rule(rule.clone(), &allowed.0.who).await?;
    Ok(Json((&rule).into()))
}

/// Retire an alert
///
/// Its open notices are closed; no message is sent.
#[utoipa::path(
    operation_id = "retireAlert",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "alerts",
    responses((status = 204, description = "It is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/alerts/<name>")]
pub(crate) async fn retire(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_alert_rule(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// Try an alert
///
/// Sends a test message to each address.
#[utoipa::path(
    operation_id = "tryAlert",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "alerts",
    responses((status = 200, description = "Result for each address", body = List<SentAnswer>), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/alerts/<name>/try")]
pub(crate) async fn try_alert(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<List<SentAnswer>>, Problem> {
    let sent = gateway.try_alert_rule(name).await?.into_iter().map(|(to, outcome)| SentAnswer {
        to,
        sent: outcome.is_ok(),
        problem: outcome.err(),
    });
    Ok(Json(List::whole(sent.collect())))
}

/// Default and maximum number of notices.
const NOTICES: u32 = 50;
const MOST_NOTICES: u32 = 500;

/// List notices
///
/// Open notices first, then closed ones, newest first. The last 2000 are kept.
#[utoipa::path(
    operation_id = "listNotices",
    context_path = "/api/v1", tag = "alerts",
    params(("limit" = Option<u32>, Query, description = "1 to 500 (default: 50)")),
    responses((status = 200, description = "The notices", body = List<NoticeAnswer>)),
    security(("key" = []))
)]
#[get("/notices")]
pub(crate) async fn notices(
    _allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<NoticeAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let limit = given.limit(NOTICES, MOST_NOTICES)?;
    given.finish()?;
    let notices = gateway.notices(i64::from(limit)).await?;
    Ok(Json(List::whole(notices.into_iter().map(NoticeAnswer::from).collect())))
}

/// Follow events
///
/// Server-sent events: `dispatch` when a dispatch ends, `breaker` when a breaker changes its state,
/// `notice` when an alert is raised or over, and `missed` (without data) if events came faster than they
/// were read.
#[utoipa::path(
    operation_id = "followEvents",
    context_path = "/api/v1", tag = "alerts",
    responses((status = 200, description = "Events; the schema is that of `dispatch`", body = DispatchEvent, content_type = "text/event-stream")),
    security(("key" = []))
)]
#[get("/events")]
pub(crate) fn events(_allowed: Allowed, gateway: &State<Gateway>, mut end: Shutdown) -> EventStream![Event] {
    let mut events = gateway.events();
    EventStream! {
        // So that a browser knows at once that the stream is open.
        yield Event::comment("from now on");
        loop {
            let next = tokio::select! {
                next = events.next() => next,
                () = &mut end => return,
            };
            match next.map(|event| event.map(ToldEvent::from)) {
                None => return,
                Some(None) => yield Event::data("").event("missed"),
                Some(Some(ToldEvent::Dispatch(told))) => yield Event::json(&told).event("dispatch"),
                Some(Some(ToldEvent::Breaker(told))) => yield Event::json(&told).event("breaker"),
                Some(Some(ToldEvent::Notice(told))) => yield Event::json(&told).event("notice"),
            }
        }
    }
}
