//! Rocket's own errors as problem documents.

use rocket::http::Status;
use rocket::{Catcher, Request, catch, catchers};

use crate::problem::Problem;

/// The problem that a guard left, or one for the status.
#[catch(default)]
fn any(status: Status, request: &Request<'_>) -> Problem {
    let left: &Option<Problem> = request.local_cache(|| None);
    if let Some(problem) = left {
        return problem.clone();
    }
    let path = request.uri().path();
    match status.code {
        401 => Problem::new("no-key", "send Authorization: Bearer KEY"),
        403 => Problem::new("not-allowed", format!("{path} may not be called so")),
        404 => Problem::new("not-found", format!("there is no {} {path}", request.method())),
        413 => Problem::new("too-large", "the body is larger than this call takes"),
        code @ 400..500 => Problem { status: code, ..Problem::new("bad-request", format!("{status}")) },
        _ => Problem::new("internal", "the cause is in the service's log"),
    }
}

pub(crate) fn all() -> Vec<Catcher> {
    catchers![any]
}
