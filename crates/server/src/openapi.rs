//! The OpenAPI 3.1 document, from the code.

use rocket::serde::json::Json;
use rocket::{State, get};
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::{Modify, OpenApi};

use crate::api::{apps, catalogue, credentials, estimates, records, service, session, transcripts, utterances};
use crate::launch::PublicUrl;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Dispatcher",
        description = "One API for many engines that speak and listen. Keys go in Authorization: Bearer.",
        license(name = "MIT", identifier = "MIT")
    ),
    paths(
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
        service::health,
        service::metrics,
    ),
    modifiers(&Security)
)]
struct Document;

struct Security;

impl Modify for Security {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let key = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        document.components.get_or_insert_default().add_security_scheme("key", key);
    }
}

/// The document, without a server address.
pub fn document() -> utoipa::openapi::OpenApi {
    Document::openapi()
}

/// The document with the address of this service.
#[get("/api/openapi.json")]
pub(crate) fn serve(url: &State<PublicUrl>) -> Json<utoipa::openapi::OpenApi> {
    let mut document = document();
    document.servers = Some(vec![utoipa::openapi::Server::new(url.0.clone())]);
    Json(document)
}
