//! Pages of other origins (the Fetch standard, section 3.2): which may call, and
//! what of an answer they may read. Cookies are never taken from them.

use dispatcher_gateway::Gateway;
use rocket::fairing::AdHoc;
use rocket::http::{Header, Status};
use rocket::options;
use rocket::request::Request;
use rocket::response::{self, Responder, Response};

/// Fields of answers that pages may read, beside those that they always may.
const EXPOSED: &str = "Cache-Status, Content-Disposition, Dispatch-Cost, Dispatch-Engine, Dispatch-Fidelity, \
                       Dispatch-Fingerprint, Dispatch-Id, Dispatch-Model, Dispatch-Synthetic, Dispatch-Voice, \
                       Dispatch-Warning, ETag, RateLimit, RateLimit-Policy, Retry-After, Server-Timing";
/// Fields of requests that pages may send.
const TAKEN: &str = "Accept, Authorization, Cache-Control, Content-Type, Idempotency-Key, Prefer, traceparent";
/// Seconds for which a browser need not ask again.
const ASKED_AGAIN: &str = "7200";

/// Whether a text is an origin as browsers write it (RFC 6454, section 6.2).
///
/// # Errors
/// With what an origin is.
pub(crate) fn check_origin(origin: &str) -> Result<(), String> {
    let parsed = url::Url::parse(origin).ok().filter(|url| matches!(url.scheme(), "http" | "https"));
    match parsed.is_some_and(|url| url.origin().ascii_serialization() == origin) {
        true => Ok(()),
        false => Err(format!("'{origin}' is not an origin, such as https://ferries.example or http://127.0.0.1:8080")),
    }
}

/// What a browser asks before a request across origins.
pub(crate) struct Preflight;

#[options("/<_..>")]
pub(crate) fn preflight() -> Preflight {
    Preflight
}

impl<'r> Responder<'r, 'static> for Preflight {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let mut response = Response::build();
        response.status(Status::NoContent).raw_header("Allow", "GET, POST, PUT, PATCH, DELETE, OPTIONS").ok()
    }
}

/// Lets pages of allowed origins read answers of the API; to pages of others
/// their browsers show nothing.
pub(crate) fn fairing() -> AdHoc {
    AdHoc::on_response("origins", |request, response| {
        Box::pin(async move {
            if request.uri().path().starts_with("/client/") {
                // The module for pages is public.
                response.set_header(Header::new("Access-Control-Allow-Origin", "*"));
                return;
            }
            if !request.uri().path().starts_with("/api/v1") {
                return;
            }
            let Some(origin) = request.headers().get_one("Origin") else { return };
            // Whether it is answered so depends on the origin, allowed or not.
            response.adjoin_raw_header("Vary", "Origin");
            if !request.rocket().state::<Gateway>().is_some_and(|gateway| gateway.allows_origin(origin)) {
                return;
            }
            response.set_header(Header::new("Access-Control-Allow-Origin", origin.to_owned()));
            response.set_header(Header::new("Access-Control-Expose-Headers", EXPOSED));
            if request.method() == rocket::http::Method::Options {
                response.set_header(Header::new("Access-Control-Allow-Methods", "GET, HEAD, POST"));
                response.set_header(Header::new("Access-Control-Allow-Headers", TAKEN));
                response.set_header(Header::new("Access-Control-Max-Age", ASKED_AGAIN));
            }
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_origin_is_written_as_browsers_write_it() {
        for origin in ["https://ferries.example", "http://127.0.0.1:8080", "http://[::1]:81", "https://a.b:444"] {
            assert_eq!(check_origin(origin), Ok(()), "{origin}");
        }
        for origin in [
            "",
            "*",
            "null",
            "https://ferries.example/",
            "https://ferries.example/page",
            "https://Ferries.example",
            "https://ferries.example:443",
            "ferries.example",
            "ftp://ferries.example",
            "file://",
            "https://a.example\nhttps://b.example",
            "https://user@ferries.example",
        ] {
            assert!(check_origin(origin).is_err(), "{origin}");
        }
    }
}
