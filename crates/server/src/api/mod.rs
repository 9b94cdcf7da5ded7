//! The calls below `/api/v1`, a module for each kind of thing.

pub(crate) mod apps;
pub(crate) mod credentials;
pub(crate) mod document_job;
pub(crate) mod engines;
pub(crate) mod estimates;
pub(crate) mod jobs;
mod json_audio;
pub(crate) mod lexicons;
pub(crate) mod presets;
pub(crate) mod prompts;
pub(crate) mod records;
pub(crate) mod service;
pub(crate) mod session;
mod speech_request;
pub(crate) mod transcripts;
pub(crate) mod uploads;
pub(crate) mod utterances;
pub(crate) mod voices;

use rocket::Route;

/// Small JSON bodies: records and texts. 2 MiB of text is hours of speech.
pub(crate) const SMALL_BODY: u64 = 2 << 20;

/// Everything below `/api/v1`.
pub(crate) fn routes() -> Vec<Route> {
    rocket::routes![
        utterances::speak,
        transcripts::recognise,
        estimates::estimate,
        jobs::jobs,
        jobs::job,
        jobs::events,
        jobs::cancel,
        jobs::resume,
        jobs::remove,
        jobs::file,
        jobs::archive,
        jobs::webhook_key,
        document_job::speak_document,
        uploads::begin,
        uploads::read,
        uploads::append,
        uploads::remove,
        voices::voices,
        voices::voice,
        voices::voice_by_id,
        voices::mark,
        voices::unmark,
        voices::sample,
        engines::engines,
        engines::engine,
        engines::put_engine,
        engines::retire_engine,
        engines::check_engine,
        engines::sheet,
        engines::put_sheet,
        engines::draft_engine,
        engines::catalogue,
        engines::refresh,
        engines::schema,
        records::routes,
        records::route,
        records::put_route,
        records::retire_route,
        records::dispatches,
        records::dispatch,
        records::usage,
        records::audit,
        records::overview,
        lexicons::list,
        lexicons::read,
        lexicons::versions,
        lexicons::put_lexicon,
        lexicons::retire,
        lexicons::clips,
        lexicons::keep_clip,
        lexicons::clip,
        lexicons::remove_clip,
        presets::formats,
        presets::list,
        presets::read,
        presets::put_preset,
        presets::retire,
        prompts::list,
        prompts::read,
        prompts::put_set,
        prompts::remove,
        prompts::make,
        prompts::approve,
        prompts::file,
        prompts::archive,
        apps::list,
        apps::add,
        apps::read,
        apps::change,
        apps::keys,
        apps::add_key,
        apps::revoke_key,
        credentials::list,
        credentials::add,
        credentials::revoke,
        credentials::check,
        credentials::confirm,
        credentials::change_root,
        session::sign_in,
        session::read,
        session::sign_out,
        session::put_person,
        session::people,
        session::remove_person,
    ]
}
