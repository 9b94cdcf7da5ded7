//! Problem documents (RFC 9457): the one place where errors become answers.

use dispatcher_core::{Cause, PlanError};
use dispatcher_gateway::{FailedAttempt, GatewayError};
use dispatcher_store::StoreError;
use rocket::http::{ContentType, Header, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

/// What is no fault of the caller.
const INTERNAL: (&str, u16, &str, &str) = (
    "internal",
    500,
    "Internal error of the gateway",
    "Find the error in the service's log at this time, and report it.",
);

/// The kinds of problem: slug, status, title, and what to do about it.
pub(crate) const KINDS: [(&str, u16, &str, &str); 34] = [
    (
        "bad-request",
        400,
        "The request cannot be read",
        "Correct the fault given in the detail and send the request again.",
    ),
    (
        "unknown-member",
        400,
        "Unknown member or parameter",
        "Look up the name in the API reference. Unknown names are never ignored.",
    ),
    ("no-key", 401, "No key was sent", "Send an app key or operator key as Authorization: Bearer KEY."),
    (
        "bad-key",
        401,
        "The key is not valid",
        "Check that the key is complete. To add a new one: dispatcher app key add APP",
    ),
    ("signed-out", 401, "Nobody is signed in", "Sign in with your name and password, or with an operator key."),
    (
        "not-allowed",
        403,
        "The key may not do this",
        "Use an operator key. App keys can only speak, transcribe and read.",
    ),
    (
        "wrong-origin",
        403,
        "The request comes from another origin",
        "With a console session, changes are accepted only from pages of the console.",
    ),
    ("not-found", 404, "No such path", "Look up the path in the API reference at /api/reference."),
    ("no-such-voice", 404, "Unknown voice or route", "To list voices: dispatcher voices, or GET /api/v1/voices"),
    ("no-such-engine", 404, "Unknown engine", "To list engines: dispatcher engine list, or GET /api/v1/engines"),
    ("no-such-record", 404, "Record not found", "Check the name against the list of records."),
    ("not-acceptable", 406, "The audio format is not available", "Request one of the formats given in the detail."),
    (
        "in-progress",
        409,
        "The same request is still running",
        "Wait until the first request ends, then send this one again.",
    ),
    ("in-use", 409, "The record is in use", "First change the records given in the detail."),
    ("sheet", 422, "The engine sheet has a fault", "Correct the sheet at the line and column given in the errors."),
    ("taken", 409, "The name is taken", "Choose another name, or replace the existing record."),
    ("not-ready", 409, "The job or prompt is not in the required state", "Read its state; wait for a job to end."),
    ("too-large", 413, "The body is too large", "Send a smaller body, or raise body_megabytes in dispatcher.toml."),
    (
        "text-too-long",
        413,
        "The text is too long for one call of the engine",
        "Shorten the text, or choose an engine with a higher limit.",
    ),
    (
        "audio-too-long",
        413,
        "The audio is too long for one call of the engine",
        "Send it as a job, with Prefer: respond-async, or choose another engine.",
    ),
    (
        "not-audio",
        415,
        "The audio cannot be read",
        "Send WAV, AIFF, AU, FLAC, MP3, AAC, MP4, Ogg or WebM; raw PCM with its media type and rate.",
    ),
    (
        "not-a-document",
        415,
        "The document cannot be read",
        "Send plain text, Markdown, SSML, HTML, EPUB or PDF with text in it, under its media type.",
    ),
    (
        "unsupported",
        422,
        "No engine supports everything in the request",
        "Remove the items given in the errors, or let them be adapted: \"unsupported\": \"adapt\"",
    ),
    ("markup", 422, "The markup has a fault", "Correct the markup at the line and column given in the errors."),
    (
        "invalid",
        422,
        "The request has an invalid value",
        "Correct the fault given in the detail and send the request again.",
    ),
    ("too-many-attempts", 429, "Too many attempts to sign in", "Wait for the time given in Retry-After."),
    (
        "crowded",
        429,
        "Too many requests are waiting",
        "Wait for the time given in Retry-After, or send fewer requests at once.",
    ),
    (
        "too-slow",
        408,
        "The body arrives too slowly",
        "Send the body again without long pauses, or send it in parts as an upload.",
    ),
    (
        "quota",
        507,
        "The storage quota of the app is used up",
        "Remove uploads, clips or jobs that are no longer needed.",
    ),
    (
        "no-room",
        507,
        "The disk is full",
        "Free space on the disk of the data folder; reserve_megabytes sets how much must stay free.",
    ),
    (
        "wrong-host",
        421,
        "The request is for another host",
        "Call the service by the name in public_url, or set public_url to the name that callers use.",
    ),
    ("stopping", 503, "The service is stopping", "Send the request again in a few seconds."),
    INTERNAL,
    ("engines-failed", 502, "All engines failed", "See the attempts for the reasons; later: dispatcher dispatches ID"),
];

/// A problem document.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Problem {
    /// An absolute URI.
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) title: String,
    pub(crate) status: u16,
    pub(crate) detail: String,
    /// What to do next.
    pub(crate) help: String,
    /// Several faults, with line and column or JSON Pointer.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<Object>)]
    pub(crate) errors: Vec<serde_json::Value>,
    /// Three similar names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) nearest: Vec<String>,
    /// Id of the dispatch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) dispatch: Option<String>,
    #[serde(skip)]
    pub(crate) retry_after: Option<u64>,
    /// What engines said, which operators are shown.
    #[serde(skip)]
    pub(crate) attempts: Vec<FailedAttempt>,
}

impl Problem {
    /// A problem of a kind in [`KINDS`].
    pub(crate) fn new(slug: &str, detail: impl Into<String>) -> Problem {
        let (slug, status, title, help) = KINDS.iter().find(|kind| kind.0 == slug).unwrap_or(&INTERNAL);
        Problem {
            kind: (*slug).into(),
            title: (*title).into(),
            status: *status,
            detail: shortened(detail.into()),
            help: (*help).into(),
            errors: Vec::new(),
            nearest: Vec::new(),
            dispatch: None,
            retry_after: None,
            attempts: Vec::new(),
        }
    }

    /// As an operator sees it: with what the engines said.
    fn for_operator(mut self) -> Problem {
        if !self.attempts.is_empty() {
            self.detail = self.attempts.iter().map(FailedAttempt::for_operators).collect::<Vec<_>>().join("; ");
            let error = |a: &FailedAttempt| json!({"engine": a.engine, "cause": a.cause, "detail": a.detail});
            self.errors = self.attempts.iter().map(error).collect();
        }
        self
    }

    /// The fault of one member or parameter, by JSON Pointer (RFC 6901).
    pub(crate) fn at(slug: &str, pointer: &str, detail: impl Into<String>) -> Problem {
        let mut problem = Problem::new(slug, detail);
        problem.errors.push(json!({"pointer": pointer, "detail": problem.detail}));
        problem
    }

    /// A fault that serde found in a JSON body.
    pub(crate) fn of_json(error: &serde_json::Error) -> Problem {
        let slug = if error.to_string().starts_with("unknown field") { "unknown-member" } else { "bad-request" };
        let mut problem = Problem::new(slug, error.to_string());
        problem.errors.push(json!({"line": error.line(), "column": error.column(), "detail": problem.detail}));
        problem
    }
}

/// Bytes of a detail: what a caller sent is not repeated at length.
const LONGEST_DETAIL: usize = 1_000;

fn shortened(mut detail: String) -> String {
    if detail.len() > LONGEST_DETAIL {
        let ends = (detail.floor_char_boundary(LONGEST_DETAIL * 3 / 4), detail.ceil_char_boundary(detail.len() - 200));
        detail = format!("{} … {}", &detail[..ends.0], &detail[ends.1..]);
    }
    detail
}

/// What several failed attempts come to: the worst that waiting could mend
/// decides between "later" and "not at all".
fn of_attempts(dispatch: String, attempts: &[FailedAttempt]) -> Problem {
    let causes = attempts.iter().map(FailedAttempt::for_anybody).collect::<Vec<_>>().join("; ");
    let mut problem = Problem::new("engines-failed", causes);
    let all = |causes: &[Cause]| attempts.iter().all(|attempt| causes.contains(&attempt.cause));
    if all(&[Cause::Throttled, Cause::Quota]) {
        problem.status = 503;
        problem.retry_after =
            Some(attempts.iter().filter_map(|a| a.retry_after).min().map_or(1, |after| after.as_secs().max(1)));
    } else if all(&[Cause::TimedOut]) {
        problem.status = 504;
    } else if all(&[Cause::Absent, Cause::Unavailable]) {
        problem.status = 503;
    }
    problem.errors = attempts.iter().map(|a| json!({"engine": a.engine, "cause": a.cause})).collect();
    problem.attempts = attempts.to_vec();
    problem.dispatch = Some(dispatch);
    problem
}

/// The member of a request that asks for a control.
fn pointer_of(control: &str) -> String {
    match control {
        "rate" | "pitch" | "volume" => format!("/prosody/{control}"),
        _ => format!("/{control}"),
    }
}

impl From<GatewayError> for Problem {
    fn from(error: GatewayError) -> Problem {
        let text = error.to_string();
        match error {
            GatewayError::NoKey => Problem::new("no-key", text),
            GatewayError::BadKey(_) => Problem::new("bad-key", text),
            GatewayError::Markup(fault) | GatewayError::Lexicon(fault) => {
                let mut problem = Problem::new("markup", text);
                problem.errors.push(json!({"line": fault.line, "column": fault.column, "detail": fault.message}));
                problem
            }
            GatewayError::Unsupported(items) => {
                let mut problem = Problem::new("unsupported", text);
                problem.errors = items.iter().filter_map(|item| serde_json::to_value(item).ok()).collect();
                problem
            }
            GatewayError::Uncontrolled { adjustments, .. } => {
                let mut problem = Problem::new("unsupported", text);
                let lost = adjustments.iter().filter(|it| it.done != dispatcher_core::Done::Native);
                problem.errors = lost
                    .map(|it| json!({"pointer": pointer_of(it.control), "detail": format!("{}: {}", it.control, it.note)}))
                    .collect();
                problem
            }
            GatewayError::Plan(plan) => {
                let (slug, nearest) = match plan {
                    PlanError::NoSuchVoice { nearest, .. } | PlanError::NoVoiceFits { nearest } => {
                        ("no-such-voice", nearest)
                    }
                    PlanError::NoSuchEngine { nearest, .. } => ("no-such-engine", nearest),
                    PlanError::NoSuchModel { models, .. } => ("invalid", models),
                    _ => ("invalid", Vec::new()),
                };
                Problem { nearest, ..Problem::new(slug, text) }
            }
            GatewayError::Sheet(fault) => {
                let mut problem = Problem::new("sheet", text);
                problem.errors.push(
                    json!({"line": fault.line, "column": fault.column, "key": fault.key, "detail": fault.message}),
                );
                problem
            }
            GatewayError::InUse { .. } => Problem::new("in-use", text),
            GatewayError::NoCatalogue(_) => Problem::new("invalid", text),
            GatewayError::CatalogueUnread { .. } => Problem::new("engines-failed", text),
            GatewayError::NoSuchEngine { nearest, .. } => Problem { nearest, ..Problem::new("no-such-engine", text) },
            GatewayError::TooLong { unit: "characters" | "bytes", .. } => Problem::new("text-too-long", text),
            GatewayError::LongUtterance { .. } | GatewayError::TooManyParts { .. } => {
                Problem::new("text-too-long", text)
            }
            GatewayError::TooLong { .. } => Problem::new("audio-too-long", text),
            GatewayError::NotAudio(_) => Problem::new("not-audio", text),
            GatewayError::Format(_) => Problem::new("not-acceptable", text),
            GatewayError::NameTaken { .. }
            | GatewayError::MixedCurrencies(..)
            | GatewayError::NothingWanted(_)
            | GatewayError::Credential(_)
            | GatewayError::Webhook(_)
            | GatewayError::Sound(_)
            | GatewayError::Route(_) => Problem::new("invalid", text),
            GatewayError::Stale { .. } | GatewayError::JobState(_) => Problem::new("not-ready", text),
            GatewayError::NoRoom { .. } => Problem::new("no-room", text),
            GatewayError::Quota { .. } => Problem::new("quota", text),
            GatewayError::Crowded { retry_after, .. } => {
                Problem { retry_after: Some(retry_after.as_secs().max(1)), ..Problem::new("crowded", text) }
            }
            GatewayError::Store(StoreError::Full) => Problem::new("no-room", text),
            GatewayError::AllFailed { dispatch, attempts } => of_attempts(dispatch, &attempts),
            GatewayError::Store(StoreError::Taken { .. }) => Problem::new("taken", text),
            GatewayError::Store(StoreError::Missing { .. }) => Problem::new("no-such-record", text),
            GatewayError::Store(StoreError::Ambiguous { .. }) => Problem::new("invalid", text),
            other => {
                tracing::error!(error = ?other, "internal error");
                Problem::new("internal", "the cause is in the service's log")
            }
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Problem {
        GatewayError::Store(error).into()
    }
}

impl<'r> Responder<'r, 'static> for Problem {
    fn respond_to(mut self, request: &'r Request<'_>) -> response::Result<'static> {
        if crate::access::is_operator(request) {
            self = self.for_operator();
        }
        let base = request.rocket().state::<crate::launch::PublicUrl>().map(|url| url.0.clone()).unwrap_or_default();
        self.kind = format!("{base}/problems/{}", self.kind);
        let body = serde_json::to_vec(&self).unwrap_or_default();
        let mut response = Response::build()
            .status(Status::new(self.status))
            .header(ContentType::new("application", "problem+json"))
            .sized_body(body.len(), std::io::Cursor::new(body))
            .finalize();
        if self.status == 401 {
            response.set_header(Header::new("WWW-Authenticate", "Bearer realm=\"dispatcher\""));
        }
        if let Some(seconds) = self.retry_after {
            response.set_header(Header::new("Retry-After", seconds.to_string()));
        }
        Ok(response)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn attempt(cause: Cause) -> FailedAttempt {
        FailedAttempt { engine: "heron".into(), cause, detail: "x".into(), retry_after: None }
    }

    #[test]
    fn a_detail_does_not_repeat_what_was_sent_at_length() {
        let body = format!("{{\"audio\": \"{}\"}}", "Å".repeat(80_000));
        let error = serde_json::from_str::<crate::wire::TranscriptRequest>(&body).expect_err("a wrong type");
        let problem = Problem::of_json(&error);
        let text = serde_json::to_string(&problem).expect("JSON");
        assert!(text.len() < 3_000, "{} bytes", text.len());
        assert!(problem.detail.contains("expected struct") && problem.detail.contains("line 1"), "{}", problem.detail);
    }

    #[test]
    fn statuses_tell_later_from_never() {
        let status =
            |causes: &[Cause]| of_attempts("d".into(), &causes.iter().map(|c| attempt(*c)).collect::<Vec<_>>()).status;
        assert_eq!(status(&[Cause::Throttled]), 503);
        assert_eq!(status(&[Cause::Unavailable, Cause::Absent]), 503);
        assert_eq!(status(&[Cause::TimedOut]), 504);
        assert_eq!(status(&[Cause::Throttled, Cause::Unauthorized]), 502);
    }

    #[test]
    fn what_an_engine_said_is_for_operators_alone() {
        let said = FailedAttempt { detail: "status 500: the key canary-4711".into(), ..attempt(Cause::Unavailable) };
        let problem = of_attempts("d".into(), &[said]);
        let shown = serde_json::to_string(&problem).expect("JSON");
        assert!(!shown.contains("canary") && shown.contains("heron: unavailable"), "{shown}");
        let shown = serde_json::to_string(&problem.for_operator()).expect("JSON");
        assert!(shown.contains("canary"), "{shown}");
    }

    #[test]
    fn every_kind_is_found_by_its_own_slug() {
        for (slug, status, title, _) in KINDS {
            let problem = Problem::new(slug, "x");
            assert_eq!((problem.kind.as_str(), problem.status, problem.title.as_str()), (slug, status, title));
        }
        assert_eq!(Problem::new("not a kind", "x").kind, "internal");
    }
}
