//! The table of calls: where each is mounted, who may call it, and whether the
//! OpenAPI document has it. A call that is added here is mounted, guarded and
//! documented; one that is not here does not exist.

use std::collections::HashMap;
use std::sync::LazyLock;

use rocket::http::Method;
use rocket::{Build, Rocket, Route};
use utoipa::OpenApi;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};

use crate::access::Need;
use crate::api::{
    alerts, allowances, apps, canaries, comparisons, conversation, credentials, credits, document_job, engines,
    estimates, exchanges, health, jobs, kept_transcripts, lexicons, links, live, narration, presets, prompts,
    provenance, records, retention, routing, service, session, statements, tariffs, tokens, transcript_rules,
    transcripts, uploads, utterances, voices,
};
use crate::{console, openapi, origins};

macro_rules! routes {
    (
        documented { $($base:literal, $need:ident { $($module:ident::$call:ident),+ $(,)? })+ }
        others { $($other_base:literal, $other_need:ident { $($other_module:ident::$other_call:ident),+ $(,)? })+ }
    ) => {
        fn table() -> Vec<(&'static str, Need, Vec<Route>)> {
            vec![
                $(($base, Need::$need, rocket::routes![$($module::$call),+]),)+
                $(($other_base, Need::$other_need, rocket::routes![$($other_module::$other_call),+]),)+
            ]
        }

        /// The OpenAPI document, the rest of which is in the handlers.
        #[derive(OpenApi)]
        #[openapi(
            info(
                title = "Dispatcher",
                description = "One API for many speech engines. Send a key as Authorization: Bearer KEY.",
                license(name = "MIT", identifier = "MIT")
            ),
            paths($($($module::$call),+),+),
            modifiers(&Security)
        )]
        pub(crate) struct Document;
    };
}

routes! {
    documented {
        "/api/v1", Speak {
            utterances::speak, utterances::speak_address, narration::narrate,
        }
        "/api/v1", Transcribe {
            transcripts::recognise,
        }
        "/api/v1", Caption {
            live::live,
        }
        "/api/v1", Exchange {
            exchanges::exchange, conversation::converse,
        }
        "/api/v1", Link {
            jobs::file, jobs::archive, prompts::file, prompts::archive, lexicons::clip, links::answer,
        }
        "/api/v1", Key {
            links::make,
            exchanges::list,
            tokens::list, tokens::add, tokens::revoke,
            allowances::list,
            kept_transcripts::list, kept_transcripts::read, kept_transcripts::correct, kept_transcripts::remove,
            kept_transcripts::compare,
            transcript_rules::vocabulary, transcript_rules::put_vocabulary, transcript_rules::add_word,
            transcript_rules::vocabulary_versions, transcript_rules::try_rules,
            transcript_rules::phrases, transcript_rules::put_phrases, transcript_rules::phrases_versions,
            transcript_rules::masks, transcript_rules::masks_versions,
            estimates::estimate,
            jobs::webhook_key,
            comparisons::list, comparisons::read, comparisons::audio, comparisons::rate, comparisons::report,
            comparisons::remove,
            voices::voices, voices::voice, voices::voice_by_id,
            engines::engines, engines::engine, engines::schema,
            routing::list, routing::read, records::dispatches, records::dispatch, records::usage,
            lexicons::list, lexicons::read, lexicons::clips, lexicons::keep_clip,
            lexicons::remove_clip,
            presets::formats, presets::list, presets::read,
            prompts::list, prompts::read, prompts::put_set, prompts::remove, prompts::make, prompts::approve,
        }
        "/api/v1", Job {
            document_job::speak_document,
            jobs::jobs, jobs::job, jobs::events, jobs::cancel, jobs::resume, jobs::remove,
            uploads::begin, uploads::read, uploads::append, uploads::remove,
        }
        "/api/v1", Listen {
            voices::sample, comparisons::compare,
        }
        "/api/v1", Owner {
            apps::list, apps::read, apps::keys, apps::add_key, apps::revoke_key,
        }
        "/api/v1", Person {
            session::sign_out, session::put_person,
        }
        "/api/v1", Operator {
            voices::mark, voices::unmark,
            engines::put_engine, engines::retire_engine, engines::check_engine, engines::sheet, engines::put_sheet,
            engines::draft_engine, engines::catalogue, engines::refresh,
            routing::put, routing::retire, routing::versions, routing::try_route, records::audit, records::overview,
            records::check_ledger,
            health::measured, health::breakers, health::close,
            alerts::list, alerts::read, alerts::put_alert, alerts::retire, alerts::try_alert, alerts::notices,
            alerts::events,
            canaries::list, canaries::read, canaries::put_canary, canaries::retire, canaries::runs, canaries::run,
            canaries::accept,
            lexicons::versions, lexicons::put_lexicon, lexicons::add_lexicon_word, lexicons::retire,
            presets::put_preset, presets::retire, transcript_rules::put_masks,
            apps::add, apps::change, apps::erase,
            allowances::add, allowances::remove,
            statements::mapping, statements::put_mapping, statements::reconcile,
            credits::list, credits::put_credit, credits::retire_credit,
            credits::rates, credits::put_rates, credits::retire_rates,
            retention::list, retention::set, retention::end, retention::remove,
            tariffs::list, tariffs::put_tariff, tariffs::retire, tariffs::versions,
            credentials::list, credentials::add, credentials::revoke, credentials::check, credentials::confirm,
            credentials::change_root,
            session::people, session::remove_person,
        }
        "/api/v1", Nothing {
            session::sign_in, session::read, provenance::key,
        }
        "/", Nothing {
            service::health, service::metrics,
        }
    }
    others {
        "/api/v1", Speak {
            utterances::head,
        }
        "/api/v1", Nothing {
            origins::preflight,
        }
        "/", Nothing {
            openapi::serve, openapi::messages, console::root, console::any, console::link, console::problems, console::problem,
            console::reference,
        }
    }
}

struct Security;

impl utoipa::Modify for Security {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let key = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        document.components.get_or_insert_default().add_security_scheme("key", key);
    }
}

/// Mounts every call of the table.
pub(crate) fn mount(rocket: Rocket<Build>) -> Rocket<Build> {
    table().into_iter().fold(rocket, |rocket, (base, _, routes)| rocket.mount(base, routes))
}

/// Every call in the table's order: method, path without the query, need.
fn calls() -> impl Iterator<Item = (Method, String, Need)> {
    table().into_iter().flat_map(|(base, need, routes)| {
        routes.into_iter().map(move |route| {
            let path = format!("{}{}", base.trim_end_matches('/'), path_of(&route.uri.to_string()));
            (route.method, path, need)
        })
    })
}

static NEEDS: LazyLock<HashMap<(Method, String), Need>> =
    LazyLock::new(|| calls().map(|(method, path, need)| ((method, path), need)).collect());

fn path_of(pattern: &str) -> &str {
    pattern.split('?').next().unwrap_or_default()
}

/// The need of a call by method and pattern; the strictest where unknown.
pub(crate) fn need(method: Method, pattern: &str) -> Need {
    NEEDS.get(&(method, path_of(pattern).to_owned())).copied().unwrap_or(Need::Operator)
}

/// Whether a path, as it would stand in an address, is of something that may
/// be linked.
pub(crate) fn is_linkable(path: &str) -> bool {
    let clean = path.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"/-._~%".contains(&byte));
    let parts: Vec<&str> = path.split('/').collect();
    let fits = |pattern: &str| {
        let wanted: Vec<&str> = pattern.split('/').collect();
        wanted.len() == parts.len()
            && wanted.iter().zip(&parts).all(|(wanted, part)| match wanted.starts_with('<') {
                true => !part.is_empty() && *part != "." && *part != "..",
                false => wanted == part,
            })
    };
    clean
        && NEEDS.iter().any(|((method, pattern), need)| *method == Method::Get && *need == Need::Link && fits(pattern))
}

/// Every call with what it needs, for tests that try them all.
#[cfg(test)]
pub(crate) fn all() -> Vec<(Method, String, Need)> {
    calls().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_in_the_table_is_for_operators() {
        assert_eq!(need(Method::Get, "/api/v1/secrets"), Need::Operator);
        assert_eq!(need(Method::Post, "/api/v1/utterances"), Need::Speak);
        assert_eq!(need(Method::Post, "/api/v1/tokens"), Need::Key);
        assert_eq!(need(Method::Delete, "/api/v1/utterances"), Need::Operator);
        assert_eq!(need(Method::Get, "/api/v1/usage?<other..>"), Need::Key);
        assert_eq!(need(Method::Get, "/health"), Need::Nothing);
        assert_eq!(need(Method::Get, "/"), Need::Nothing);
    }

    #[test]
    fn files_clips_and_archives_may_be_linked_and_nothing_else() {
        for path in
            ["/api/v1/jobs/7/files/a.mp3", "/api/v1/jobs/7/archive", "/api/v1/prompt-sets/helpline/files/a%20b.wav"]
        {
            assert!(is_linkable(path), "{path}");
        }
        for path in [
            "/api/v1/jobs/7",
            "/api/v1/jobs/../archive",
            "/api/v1/jobs//archive",
            "/api/v1/jobs/7/files/a.mp3?x=1",
            "/api/v1/jobs/7/files/a.mp3\napp",
            "/api/v1/apps/quay",
            "https://elsewhere.example/api/v1/jobs/7/archive",
            "",
        ] {
            assert!(!is_linkable(path), "{path}");
        }
    }

    /// Their rights are written here once more: a call that is moved to another
    /// group by mistake is found.
    #[test]
    fn what_changes_engines_apps_people_or_secrets_is_for_operators() {
        let of_owners = ["/api/v1/apps", "/api/v1/apps/<name>", "/api/v1/apps/<name>/keys"];
        let guarded = [
            "/api/v1/apps",
            "/api/v1/tariffs/",
            "/api/v1/credentials",
            "/api/v1/people",
            "/api/v1/root-key",
            "/api/v1/audit",
            "/api/v1/retention",
        ];
        let open = [
            (Method::Get, "/api/v1/session"),
            (Method::Post, "/api/v1/session"),
            // A public key, for whoever checks a file.
            (Method::Get, "/api/v1/provenance-key"),
        ];
        for (method, path, need) in all() {
            let changes = !matches!(method, Method::Get | Method::Head);
            let of_engines = path.starts_with("/api/v1/engines") || path.starts_with("/api/v1/routes");
            let owners = of_owners.contains(&path.as_str()) && !changes;
            if owners || path.starts_with("/api/v1/apps/<name>/keys") {
                assert_eq!(need, Need::Owner, "{method} {path}");
            } else if (method, path.as_str()) == (Method::Put, "/api/v1/people/<name>") {
                // Its handler lets anybody but an operator change their own password alone.
                assert_eq!(need, Need::Person, "{method} {path}");
            } else if guarded.iter().any(|start| path.starts_with(start)) || (of_engines && changes) {
                assert_eq!(need, Need::Operator, "{method} {path}");
            }
            // What a browser asks before a request does nothing.
            let harmless = method == Method::Options;
            if path.starts_with("/api/v1") && !harmless && !open.contains(&(method, path.as_str())) {
                assert_ne!(need, Need::Nothing, "{method} {path}");
            }
        }
    }
}
