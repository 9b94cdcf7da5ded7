//! The calls below `/api/v1`, a module for each kind of thing.

pub(crate) mod alerts;
pub(crate) mod allowances;
pub(crate) mod apps;
pub(crate) mod canaries;
mod comparison_report;
pub(crate) mod comparisons;
pub(crate) mod conversation;
pub(crate) mod credentials;
pub(crate) mod credits;
pub(crate) mod document_job;
pub(crate) mod engines;
pub(crate) mod estimates;
mod exchange_request;
pub(crate) mod exchanges;
pub(crate) mod health;
pub(crate) mod jobs;
mod json_audio;
pub(crate) mod kept_transcripts;
pub(crate) mod lexicons;
pub(crate) mod links;
pub(crate) mod live;
pub(crate) mod narration;
pub(crate) mod presets;
pub(crate) mod prompts;
pub(crate) mod provenance;
pub(crate) mod records;
pub(crate) mod retention;
pub(crate) mod routing;
pub(crate) mod service;
pub(crate) mod session;
mod shaping_wish;
mod socket;
mod speech_parameters;
mod speech_request;
mod spoken_sequence;
pub(crate) mod statements;
pub(crate) mod tariffs;
pub(crate) mod tokens;
mod transcript_form;
mod transcript_request;
pub(crate) mod transcript_rules;
pub(crate) mod transcripts;
pub(crate) mod uploads;
pub(crate) mod utterances;
pub(crate) mod voices;

use dispatcher_gateway::{Caller, Gateway};

use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// The app that is meant: the caller's own, or the one that an operator names
/// as `app`, the only parameter.
async fn app_of(caller: &Caller, meta: &Meta, gateway: &Gateway) -> Result<String, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let named = given.text("app");
    given.finish()?;
    let own = &caller.app.name;
    match named {
        None => Ok(own.clone()),
        Some(app) if app == *own => Ok(app),
        Some(app) if !caller.may_see(&app) => {
            Err(Problem::new(ProblemKind::NotAllowed, "another app is for operators and its owners"))
        }
        Some(app) => Ok(gateway.app(&app).await?.name),
    }
}

/// Small JSON bodies: records and texts. 2 MiB of text is hours of speech.
pub(crate) const SMALL_BODY: u64 = 2 << 20;
