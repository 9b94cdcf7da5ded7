//! Dispatches, usage, the audit log, and the overview.

use dispatcher_core::{Work, is_day};
use dispatcher_gateway::{
    AuditFilter, DispatchFilter, DispatchState, Gateway, GroupBy, Overview, day_of, micros_of_day, now_micros,
};
use rocket::http::ContentType;
use rocket::serde::json::Json;
use rocket::{Either, State, get};

use super::engines::all_engines;
use crate::access::Allowed;
use crate::headers::{Meta, one_of};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{
    Amount, AuditAnswer, DispatchAnswer, LedgerCheckAnswer, List, OverviewAnswer, UsageAnswer, UsageList,
};

/// Entries of the audit log in one answer.
const AUDIT: i64 = 200;
const MOST_AUDIT: i64 = 5_000;
const DAY: i64 = 86_400_000_000;

/// List dispatches
///
/// Newest first. App keys see their own app only.
#[utoipa::path(
    operation_id = "listDispatches",
    context_path = "/api/v1", tag = "records",
    params(
        ("app" = Option<String>, Query), ("engine" = Option<String>, Query), ("state" = Option<String>, Query),
        ("work" = Option<String>, Query), ("job" = Option<String>, Query, description = "Id of a job, or a unique beginning of it"), ("limit" = Option<i64>, Query), ("cursor" = Option<String>, Query),
    ),
    responses((status = 200, description = "Dispatches", body = List<DispatchAnswer>)),
    security(("key" = []))
)]
#[get("/dispatches")]
pub(crate) async fn dispatches(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<DispatchAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let app = given.text("app");
    let engine = given.text("engine");
    let state =
        given.text("state").map(|word| one_of("state", &word, DispatchState::ALL, DispatchState::name)).transpose()?;
    let work = given.text("work").map(|word| one_of("work", &word, &Work::ALL, Work::name)).transpose()?;
    let job = given.text("job");
    let limit: i64 = given.number("limit")?.unwrap_or(50).clamp(1, 500);
    let before = given.text("cursor");
    given.finish()?;
    let filter = DispatchFilter { apps: None, engine, state, work, job, before, limit: limit + 1 };
    let mut rows = gateway.dispatches(&allowed.0, app, filter).await?;
    let more = rows.len() > usize::try_from(limit).unwrap_or(0);
    rows.truncate(usize::try_from(limit).unwrap_or(0));
    let next = rows.last().filter(|_| more).map(|row| row.id.clone());
    Ok(Json(List { items: rows.into_iter().map(DispatchAnswer::from).collect(), next }))
}

/// Read a dispatch
///
/// With its attempts, in order, and its ledger entries.
#[utoipa::path(
    operation_id = "readDispatch",
    context_path = "/api/v1", tag = "records",
    responses((status = 200, description = "The dispatch", body = DispatchAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/dispatches/<id>")]
pub(crate) async fn dispatch(
    allowed: Allowed,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Json<DispatchAnswer>, Problem> {
    Ok(Json(gateway.dispatch(&allowed.0, id).await?.into()))
}

/// Show usage
///
/// Usage and cost between two days in UTC (default: this month), grouped `by` one or two of `app`, `key`,
/// `engine`, `voice`, `model`, `route`, `language`, `work`, `day` and `hour`, separated by a comma. A key is
/// the id of a key or token, or a person. App keys see their own app only.
#[utoipa::path(
    operation_id = "showUsage",
    context_path = "/api/v1", tag = "records",
    params(
        ("by" = Option<String>, Query, description = "app, key, engine, voice, model, route, language, work, day, hour; one or two"),
        ("from" = Option<String>, Query, description = "YYYY-MM-DD"), ("to" = Option<String>, Query, description = "YYYY-MM-DD"),
        ("app" = Option<String>, Query),
    ),
    responses((status = 200, description = "Usage; rows of CSV with Accept: text/csv", content((UsageList = "application/json"), (String = "text/csv"))), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/usage")]
pub(crate) async fn usage(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Either<Json<UsageList>, (ContentType, String)>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let by = given.text("by").unwrap_or_else(|| "app,engine".into());
    let names: Vec<String> = by.split(',').map(|name| name.trim().to_owned()).collect();
    let columns: Vec<GroupBy> = names.iter().filter_map(|name| GroupBy::from_name(name)).collect();
    if columns.len() != names.len() || columns.is_empty() || columns.len() > 2 {
        return Err(Problem::new(
            ProblemKind::Invalid,
            format!("by is one or two of {}, not '{by}'", GroupBy::ALL.map(GroupBy::name).join(", ")),
        ));
    }
    let today = day_of(now_micros());
    let from = given.text("from").unwrap_or_else(|| format!("{}-01", &today[..7]));
    let to = given.text("to").unwrap_or(today);
    let app = given.text("app");
    given.finish()?;
    if !is_day(&from) || !is_day(&to) {
        return Err(Problem::new(ProblemKind::Invalid, "from and to are days: YYYY-MM-DD"));
    }
    let columns = (columns[0], columns.get(1).copied());
    let report = gateway.usage(&allowed.0, columns, (from.clone(), to.clone()), app).await?;
    let list = UsageList {
        by: names,
        from,
        to,
        items: report.groups.into_iter().map(UsageAnswer::from).collect(),
        next: None,
        total: report.sums.amounts().iter().copied().map(Amount::from).collect(),
        converted: report.converted.map(Amount::from),
        sample: gateway.has_samples().await?,
    };
    match meta.prefers_type("text/csv") {
        true => Ok(Either::Right((ContentType::CSV, list.to_csv()?))),
        false => Ok(Either::Left(Json(list))),
    }
}

/// Read the audit log
///
/// Who changed or used what, newest first. With `Accept: application/jsonl` one JSON object per line.
#[utoipa::path(
    operation_id = "readAudit",
    context_path = "/api/v1", tag = "records",
    params(
        ("from" = Option<String>, Query, description = "First day in UTC: YYYY-MM-DD"), ("to" = Option<String>, Query, description = "Last day"),
        ("who" = Option<String>, Query, description = "Key id, person or host"), ("action" = Option<String>, Query, description = "Such as `key.add`"),
        ("limit" = Option<i64>, Query, description = "1 to 5000 (default: 200)"), ("cursor" = Option<String>, Query),
    ),
    responses((status = 200, description = "Entries", content((List<AuditAnswer> = "application/json"), (String = "application/jsonl")))),
    security(("key" = []))
)]
#[get("/audit")]
pub(crate) async fn audit(
    _allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Either<Json<List<AuditAnswer>>, (ContentType, String)>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let mut day = |name: &'static str, days_more: i64| {
        let wrong = |day: &str| Problem::new(ProblemKind::Invalid, format!("{name} is a day: YYYY-MM-DD, not '{day}'"));
        let day = given.text(name);
        day.map(|day| micros_of_day(&day).ok_or_else(|| wrong(&day)))
            .transpose()
            .map(|it| it.map(|it| it + days_more * DAY))
    };
    let (from, until) = (day("from", 0)?, day("to", 1)?);
    let (who, action) = (given.text("who"), given.text("action"));
    let limit: i64 = given.number("limit")?.unwrap_or(AUDIT).clamp(1, MOST_AUDIT);
    let before: Option<i64> = given.number("cursor")?;
    given.finish()?;
    let filter = AuditFilter { before, from, until, who, action, limit: limit + 1 };
    let mut entries = gateway.audit(filter).await?;
    let more = entries.len() > usize::try_from(limit).unwrap_or(0);
    entries.truncate(usize::try_from(limit).unwrap_or(0));
    let next = entries.last().filter(|_| more).map(|entry| entry.id.to_string());
    let items: Vec<AuditAnswer> = entries.into_iter().map(AuditAnswer::from).collect();
    if meta.prefers_type("application/jsonl") {
        let lines = items.iter().map(|item| serde_json::to_string(item).map(|line| line + "\n"));
        let lines: Result<String, _> = lines.collect();
        let lines = lines.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        return Ok(Either::Right((ContentType::new("application", "jsonl"), lines)));
    }
    Ok(Either::Left(Json(List { items, next })))
}

/// Read the overview
#[utoipa::path(
    operation_id = "showOverview",
    context_path = "/api/v1", tag = "records",
    responses((status = 200, description = "Engines, newest dispatches, today's usage", body = OverviewAnswer)),
    security(("key" = []))
)]
#[get("/overview")]
pub(crate) async fn overview(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<OverviewAnswer>, Problem> {
    let Overview { dispatches, failed, fallbacks, usage } = gateway.overview().await?;
    Ok(Json(OverviewAnswer {
        engines: all_engines(gateway).await?,
        requests: dispatches.len(),
        failed,
        fallbacks,
        dispatches: dispatches.into_iter().take(8).map(DispatchAnswer::from).collect(),
        usage: usage.into_iter().map(UsageAnswer::from).collect(),
    }))
}

/// Check the ledger
///
/// Checks all entries against each other, the attempts and the dispatches, as they are at one moment. With
/// millions of entries this takes some seconds.
#[utoipa::path(
    operation_id = "checkLedger",
    context_path = "/api/v1", tag = "records",
    responses((status = 200, description = "The rules, and where they do not hold", body = LedgerCheckAnswer)),
    security(("key" = []))
)]
#[get("/ledger/check")]
pub(crate) async fn check_ledger(
    _allowed: Allowed,
    gateway: &State<Gateway>,
) -> Result<Json<LedgerCheckAnswer>, Problem> {
    Ok(Json(gateway.check_ledger().await?.into()))
}
