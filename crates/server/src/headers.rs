//! Headers that the handlers read, and those that every answer gets.

use dispatcher_audio::by_weight;
use dispatcher_gateway::{CacheWish, Gateway, RequestsLeft};
use rocket::fairing::AdHoc;
use rocket::http::Header;
use rocket::request::{FromRequest, Outcome, Request};

use crate::access::{ACCESS_TOKEN, admitted};
use crate::connection::Connection;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// What handlers read of a request beside its body.
#[derive(Debug, Clone)]
pub(crate) struct Meta {
    pub(crate) accept: String,
    pub(crate) content_type: String,
    /// A lower-case media type without parameters.
    pub(crate) essence: String,
    pub(crate) query: String,
    /// `charset` of the body's media type.
    pub(crate) charset: Option<String>,
    pub(crate) trace: Option<String>,
    pub(crate) idempotency_key: Option<String>,
    /// `Prefer: handling=strict` (RFC 7240, section 4.4).
    pub(crate) strict: bool,
    /// `Prefer: respond-async` (RFC 7240, section 4.1).
    pub(crate) respond_async: bool,
    /// `Cache-Control` of the request (RFC 9111, section 5.2.1).
    pub(crate) cache: CacheWish,
    pub(crate) connection: Connection,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Meta {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let header = |name: &str| request.headers().get_one(name).map(str::to_owned);
        let content_type = header("Content-Type").unwrap_or_default();
        let essence = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let cache = request.headers().get("Cache-Control").collect::<Vec<_>>().join(",");
        let prefer = request.headers().get("Prefer").collect::<Vec<_>>().join(",");
        Outcome::Success(Meta {
            accept: request.headers().get("Accept").collect::<Vec<_>>().join(", "),
            essence,
            charset: charset_of(&content_type),
            content_type,
            query: without_token(request.uri().query().map(|query| query.as_str()).unwrap_or_default()),
            trace: header("traceparent").filter(|value| is_traceparent(value)),
            idempotency_key: header("Idempotency-Key").map(|key| key.trim_matches('"').to_owned()),
            strict: prefers(&prefer, "handling=strict"),
            respond_async: prefers(&prefer, "respond-async"),
            cache: cache_wish(&cache),
            connection: Connection::new(request.remote(), request.rocket().config().port),
        })
    }
}

/// A query without its token: that is read by the guard, and goes nowhere else.
fn without_token(query: &str) -> String {
    let other = |pair: &&str| pair.split('=').next() != Some(ACCESS_TOKEN);
    query.split('&').filter(other).collect::<Vec<_>>().join("&")
}

/// What `Cache-Control` of a request asks for; other directives change nothing.
fn cache_wish(directives: &str) -> CacheWish {
    let has = |name: &str| directives.split(',').any(|directive| directive.trim().eq_ignore_ascii_case(name));
    match (has("no-store"), has("no-cache")) {
        (true, _) => CacheWish::Off,
        (false, true) => CacheWish::Renew,
        (false, false) => CacheWish::Use,
    }
}

/// The parameter `charset` of a media type.
pub(crate) fn charset_of(media_type: &str) -> Option<String> {
    let given = media_type.split(';').skip(1).filter_map(|parameter| parameter.split_once('='));
    let mut charset = given.filter(|(name, _)| name.trim().eq_ignore_ascii_case("charset"));
    charset.next().map(|(_, value)| value.trim().trim_matches('"').to_owned())
}

/// The text of a body, in the encoding that it declares.
pub(crate) fn text_of_body(body: &[u8], charset: Option<&str>) -> Result<String, Problem> {
    let text = dispatcher_markup::decode_text(body, charset);
    text.map(std::borrow::Cow::into_owned).map_err(|error| Problem::new(ProblemKind::BadRequest, error.to_string()))
}

/// A header field of an answer.
pub(crate) type ToldHeader = (&'static str, String);

/// Warnings that are sent in header fields; clients accept a hundred fields.
const MOST_WARNINGS: usize = 16;
/// Characters of a warning that are sent there.
const LONGEST_WARNING: usize = 400;

/// Warnings as header fields: the first ones, and how many more there are.
pub(crate) fn warning_headers(warnings: &[String]) -> impl Iterator<Item = ToldHeader> {
    let more = warnings.len().saturating_sub(MOST_WARNINGS);
    let rest = (more > 0).then(|| format!("and {more} more; an answer in JSON has all of them"));
    let told = warnings.iter().take(MOST_WARNINGS).map(|warning| warning_header(warning));
    told.chain(rest.map(|rest| warning_header(&rest)))
}

fn warning_header(warning: &str) -> ToldHeader {
    let safe: String =
        warning.chars().filter(|c| c.is_ascii() && !c.is_ascii_control()).take(LONGEST_WARNING).collect();
    ("Dispatch-Warning", safe)
}

/// Whether a preference is among those of `Prefer`.
fn prefers(prefer: &str, preference: &str) -> bool {
    let given = prefer.split([',', ';']).map(|part| part.replace([' ', '"'], ""));
    given.into_iter().any(|part| part.eq_ignore_ascii_case(preference))
}

impl Meta {
    /// Whether `Accept` prefers a media type to all others.
    pub(crate) fn prefers_type(&self, media_type: &str) -> bool {
        by_weight(&self.accept).first().is_some_and(|range| range.trim().starts_with(media_type))
    }
}

/// `version-trace-parent-flags` in hexadecimal (W3C Trace Context, section 3.2).
fn is_traceparent(value: &str) -> bool {
    let parts: Vec<&str> = value.split('-').collect();
    let lengths = parts.iter().map(|part| part.len()).take(4).eq([2, 32, 16, 2]);
    lengths && parts.iter().all(|part| part.bytes().all(|byte| byte.is_ascii_hexdigit()))
}

/// Meaning of a word in a query, among all its possible meanings.
///
/// # Errors
/// With the known words.
pub(crate) fn one_of<S: Copy>(
    parameter: &str,
    word: &str,
    all: &[S],
    name: impl Fn(S) -> &'static str,
) -> Result<S, Problem> {
    all.iter().copied().find(|one| name(*one) == word).ok_or_else(|| {
        let known: Vec<&str> = all.iter().map(|one| name(*one)).collect();
        Problem::new(ProblemKind::Invalid, format!("{parameter} is one of {}, not '{word}'", known.join(", ")))
    })
}

/// Headers of every answer: nothing is loaded from elsewhere, nothing guessed,
/// and what the API answers is kept by nobody unless the answer allows it.
pub(crate) fn fairing() -> AdHoc {
    AdHoc::on_response("security headers", |request, response| {
        Box::pin(async move {
            let path = request.uri().path();
            let personal = ["/api/v1", "/sign-in", "/health", "/metrics"].iter().any(|start| path.starts_with(*start));
            if personal && !response.headers().contains("Cache-Control") {
                response.set_header(Header::new("Cache-Control", "no-store"));
            }
            let gateway = request.rocket().state::<Gateway>();
            let left = admitted(request).zip(gateway).and_then(|(caller, gateway)| gateway.requests_left(caller));
            for (name, value) in left.map(rate_limit).into_iter().flatten() {
                response.set_header(Header::new(name, value));
            }
            let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; \
                          media-src 'self' blob: data:; connect-src 'self' blob: data:; worker-src 'self' blob:; \
                          frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
            response.set_header(Header::new("Content-Security-Policy", policy));
            response.set_header(Header::new("X-Content-Type-Options", "nosniff"));
            response.set_header(Header::new("Referrer-Policy", "no-referrer"));
        })
    })
}

/// What an app or a key with a limit may still do, as the fields `RateLimit-Policy` and
/// `RateLimit` (draft-ietf-httpapi-ratelimit-headers-10).
fn rate_limit(left: RequestsLeft) -> [(&'static str, String); 2] {
    let RequestsLeft { of, per_minute, left, full_in } = left;
    let until_full = full_in.as_secs_f64().ceil();
    [
        ("RateLimit-Policy", format!("\"{of}\";q={per_minute};w=60")),
        ("RateLimit", format!("\"{of}\";r={left};t={until_full}")),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_left_is_told_as_structured_fields() {
        let full_in = std::time::Duration::from_millis(20_500);
        let told = rate_limit(RequestsLeft { of: "app", per_minute: 60, left: 39, full_in });
        assert_eq!(told.map(|(_, value)| value), ["\"app\";q=60;w=60", "\"app\";r=39;t=21"]);
    }

    #[test]
    fn a_request_says_whether_audio_may_be_kept() {
        for (given, wanted) in [
            ("", CacheWish::Use),
            ("max-age=0", CacheWish::Use),
            ("No-Cache", CacheWish::Renew),
            ("max-age=0, no-cache", CacheWish::Renew),
            ("no-cache,no-store", CacheWish::Off),
            ("no-store", CacheWish::Off),
            ("x-no-store", CacheWish::Use),
        ] {
            assert_eq!(cache_wish(given), wanted, "{given}");
        }
    }

    #[test]
    fn a_token_is_taken_out_of_the_query() {
        for (given, wanted) in [
            ("access_token=dispatch_token_x", ""),
            ("text=a%26b&access_token=x&voice=quay", "text=a%26b&voice=quay"),
            ("access_token", ""),
            ("my_access_token=x&text=access_token", "my_access_token=x&text=access_token"),
        ] {
            assert_eq!(without_token(given), wanted, "{given}");
        }
    }

    #[test]
    fn preferences_are_found_among_others() {
        assert!(prefers("wait=10, respond-async", "respond-async"));
        assert!(prefers("handling = \"strict\"; x=1", "handling=strict"));
        assert!(!prefers("respond-asynchronously, wait=5", "respond-async"));
    }

    #[test]
    fn many_or_long_warnings_do_not_fill_the_head() {
        let told = |count: usize| {
            let warnings: Vec<String> = (0..count).map(|n| format!("{n} {}", "é too long ".repeat(500))).collect();
            warning_headers(&warnings).map(|(_, text)| text).collect::<Vec<_>>()
        };
        assert_eq!((told(0).len(), told(3).len(), told(16).len()), (0, 3, 16));
        let many = told(4_000);
        assert_eq!((many.len(), many[16].as_str()), (17, "and 3984 more; an answer in JSON has all of them"));
        assert!(many[15].starts_with("15  too long") && many.iter().all(|text| text.len() <= 400), "{}", many[15]);
    }

    #[test]
    fn only_a_whole_traceparent_is_taken() {
        assert!(is_traceparent("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"));
        assert!(!is_traceparent("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331"));
        assert!(!is_traceparent("00-0af7651916cd43dd8448eb211c80319z-b7ad6b7169203331-01"));
    }
}
