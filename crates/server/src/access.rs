//! Who a caller is, and the guard that keeps to what `routes.rs` says of a call.

use dispatcher_core::{KeyCall, TokenCall};
use dispatcher_gateway::{Caller, CallerRole, Gateway, GatewayError, Page, now_micros};
use rocket::http::{Method, Status};
use rocket::request::{FromRequest, Outcome, Request};

use dispatcher_vault::{KeyKind, key_kind};

use crate::drain::Drain;
use crate::links::{LinkSigner, PROOF};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::routes;

/// Who may use a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Need {
    /// Anybody.
    Nothing,
    /// Any key, an operator or an app owner, or a token for speaking.
    Speak,
    /// The same, or a token for transcribing.
    Transcribe,
    /// The same, or a token for live recognition.
    Caption,
    /// The same, or a token for exchanges.
    Exchange,
    /// As `Key`, or a signed link to this very thing.
    Link,
    /// Any key, an operator or an app owner; an auditor where it only reads.
    Key,
    /// The same, though an auditor may not: it is charged.
    Listen,
    /// Any job or upload: as `Key`.
    Job,
    /// An operator, or an owner of the app; an auditor where it only reads.
    Owner,
    /// A signed-in person of any role, or an operator key.
    Person,
    /// An operator; an auditor where it only reads.
    Operator,
}

impl Need {
    /// The call that a token must be for.
    fn token_call(self) -> Option<TokenCall> {
        match self {
            Need::Speak => Some(TokenCall::Speak),
            Need::Transcribe => Some(TokenCall::Transcribe),
            Need::Caption => Some(TokenCall::Caption),
            Need::Exchange => Some(TokenCall::Exchange),
            Need::Nothing
            | Need::Link
            | Need::Key
            | Need::Listen
            | Need::Job
            | Need::Owner
            | Need::Person
            | Need::Operator => None,
        }
    }

    /// The grant that a key needs.
    fn key_call(self, reads: bool) -> KeyCall {
        match self {
            Need::Speak | Need::Listen => KeyCall::Speak,
            Need::Transcribe => KeyCall::Transcribe,
            Need::Caption => KeyCall::Caption,
            Need::Exchange => KeyCall::Exchange,
            Need::Job => KeyCall::Jobs,
            _ if reads => KeyCall::Records,
            _ => KeyCall::Manage,
        }
    }

    /// Whether a role may use the call; where not, why.
    fn refusal(self, role: &CallerRole, reads: bool) -> Option<&'static str> {
        match (role, self) {
            (CallerRole::Operator, _) | (_, Need::Nothing) => None,
            (CallerRole::Auditor, Need::Person) => None,
            (CallerRole::Auditor, Need::Operator | Need::Owner | Need::Key | Need::Link | Need::Job) if reads => None,
            (CallerRole::Auditor, _) => Some("an auditor reads records and changes nothing"),
            (CallerRole::AppOwner(_), Need::Operator) => Some("this call takes an operator"),
            (CallerRole::AppOwner(_), _) => None,
            (CallerRole::App, Need::Operator | Need::Owner | Need::Person) => Some("this call takes an operator key"),
            (CallerRole::App, _) => None,
        }
    }
}

/// The parameter of a query that has a token (RFC 6750, section 2.3), for
/// callers that can only give an address.
pub(crate) const ACCESS_TOKEN: &str = "access_token";

/// The field of a request that names the end user for whom it is, in the words
/// of the app.
pub(crate) const END_USER: &str = "End-User";

/// The session's cookie.
pub(crate) const COOKIE: &str = "dispatcher_session";

/// Who makes the request at hand, once it was admitted.
struct Admitted(Option<Caller>);

/// Who makes a request that was admitted.
pub(crate) fn admitted<'r>(request: &'r Request<'_>) -> Option<&'r Caller> {
    request.local_cache(|| Admitted(None)).0.as_ref()
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
    let need = routes::need(request.method(), pattern);
    let caller = match (request.headers().get_one("Authorization"), token_of_address(request)?) {
        (Some(_), Some(_)) => {
            let detail = format!("send the token once: as Authorization or as {ACCESS_TOKEN}");
            return Err(Problem::new(ProblemKind::BadRequest, detail));
        }
        (Some(field), None) => {
            let key = field.split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
            let (_, key) =
                key.ok_or_else(|| Problem::new(ProblemKind::BadKey, "Authorization takes the scheme Bearer"))?;
            match key_kind(key.trim()) {
                Some(KeyKind::Token) => by_token(gateway, request, key.trim(), need).await?,
                _ => gateway.admit(key.trim(), request.remote().map(|from| from.ip())).await?,
            }
        }
        (None, Some(token)) => by_token(gateway, request, &token, need).await?,
        (None, None) if is_link(request, need) => by_link(gateway, request).await?,
        (None, None) => by_session(gateway, request).await?,
    };
    let reads = matches!(request.method(), Method::Get | Method::Head);
    if let Some(why) = need.refusal(&caller.role, reads) {
        return Err(Problem::new(ProblemKind::NotAllowed, why));
    }
    if let Some(grants) = &caller.grants {
        grants.check_call(need.key_call(reads)).map_err(GatewayError::from)?;
    }
    match request.headers().get_one(END_USER) {
        Some(name) => Ok(caller.for_end_user(name)?),
        None => Ok(caller),
    }
}

/// The token in the address. Addresses are kept in many places, so
/// that a key must not.
fn token_of_address(request: &Request<'_>) -> Result<Option<String>, Problem> {
    let query = request.uri().query().map(|query| query.as_str()).unwrap_or_default();
    let given = form_urlencoded::parse(query.as_bytes()).find(|(name, _)| name == ACCESS_TOKEN);
    let Some((_, token)) = given else { return Ok(None) };
    if matches!(key_kind(&token), Some(KeyKind::App | KeyKind::Operator)) {
        let detail = "a key must not stand in an address; replace this key, and use a token";
        return Err(Problem::new(ProblemKind::BadKey, detail));
    }
    Ok(Some(token.into_owned()))
}

async fn by_token(gateway: &Gateway, request: &Request<'_>, token: &str, need: Need) -> Result<Caller, Problem> {
    let Some(call) = need.token_call() else {
        return Err(Problem::new(ProblemKind::NotAllowed, "this call takes a key, not a token"));
    };
    let field = |name: &str| request.headers().get_one(name);
    let page = match field("Origin") {
        None => Page::None,
        Some(origin) if is_own_origin(origin, field("Host").unwrap_or_default()) => Page::Own,
        Some(origin) => Page::Other(origin),
    };
    Ok(gateway.admit_token(token, call, page).await?)
}

/// Whether the address has the proof of a link, for something that may be linked.
fn is_link(request: &Request<'_>, need: Need) -> bool {
    let query = request.uri().query().map(|query| query.as_str()).unwrap_or_default();
    need == Need::Link && form_urlencoded::parse(query.as_bytes()).any(|(name, _)| name == PROOF)
}

async fn by_link(gateway: &Gateway, request: &Request<'_>) -> Result<Caller, Problem> {
    let missing = || Problem::new(ProblemKind::Internal, "nothing signs links here");
    let signer = request.rocket().state::<LinkSigner>().ok_or_else(missing)?;
    let query = request.uri().query().map(|query| query.as_str()).unwrap_or_default();
    let checked = signer.check(request.uri().path().as_str(), query, now_micros() / 1_000_000);
    let app = checked.map_err(|fault| Problem::new(ProblemKind::BadLink, fault.to_string()))?;
    Ok(Caller::of_app(gateway.app(&app).await?, "link"))
}

async fn by_session(gateway: &Gateway, request: &Request<'_>) -> Result<Caller, Problem> {
    let token = request.cookies().get(COOKIE).map(|cookie| cookie.value().to_owned());
    let token = token.ok_or_else(|| Problem::new(ProblemKind::NoKey, "send Authorization: Bearer KEY"))?;
    let session = gateway.session(&token).await?;
    let session = session.ok_or_else(|| Problem::new(ProblemKind::SignedOut, "the session is over"))?;
    own_host(request)?;
    let harmless = matches!(request.method(), Method::Get | Method::Head);
    own_page(request, if harmless { Origin::Optional } else { Origin::Required })?;
    Ok(gateway.admit_session(&session).await?)
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
                request.local_cache(|| IsOperator(caller.is_operator()));
                request.local_cache(|| Admitted(Some(caller.clone())));
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
