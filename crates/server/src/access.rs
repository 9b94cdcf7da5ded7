//! The authorisation table, and the guard that keeps to it.

use dispatcher_gateway::{Caller, Gateway, now_micros};
use dispatcher_vault::hash_key;
use rocket::http::{Method, Status};
use rocket::request::{FromRequest, Outcome, Request};

use crate::drain::Drain;
use crate::launch::PublicUrl;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// Who may call a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Need {
    /// Anybody.
    Nothing,
    /// Any key or a signed-in operator.
    Key,
    /// An operator key or a signed-in operator.
    Operator,
}

/// The session's cookie.
pub(crate) const COOKIE: &str = "dispatcher_session";

/// Every route of the service. A route that is not here is refused, and a
/// test compares the table with what is mounted.
pub(crate) const TABLE: &[(Method, &str, Need)] = &[
    (Method::Post, "/api/v1/utterances", Need::Key),
    (Method::Post, "/api/v1/transcripts", Need::Key),
    (Method::Post, "/api/v1/estimates", Need::Key),
    (Method::Get, "/api/v1/jobs", Need::Key),
    (Method::Post, "/api/v1/jobs", Need::Key),
    (Method::Get, "/api/v1/webhook-key", Need::Key),
    (Method::Post, "/api/v1/uploads", Need::Key),
    (Method::Head, "/api/v1/uploads/<id>", Need::Key),
    (Method::Patch, "/api/v1/uploads/<id>", Need::Key),
    (Method::Delete, "/api/v1/uploads/<id>", Need::Key),
    (Method::Get, "/api/v1/jobs/<id>", Need::Key),
    (Method::Delete, "/api/v1/jobs/<id>", Need::Key),
    (Method::Get, "/api/v1/jobs/<id>/events", Need::Key),
    (Method::Post, "/api/v1/jobs/<id>/cancel", Need::Key),
    (Method::Post, "/api/v1/jobs/<id>/resume", Need::Key),
    (Method::Get, "/api/v1/jobs/<id>/files/<name>", Need::Key),
    (Method::Get, "/api/v1/jobs/<id>/archive", Need::Key),
    (Method::Get, "/api/v1/voices", Need::Key),
    (Method::Get, "/api/v1/voices/<engine>/<voice>", Need::Key),
    (Method::Get, "/api/v1/voices/<id>", Need::Key),
    (Method::Get, "/api/v1/engines", Need::Key),
    (Method::Get, "/api/v1/engines/<name>", Need::Key),
    (Method::Put, "/api/v1/voices/<engine>/<voice>/favourite", Need::Operator),
    (Method::Delete, "/api/v1/voices/<engine>/<voice>/favourite", Need::Operator),
    (Method::Get, "/api/v1/voices/<engine>/<voice>/sample", Need::Key),
    (Method::Post, "/api/v1/engines", Need::Operator),
    (Method::Post, "/api/v1/engines/draft", Need::Operator),
    (Method::Get, "/api/v1/engines/schema", Need::Key),
    (Method::Delete, "/api/v1/engines/<name>", Need::Operator),
    (Method::Get, "/api/v1/engines/<name>/sheet", Need::Operator),
    (Method::Put, "/api/v1/engines/<name>/sheet", Need::Operator),
    (Method::Get, "/api/v1/engines/<name>/catalogue", Need::Operator),
    (Method::Post, "/api/v1/engines/<name>/catalogue", Need::Operator),
    (Method::Post, "/api/v1/engines/<name>/check", Need::Operator),
    (Method::Get, "/api/v1/routes", Need::Key),
    (Method::Get, "/api/v1/routes/<name>", Need::Key),
    (Method::Put, "/api/v1/routes/<name>", Need::Operator),
    (Method::Delete, "/api/v1/routes/<name>", Need::Operator),
    (Method::Get, "/api/v1/lexicons", Need::Key),
    (Method::Get, "/api/v1/lexicons/<name>", Need::Key),
    (Method::Get, "/api/v1/lexicons/<name>/versions", Need::Operator),
    (Method::Put, "/api/v1/lexicons/<name>", Need::Operator),
    (Method::Delete, "/api/v1/lexicons/<name>", Need::Operator),
    (Method::Get, "/api/v1/clips", Need::Key),
    (Method::Post, "/api/v1/clips", Need::Key),
    (Method::Get, "/api/v1/clips/<id>", Need::Key),
    (Method::Delete, "/api/v1/clips/<id>", Need::Key),
    (Method::Get, "/api/v1/formats", Need::Key),
    (Method::Get, "/api/v1/presets", Need::Key),
    (Method::Get, "/api/v1/presets/<name>", Need::Key),
    (Method::Put, "/api/v1/presets/<name>", Need::Operator),
    (Method::Delete, "/api/v1/presets/<name>", Need::Operator),
    (Method::Get, "/api/v1/prompt-sets", Need::Key),
    (Method::Get, "/api/v1/prompt-sets/<name>", Need::Key),
    (Method::Put, "/api/v1/prompt-sets/<name>", Need::Key),
    (Method::Delete, "/api/v1/prompt-sets/<name>", Need::Key),
    (Method::Post, "/api/v1/prompt-sets/<name>/make", Need::Key),
    (Method::Put, "/api/v1/prompt-sets/<name>/prompts/<id>/approval", Need::Key),
    (Method::Get, "/api/v1/prompt-sets/<name>/files/<file>", Need::Key),
    (Method::Get, "/api/v1/prompt-sets/<name>/archive", Need::Key),
    (Method::Get, "/api/v1/apps", Need::Operator),
    (Method::Post, "/api/v1/apps", Need::Operator),
    (Method::Get, "/api/v1/apps/<name>", Need::Operator),
    (Method::Put, "/api/v1/apps/<name>", Need::Operator),
    (Method::Get, "/api/v1/apps/<name>/keys", Need::Operator),
    (Method::Post, "/api/v1/apps/<name>/keys", Need::Operator),
    (Method::Delete, "/api/v1/apps/<name>/keys/<id>", Need::Operator),
    (Method::Get, "/api/v1/credentials", Need::Operator),
    (Method::Post, "/api/v1/credentials", Need::Operator),
    (Method::Delete, "/api/v1/credentials/<name>", Need::Operator),
    (Method::Post, "/api/v1/credentials/<name>/check", Need::Operator),
    (Method::Post, "/api/v1/credentials/<name>/confirm", Need::Operator),
    (Method::Post, "/api/v1/root-key", Need::Operator),
    (Method::Get, "/api/v1/dispatches", Need::Key),
    (Method::Get, "/api/v1/dispatches/<id>", Need::Key),
    (Method::Get, "/api/v1/usage", Need::Key),
    (Method::Get, "/api/v1/audit", Need::Operator),
    (Method::Get, "/api/v1/people", Need::Operator),
    (Method::Put, "/api/v1/people/<name>", Need::Operator),
    (Method::Delete, "/api/v1/people/<name>", Need::Operator),
    (Method::Post, "/api/v1/session", Need::Nothing),
    (Method::Get, "/api/v1/session", Need::Nothing),
    (Method::Delete, "/api/v1/session", Need::Operator),
    (Method::Get, "/api/openapi.json", Need::Nothing),
    (Method::Get, "/api/reference", Need::Nothing),
    (Method::Get, "/problems", Need::Nothing),
    (Method::Get, "/problems/<slug>", Need::Nothing),
    (Method::Get, "/sign-in/<token>", Need::Nothing),
    (Method::Get, "/health", Need::Nothing),
    (Method::Get, "/metrics", Need::Nothing),
    (Method::Get, "/", Need::Nothing),
    (Method::Get, "/<path..>", Need::Nothing),
    (Method::Get, "/api/v1/overview", Need::Operator),
];

/// The need of a route by method and pattern; the strictest where unknown.
pub(crate) fn need(method: Method, pattern: &str) -> Need {
    let path = |pattern: &str| pattern.split('?').next().unwrap_or_default().to_owned();
    let row = TABLE.iter().find(|row| row.0 == method && path(row.1) == path(pattern));
    row.map_or(Need::Operator, |row| row.2)
}

/// Whether the request at hand is an operator's.
struct IsOperator(bool);

/// Whether a request was admitted as an operator's.
pub(crate) fn is_operator(request: &Request<'_>) -> bool {
    request.local_cache(|| IsOperator(false)).0
}

/// A caller who may call the route at hand.
pub(crate) struct Allowed(pub(crate) Caller);

async fn admit(request: &Request<'_>) -> Result<Caller, Problem> {
    let missing = || Problem::new(ProblemKind::Internal, "the gateway is not there");
    let gateway = request.rocket().state::<Gateway>().ok_or_else(missing)?;
    if request.rocket().state::<Drain>().is_some_and(Drain::is_stopping) {
        let mut problem = Problem::new(ProblemKind::Stopping, "the service is ending and takes no new work");
        problem.retry_after = Some(5);
        return Err(problem);
    }
    let pattern = request.route().map(|route| route.uri.as_str()).unwrap_or_default();
    let need = need(request.method(), pattern);
    let caller = match request.headers().get_one("Authorization") {
        Some(field) => {
            let key = field.split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
            let (_, key) =
                key.ok_or_else(|| Problem::new(ProblemKind::BadKey, "Authorization takes the scheme Bearer"))?;
            gateway.admit(key.trim()).await?
        }
        None => by_session(gateway, request).await?,
    };
    if need == Need::Operator && !caller.operator {
        return Err(Problem::new(ProblemKind::NotAllowed, format!("{pattern} takes an operator key")));
    }
    Ok(caller)
}

async fn by_session(gateway: &Gateway, request: &Request<'_>) -> Result<Caller, Problem> {
    let token = request.cookies().get(COOKIE).map(|cookie| cookie.value().to_owned());
    let token = token.ok_or_else(|| Problem::new(ProblemKind::NoKey, "send Authorization: Bearer KEY"))?;
    let session = gateway.store().session(hash_key(&token), now_micros()).await?;
    let session = session.ok_or_else(|| Problem::new(ProblemKind::SignedOut, "the session is over"))?;
    own_host(request)?;
    let harmless = matches!(request.method(), Method::Get | Method::Head);
    own_page(request, if harmless { Origin::Optional } else { Origin::Required })?;
    Ok(gateway.admit_person(&session.person).await?)
}

/// Whether a request must say which page it comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Origin {
    Required,
    /// Browsers name the origin of requests across origins; those within one
    /// have none where they only read.
    Optional,
}

/// A console session is taken at our own name alone, so that no name that
/// somebody else lets lead to our address can use it.
fn own_host(request: &Request<'_>) -> Result<(), Problem> {
    let host = request.headers().get_one("Host").unwrap_or_default();
    let url = request.rocket().state::<PublicUrl>();
    match url.is_some_and(|url| url.is_host(host)) {
        true => Ok(()),
        false => Err(Problem::new(ProblemKind::WrongHost, format!("the service is not reached as '{host}'"))),
    }
}

/// Beside the SameSite=Strict cookie: requests come from our own pages. A form
/// of another site has an `Origin` of its own, or none and a form's type.
fn own_page(request: &Request<'_>, needed: Origin) -> Result<(), Problem> {
    let field = |name: &str| request.headers().get_one(name);
    let wrong =
        |origin: &str| Problem::new(ProblemKind::WrongOrigin, format!("the origin '{origin}' is not this service"));
    match (field("Origin"), field("Sec-Fetch-Site")) {
        (Some(origin), _) if is_own_origin(origin, field("Host").unwrap_or_default()) => Ok(()),
        (Some(origin), _) => Err(wrong(origin)),
        (None, _) if needed == Origin::Required => Err(wrong("")),
        (None, Some(site)) if !matches!(site, "same-origin" | "none") => Err(wrong(site)),
        (None, _) => Ok(()),
    }
}

/// The whole of the origin's host and port decides (RFC 6454, section 4).
fn is_own_origin(origin: &str, host: &str) -> bool {
    let name = origin.strip_prefix("http://").or_else(|| origin.strip_prefix("https://"));
    name.is_some_and(|name| !name.is_empty() && name.eq_ignore_ascii_case(host))
}

/// A request that comes from our own page, or from no page at all, to our own name.
pub(crate) struct OwnPage;

/// A request to our own name.
pub(crate) struct OwnHost;

fn checked<T>(request: &Request<'_>, guard: T, outcome: Result<(), Problem>) -> Outcome<T, ()> {
    match outcome {
        Ok(()) => Outcome::Success(guard),
        Err(problem) => refuse(request, problem),
    }
}

/// The catcher sends the problem.
fn refuse<T>(request: &Request<'_>, problem: Problem) -> Outcome<T, ()> {
    let status = Status::new(problem.status);
    request.local_cache(|| Some(problem));
    Outcome::Error((status, ()))
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for OwnPage {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let outcome = own_host(request).and_then(|()| own_page(request, Origin::Optional));
        checked(request, OwnPage, outcome)
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for OwnHost {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        checked(request, OwnHost, own_host(request))
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Allowed {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match admit(request).await {
            Ok(caller) => {
                request.local_cache(|| IsOperator(caller.operator));
                Outcome::Success(Allowed(caller))
            }
            Err(problem) => refuse(request, problem),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_in_the_table_is_for_operators() {
        assert_eq!(need(Method::Get, "/api/v1/secrets"), Need::Operator);
        assert_eq!(need(Method::Post, "/api/v1/utterances"), Need::Key);
        assert_eq!(need(Method::Delete, "/api/v1/utterances"), Need::Operator);
        assert_eq!(need(Method::Get, "/api/v1/usage?<other..>"), Need::Key);
    }

    #[test]
    fn an_origin_is_compared_whole() {
        assert!(is_own_origin("http://127.0.0.1:7420", "127.0.0.1:7420"));
        assert!(is_own_origin("https://speech.saltmarsh.example", "speech.saltmarsh.example"));
        for origin in [
            "http://127.0.0.1:7420.evil.example",
            "http://127.0.0.1:74201",
            "http://127.0.0.1",
            "http://evil.example/127.0.0.1:7420",
            "null",
            "127.0.0.1:7420",
            "ftp://127.0.0.1:7420",
            "",
        ] {
            assert!(!is_own_origin(origin, "127.0.0.1:7420"), "{origin}");
        }
        assert!(!is_own_origin("http://", ""), "nothing is no name");
    }
}
