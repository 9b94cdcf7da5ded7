//! Rocket's own errors as problem documents.

use rocket::http::Status;
use rocket::{Catcher, Request, catch, catchers};

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// The problem that a guard left, or one for the status.
#[catch(default)]
fn any(status: Status, request: &Request<'_>) -> Problem {
    let left: &Option<Problem> = request.local_cache(|| None);
    if let Some(problem) = left {
        return problem.clone();
    }
    let path = request.uri().path();
    match status.code {
        401 => Problem::new(ProblemKind::NoKey, "send Authorization: Bearer KEY"),
        403 => Problem::new(ProblemKind::NotAllowed, format!("{path} may not be called so")),
        404 => Problem::new(ProblemKind::NotFound, format!("there is no {} {path}", request.method())),
        413 => Problem::new(ProblemKind::TooLarge, "the body is larger than this call takes"),
        code @ 400..500 => Problem { status: code, ..Problem::new(ProblemKind::BadRequest, format!("{status}")) },
        _ => Problem::new(ProblemKind::Internal, "the cause is in the service's log"),
    }
}

pub(crate) fn all() -> Vec<Catcher> {
    catchers![any]
}
