//! The calls below `/api/v1`, a module for each kind of thing.

pub(crate) mod apps;
pub(crate) mod catalogue;
pub(crate) mod credentials;
pub(crate) mod estimates;
pub(crate) mod profiles;
pub(crate) mod records;
pub(crate) mod service;
pub(crate) mod session;
mod speech_request;
pub(crate) mod transcripts;
pub(crate) mod utterances;

use rocket::Route;

/// Small JSON bodies: records and texts. 2 MiB of text is hours of speech.
pub(crate) const SMALL_BODY: u64 = 2 << 20;

/// Everything below `/api/v1`.
pub(crate) fn routes() -> Vec<Route> {
    rocket::routes![
        utterances::speak,
        transcripts::recognise,
        estimates::estimate,
        catalogue::voices,
        catalogue::voice,
        catalogue::voice_by_id,
        catalogue::engines,
        catalogue::engine,
        catalogue::check_engine,
        records::routes,
        records::route,
        records::put_route,
        records::dispatches,
        records::dispatch,
        records::usage,
        records::audit,
        records::overview,
        profiles::list,
        profiles::read,
        profiles::put_profile,
        profiles::retire,
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
        session::sign_in,
        session::read,
        session::sign_out,
        session::put_person,
    ]
}
