//! Problem documents (RFC 9457): the one place where errors become answers.

use dispatcher_core::{Cause, MoneyError, PlanError};
use dispatcher_gateway::{FailedAttempt, GatewayError};
use dispatcher_store::StoreError;
use rocket::http::{ContentType, Header, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

use crate::problem_kind::{KindFacts, ProblemKind};

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
    pub(crate) fn new(kind: ProblemKind, detail: impl Into<String>) -> Problem {
        let KindFacts { slug, status, title, help } = kind.facts();
        Problem {
            kind: slug.into(),
            title: title.into(),
            status,
            detail: shortened(detail.into()),
            help: help.into(),
            errors: Vec::new(),
            nearest: Vec::new(),
            dispatch: None,
            retry_after: None,
            attempts: Vec::new(),
        }
    }

    /// As an operator sees it: with what the engines said.
    pub(crate) fn for_operator(mut self) -> Problem {
        if !self.attempts.is_empty() {
            self.detail = self.attempts.iter().map(FailedAttempt::for_operators).collect::<Vec<_>>().join("; ");
            let error = |a: &FailedAttempt| json!({"engine": a.engine, "cause": a.cause, "detail": a.detail});
            self.errors = self.attempts.iter().map(error).collect();
        }
        self
    }

    /// The fault of one member or parameter, by JSON Pointer (RFC 6901).
    pub(crate) fn at(kind: ProblemKind, pointer: &str, detail: impl Into<String>) -> Problem {
        let mut problem = Problem::new(kind, detail);
        problem.errors.push(json!({"pointer": pointer, "detail": problem.detail}));
        problem
    }

    /// The same fault for a member below another one.
    pub(crate) fn under(mut self, parent: &str) -> Problem {
        for error in &mut self.errors {
            if let Some(pointer) = error["pointer"].as_str() {
                error["pointer"] = json!(format!("{parent}{pointer}"));
            }
        }
        self
    }

    /// A fault that serde found in a JSON body.
    pub(crate) fn of_json(error: &serde_json::Error) -> Problem {
        let unknown = error.to_string().starts_with("unknown field");
        let kind = if unknown { ProblemKind::UnknownMember } else { ProblemKind::BadRequest };
        let mut problem = Problem::new(kind, error.to_string());
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
    let mut problem = Problem::new(ProblemKind::EnginesFailed, causes);
    let all = |causes: &[Cause]| attempts.iter().all(|attempt| causes.contains(&attempt.cause));
    if all(&[Cause::Throttled, Cause::Quota, Cause::BreakerOpen]) {
        problem.status = 503;
        let after = attempts.iter().filter_map(|attempt| attempt.retry_after).min();
        problem.retry_after = Some(after.map_or(1, |after| after.as_secs_f64().ceil().max(1.0) as u64));
    } else if all(&[Cause::TimedOut]) {
        problem.status = 504;
    } else if all(&[Cause::Absent, Cause::Unavailable, Cause::Throttled, Cause::BreakerOpen]) {
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
            GatewayError::NoKey => Problem::new(ProblemKind::NoKey, text),
            GatewayError::BadKey(_) => Problem::new(ProblemKind::BadKey, text),
            GatewayError::BadToken(_) => Problem::new(ProblemKind::BadToken, text),
            GatewayError::Allowance { retry_after, .. } => Problem {
                retry_after: retry_after.map(|wait| wait.as_secs().max(1)),
                ..Problem::new(ProblemKind::AllowanceUsed, text)
            },
            GatewayError::Grant(_) | GatewayError::ForeignEndUser => Problem::new(ProblemKind::NotAllowed, text),
            GatewayError::NoPerson => Problem::new(ProblemKind::SignedOut, text),
            GatewayError::Token(_) => Problem::new(ProblemKind::TokenTerms, text),
            GatewayError::NoSuchRoute(_) => Problem::new(ProblemKind::NoSuchRecord, text),
            GatewayError::Markup(fault) | GatewayError::Lexicon(fault) => {
                let mut problem = Problem::new(ProblemKind::Markup, text);
                problem.errors.push(json!({"line": fault.line, "column": fault.column, "detail": fault.message}));
                problem
            }
            GatewayError::Unsupported(items) => {
                let mut problem = Problem::new(ProblemKind::Unsupported, text);
                problem.errors = items.iter().filter_map(|item| serde_json::to_value(item).ok()).collect();
                problem
            }
            GatewayError::Uncontrolled { adjustments, .. } => {
                let mut problem = Problem::new(ProblemKind::Unsupported, text);
                let lost = adjustments.iter().filter(|it| it.done != dispatcher_core::Done::Native);
                problem.errors = lost
                    .map(|it| json!({"pointer": pointer_of(it.control), "detail": format!("{}: {}", it.control, it.note)}))
                    .collect();
                problem
            }
            GatewayError::Plan(plan) => {
                let (kind, nearest) = match plan {
                    PlanError::NoSuchVoice { nearest, .. } | PlanError::NoVoiceFits { nearest } => {
                        (ProblemKind::NoSuchVoice, nearest)
                    }
                    PlanError::NoSuchEngine { nearest, .. } => (ProblemKind::NoSuchEngine, nearest),
                    PlanError::NoSuchModel { models, .. } => (ProblemKind::Invalid, models),
                    PlanError::NoSuchRegion { nearest, .. } => (ProblemKind::Invalid, nearest),
                    PlanError::OtherWork { .. }
                    | PlanError::Unavailable { .. }
                    | PlanError::OutOfBounds { .. }
                    | PlanError::NoLeg { .. } => (ProblemKind::Invalid, Vec::new()),
                };
                Problem { nearest, ..Problem::new(kind, text) }
            }
            GatewayError::Sheet(fault) => {
                let mut problem = Problem::new(ProblemKind::Sheet, text);
                problem.errors.push(
                    json!({"line": fault.line, "column": fault.column, "key": fault.key, "detail": fault.message}),
                );
                problem
            }
            GatewayError::InUse { .. } => Problem::new(ProblemKind::InUse, text),
            GatewayError::NoCatalogue(_) => Problem::new(ProblemKind::Invalid, text),
            GatewayError::CatalogueUnread { .. } => Problem::new(ProblemKind::EnginesFailed, text),
            GatewayError::NoSuchEngine { nearest, .. } => {
                Problem { nearest, ..Problem::new(ProblemKind::NoSuchEngine, text) }
            }
            GatewayError::TooLong { unit: "characters" | "bytes", .. } => Problem::new(ProblemKind::TextTooLong, text),
            GatewayError::LongUtterance { .. } | GatewayError::TooManyParts { .. } => {
                Problem::new(ProblemKind::TextTooLong, text)
            }
            GatewayError::TooLong { .. } => Problem::new(ProblemKind::AudioTooLong, text),
            GatewayError::Live(_) | GatewayError::Narration(_) | GatewayError::OneChannel => {
                Problem::new(ProblemKind::Invalid, text)
            }
            GatewayError::NotStreamable(_) => Problem::new(ProblemKind::NotAcceptable, text),
            GatewayError::NotAudio(_) => Problem::new(ProblemKind::NotAudio, text),
            GatewayError::Format(_) => Problem::new(ProblemKind::NotAcceptable, text),
            GatewayError::Money(MoneyError::Overflow | MoneyError::Mixed(..)) => {
                tracing::error!(error = ?error, "internal error");
                Problem::new(ProblemKind::Internal, "the cause is in the service's log")
            }
            GatewayError::NameTaken { .. }
            | GatewayError::Money(_)
            | GatewayError::NoSuchWork { .. }
            | GatewayError::Statement(_)
            | GatewayError::NoMapping(_)
            | GatewayError::EmptyStatement
            | GatewayError::CreditName(_)
            | GatewayError::ComparedText { .. }
            | GatewayError::ComparedVoices { .. }
            | GatewayError::Rating(_)
            | GatewayError::OwnCurrency(_)
            | GatewayError::ManyRates { .. }
            | GatewayError::LongTariff { .. }
            | GatewayError::TextTariff(_)
            | GatewayError::MixedCurrencies(..)
            | GatewayError::NothingWanted(_)
            | GatewayError::ForeignOrigin { .. }
            | GatewayError::BadEndUser
            | GatewayError::RetentionDays(..)
            | GatewayError::Credential(_)
            | GatewayError::Webhook(_)
            | GatewayError::Sound(_)
            | GatewayError::Alert(_)
            | GatewayError::Canary(_)
            | GatewayError::ManyCanaries { .. }
            | GatewayError::NoMail
            | GatewayError::Mail(_)
            | GatewayError::Traces(_)
            | GatewayError::NoReplyHook(_)
            | GatewayError::NothingSaid
            | GatewayError::TurnsBySilence
            | GatewayError::Route(_) => Problem::new(ProblemKind::Invalid, text),
            GatewayError::ReplyHookElsewhere | GatewayError::OtherSite { .. } => {
                Problem::at(ProblemKind::Invalid, "/site", text)
            }
            GatewayError::Stale { .. } | GatewayError::NothingToAccept | GatewayError::JobState(_) => {
                Problem::new(ProblemKind::NotReady, text)
            }
            GatewayError::NoRoom { .. } => Problem::new(ProblemKind::NoRoom, text),
            GatewayError::Quota { .. } => Problem::new(ProblemKind::Quota, text),
            GatewayError::Crowded { retry_after, .. } => {
                Problem { retry_after: Some(retry_after.as_secs().max(1)), ..Problem::new(ProblemKind::Crowded, text) }
            }
            GatewayError::Store(StoreError::Full) => Problem::new(ProblemKind::NoRoom, text),
            GatewayError::AllFailed { dispatch, attempts } => of_attempts(dispatch, &attempts),
            GatewayError::Store(StoreError::Taken { .. }) => Problem::new(ProblemKind::Taken, text),
            GatewayError::Store(StoreError::Missing { .. }) => Problem::new(ProblemKind::NoSuchRecord, text),
            GatewayError::Store(StoreError::Changed { .. }) => Problem::new(ProblemKind::Changed, text),
            GatewayError::Fetch { .. } => Problem::at(ProblemKind::Invalid, "/url", text),
            GatewayError::TranscriptRule(fault) => Problem::at(ProblemKind::Invalid, &fault.at, text),
            GatewayError::Store(StoreError::Ambiguous { .. } | StoreError::ManyGroups(_)) => {
                Problem::new(ProblemKind::Invalid, text)
            }
            GatewayError::Store(
                StoreError::Open { .. }
                | StoreError::Database(_)
                | StoreError::Busy
                | StoreError::Document(_)
                | StoreError::Stopped,
            )
            | GatewayError::Vault(_)
            | GatewayError::Abandoned
            | GatewayError::Files { .. }
            | GatewayError::Document { .. }
            | GatewayError::NoFolder(_)
            | GatewayError::Worker(_)
            | GatewayError::Rehearsal(_)
            | GatewayError::CheckAudio(_)
            | GatewayError::NoEngineFormat(_)
            | GatewayError::Contradiction(_) => {
                tracing::error!(error = ?error, "internal error");
                Problem::new(ProblemKind::Internal, "the cause is in the service's log")
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
        let base =
            request.rocket().state::<crate::public_url::PublicUrl>().map(|url| url.0.clone()).unwrap_or_default();
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
}
