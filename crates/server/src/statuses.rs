//! Which problems each call answers with, in the OpenAPI document. Most follow
//! from what a call takes; the rest is in [`ALSO`].

use rocket::http::Status;
use utoipa::openapi::path::{Operation, Parameter, ParameterIn};
use utoipa::openapi::{Content, OpenApi, PathItem, Ref, RefOr, Response, ResponseBuilder};

use crate::access::Need;
use crate::routes;

/// Statuses beyond those that follow from parameters and body, by method and path.
const ALSO: &[(&str, &str, &[u16])] = &[
    ("POST", "/api/v1/utterances", &[404, 406, 409, 429, 502, 504, 507]),
    ("POST", "/api/v1/transcripts", &[404, 406, 409, 415, 429, 502, 504, 507]),
    ("GET", "/api/v1/utterances", &[404, 406, 429, 502, 504, 507]),
    ("POST", "/api/v1/tokens", &[404, 429]),
    ("PUT", "/api/v1/transcripts/{id}", &[409]),
    ("GET", "/api/v1/transcripts/{id}", &[406]),
    ("POST", "/api/v1/estimates", &[404, 406, 409, 415, 507]),
    ("POST", "/api/v1/jobs", &[404, 406, 409, 415, 429, 507]),
    ("GET", "/api/v1/jobs/{id}/archive", &[409, 507]),
    ("DELETE", "/api/v1/jobs/{id}", &[409]),
    ("POST", "/api/v1/jobs/{id}/resume", &[409, 507]),
    ("GET", "/api/v1/jobs/{id}/files/{name}", &[416]),
    ("POST", "/api/v1/uploads", &[409, 507]),
    ("PATCH", "/api/v1/uploads/{id}", &[400, 409, 507]),
    ("DELETE", "/api/v1/uploads/{id}", &[409]),
    ("GET", "/api/v1/voices/{engine}/{voice}/sample", &[406, 429, 502, 504, 507]),
    ("POST", "/api/v1/engines", &[409]),
    ("DELETE", "/api/v1/engines/{name}", &[409]),
    ("PUT", "/api/v1/engines/{name}/sheet", &[409]),
    ("POST", "/api/v1/engines/{name}/check", &[422, 502, 504]),
    ("POST", "/api/v1/engines/{name}/catalogue", &[422, 502]),
    ("GET", "/api/v1/engines/{name}/catalogue", &[422]),
    ("DELETE", "/api/v1/lexicons/{name}", &[409]),
    ("POST", "/api/v1/clips", &[415, 507]),
    ("POST", "/api/v1/comparisons", &[404, 429, 507]),
    ("GET", "/api/v1/clips/{id}", &[304, 416]),
    ("DELETE", "/api/v1/presets/{name}", &[409]),
    ("DELETE", "/api/v1/routes/{name}", &[409]),
    ("PUT", "/api/v1/prompt-sets/{name}", &[404, 406, 409, 415]),
    ("POST", "/api/v1/prompt-sets/{name}/make", &[406, 409, 429, 502, 504, 507]),
    ("PUT", "/api/v1/prompt-sets/{name}/prompts/{id}/approval", &[409]),
    ("GET", "/api/v1/prompt-sets/{name}/files/{file}", &[304, 406, 416]),
    ("GET", "/api/v1/prompt-sets/{name}/archive", &[409, 507]),
    ("POST", "/api/v1/apps", &[409]),
    ("POST", "/api/v1/credentials", &[404, 409]),
    ("POST", "/api/v1/root-key", &[422]),
    ("POST", "/api/v1/session", &[401, 403, 421, 429]),
    ("GET", "/health", &[503]),
    ("PUT", "/api/v1/people/{name}", &[429]),
    ("PUT", "/api/v1/routes/{name}", &[409]),
];

/// Adds the problems of every call.
pub(crate) fn add(document: &mut OpenApi) {
    for (path, item) in &mut document.paths.paths {
        for (method, operation) in operations(item) {
            for status in of(method, path, operation) {
                operation.responses.responses.entry(status.to_string()).or_insert_with(|| answer(method, status));
            }
        }
    }
}

fn operations(item: &mut PathItem) -> impl Iterator<Item = (&'static str, &mut Operation)> {
    let PathItem { get, put, post, delete, head, patch, .. } = item;
    let all = [("GET", get), ("PUT", put), ("POST", post), ("DELETE", delete), ("HEAD", head), ("PATCH", patch)];
    all.into_iter().filter_map(|(method, operation)| Some((method, operation.as_mut()?)))
}

/// The statuses of the problems of a call.
fn of(method: &str, path: &str, operation: &Operation) -> Vec<u16> {
    let mut statuses = vec![500];
    let pattern = path.replace('{', "<").replace('}', ">");
    if method.parse().is_ok_and(|method| routes::need(method, &pattern) != Need::Nothing) {
        statuses.extend([401, 403, 421, 503]);
    }
    let in_query = |parameter: &RefOr<Parameter>| matches!(parameter, RefOr::T(parameter) if parameter.parameter_in == ParameterIn::Query);
    if operation.request_body.is_some() {
        statuses.extend([400, 408, 413, 422]);
    }
    if operation.parameters.iter().flatten().any(in_query) {
        statuses.extend([400, 422]);
    }
    if path.contains('{') {
        statuses.extend([404, 422]);
    }
    statuses.extend(ALSO.iter().filter(|row| (row.0, row.1) == (method, path)).flat_map(|row| row.2));
    statuses.sort_unstable();
    statuses.dedup();
    statuses
}

fn answer(method: &str, status: u16) -> RefOr<Response> {
    let reason = Status::from_code(status).and_then(|status| status.reason()).unwrap_or("A fault");
    let response = ResponseBuilder::new().description(reason);
    let response = match status < 400 || method == "HEAD" {
        true => response,
        false => response.content(
            "application/problem+json",
            Content::new(Some(RefOr::<utoipa::openapi::Schema>::Ref(Ref::from_schema_name("Problem")))),
        ),
    };
    RefOr::T(response.build())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::openapi::document;

    #[test]
    fn every_row_is_a_call_and_every_call_has_its_problems() {
        let mut document = document();
        for (method, path, _) in ALSO {
            let item = document.paths.paths.get_mut(*path).unwrap_or_else(|| panic!("there is no {path}"));
            assert!(operations(item).any(|(found, _)| found == *method), "there is no {method} {path}");
        }
        for (path, item) in &mut document.paths.paths {
            for (method, operation) in operations(item) {
                let has = |status: &str| operation.responses.responses.contains_key(status);
                let guarded = operation.security.is_some();
                assert_eq!(has("401"), guarded || path.ends_with("/session") && method == "POST", "{method} {path}");
                assert!(!guarded || has("403") && has("503"), "{method} {path}");
                assert!(operation.request_body.is_none() || has("400") && has("413"), "{method} {path}");
                assert!(has("500"), "{method} {path}");
            }
        }
    }
}
