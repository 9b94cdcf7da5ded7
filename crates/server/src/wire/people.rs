//! Apps, keys, and who is signed in.

use dispatcher_core::{KeyCall, KeyGrants, Site};
use dispatcher_gateway::{AccessKey, App, Disclosure, Erasure, ErasureMode, Person, PersonRole, now_micros};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// An app.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AppAnswer {
    pub(crate) name: String,
    pub(crate) title: String,
    pub(crate) rehearsal: bool,
    pub(crate) default_voice: Option<String>,
    pub(crate) default_recognition: Option<String>,
    pub(crate) default_format: Option<String>,
    /// Custom voices that the app may use, as `engine/voice`.
    pub(crate) custom_voices: Vec<String>,
    /// `local` or `cloud`: where the engines of its requests must run.
    pub(crate) site: Option<&'static str>,
    /// Region of the engines.
    pub(crate) region: Option<String>,
    /// `off`, `private` or `shared`: which answers are kept.
    pub(crate) recall: &'static str,
    /// Maximum number of its requests per minute; null: no limit.
    pub(crate) per_minute: Option<i64>,
    /// Maximum number of its requests at once; null: no limit.
    pub(crate) at_once: Option<i64>,
    /// Days that its transcripts are kept; null: they are not kept.
    pub(crate) transcript_days: Option<i64>,
    /// Language of its recordings, for requests that give none.
    pub(crate) language: Option<String>,
    /// Origins whose pages may call for it with its tokens.
    pub(crate) origins: Vec<String>,
    /// URL that is asked for the reply in its exchanges.
    pub(crate) reply_hook: Option<String>,
    /// Text that is spoken if the hook fails, stalls or goes on for too long.
    pub(crate) apology: Option<String>,
    /// Where its answers say that they are synthetic speech: `header`, `tag`.
    pub(crate) disclosure: Vec<&'static str>,
    /// Text that is spoken before its texts.
    pub(crate) notice: Option<String>,
    pub(crate) created: String,
}

impl From<App> for AppAnswer {
    fn from(app: App) -> Self {
        let places = Disclosure::ALL.iter().copied().filter(|place| app.discloses_in(*place));
        let places: Vec<Disclosure> = places.collect();
        AppAnswer {
            name: app.name,
            title: app.title,
            rehearsal: app.rehearsal,
            default_voice: app.default_voice,
            default_recognition: app.default_recognition,
            custom_voices: app.custom_voices.iter().flat_map(|it| it.lines()).map(str::to_owned).collect(),
            default_format: app.default_format,
            site: app.site.map(Site::name),
            region: app.region,
            recall: app.recall.name(),
            per_minute: app.per_minute,
            at_once: app.at_once,
            transcript_days: app.transcript_days,
            language: app.language,
            origins: app.origins.iter().flat_map(|it| it.lines()).map(str::to_owned).collect(),
            reply_hook: app.reply_hook,
            disclosure: places.into_iter().map(Disclosure::name).collect(),
            apology: app.apology,
            notice: app.notice,
            created: rfc3339(app.created_at),
        }
    }
}

/// A new app, or changes to an app.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AppRequest {
    /// 1 to 40 small letters, digits and hyphens.
    pub(crate) name: Option<String>,
    pub(crate) title: Option<String>,
    /// The same calls and checks, but no engine is called and nothing is charged.
    #[serde(default)]
    pub(crate) rehearsal: bool,
    /// Voice or route for requests that give none.
    pub(crate) default_voice: Option<String>,
    /// Engine or route for recognition requests that give none.
    pub(crate) default_recognition: Option<String>,
    /// Audio format of requests that give none: preset, extension or media type. Default: WAV
    /// at 24 kHz.
    pub(crate) default_format: Option<String>,
    /// Custom voices that the app may use, as `engine/voice`.
    #[serde(default)]
    pub(crate) custom_voices: Vec<String>,
    /// `local` or `cloud`: nothing of its requests is sent to engines elsewhere.
    pub(crate) site: Option<String>,
    /// Region of the engines; engines without this region are not used.
    pub(crate) region: Option<String>,
    /// Whether audio is kept, so that equal requests are answered without an engine and cost
    /// nothing: `off` (default), `private` (for this app) or `shared` (among all apps that share).
    pub(crate) recall: Option<String>,
    /// Maximum number of its requests for speech and recognition per minute: 1 to 1000000 (default: no limit).
    pub(crate) per_minute: Option<i64>,
    /// Maximum number of such requests at once: 1 to 10000 (default: no limit).
    pub(crate) at_once: Option<i64>,
    /// Days that its transcripts are kept, to be read and corrected: 1 to 3650 (default: they are not kept).
    pub(crate) transcript_days: Option<i64>,
    /// BCP 47 tag of its recordings, for requests that give none.
    pub(crate) language: Option<String>,
    /// Origins whose pages may call for it with its tokens, such as `https://ferries.example`; at most 20.
    #[serde(default)]
    pub(crate) origins: Vec<String>,
    /// URL that is asked for the reply in its exchanges; its host must be in webhook_hosts.
    pub(crate) reply_hook: Option<String>,
    /// Text that is spoken if the hook fails, stalls or goes on for too long; at most 300 characters.
    pub(crate) apology: Option<String>,
    /// Where its answers say that they are synthetic speech: `header` (Dispatch-Synthetic) and `tag` (in the
    /// audio). Default: both.
    pub(crate) disclosure: Option<Vec<String>>,
    /// Text that is spoken before each of its texts, once in a live session or job, such as "This is a
    /// computer voice."; it is charged as the text is. At most 300 characters.
    pub(crate) notice: Option<String>,
}

/// What is erased of an app, or would be.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ErasureAnswer {
    /// Nothing was erased.
    pub(crate) dry_run: bool,
    pub(crate) transcripts: usize,
    pub(crate) exchanges: usize,
    pub(crate) comparisons: usize,
    /// Answers that were kept for recall, or for their Idempotency-Key.
    pub(crate) kept_answers: usize,
    /// Answers that could be fetched by a link.
    pub(crate) linked_answers: usize,
    /// Uploads that nobody used.
    pub(crate) uploads: usize,
    /// Finished jobs, with their files.
    pub(crate) jobs: usize,
    /// Jobs that are not over: they stay.
    pub(crate) running_jobs: usize,
    /// Tokens of the end user, which are revoked.
    pub(crate) tokens: usize,
    /// Dispatches that no longer name the end user.
    pub(crate) dispatches: usize,
}

impl ErasureAnswer {
    /// Of records; what lies in files is not counted yet.
    pub(crate) fn of(erasure: Erasure, mode: ErasureMode) -> Self {
        ErasureAnswer {
            dry_run: mode == ErasureMode::Count,
            transcripts: erasure.transcripts,
            exchanges: erasure.exchanges,
            comparisons: erasure.comparisons,
            kept_answers: erasure.kept_answers,
            linked_answers: 0,
            uploads: 0,
            jobs: erasure.jobs,
            running_jobs: erasure.running_jobs,
            tokens: erasure.tokens,
            dispatches: erasure.dispatches,
        }
    }
}

/// A key, without its secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct KeyAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) operator: bool,
    pub(crate) label: String,
    pub(crate) hint: String,
    pub(crate) created: String,
    pub(crate) last_used: Option<String>,
    pub(crate) revoked: Option<String>,
    /// `active`, `expired` or `revoked`.
    pub(crate) state: String,
    /// Maximum number of requests per minute; null: as the app.
    pub(crate) per_minute: Option<i64>,
    /// Maximum number of requests at once; null: as the app.
    pub(crate) at_once: Option<i64>,
    /// When it expires; null if it does not.
    pub(crate) expires: Option<String>,
    /// Granted calls; empty: all.
    pub(crate) calls: Vec<String>,
    /// Granted routes; empty: all.
    pub(crate) routes: Vec<String>,
    /// Granted engines; empty: all.
    pub(crate) engines: Vec<String>,
    /// Granted voices; empty: all.
    pub(crate) voices: Vec<String>,
    /// Networks that it is accepted from; empty: any.
    pub(crate) networks: Vec<String>,
    /// Only in the answer that adds the key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) key: Option<String>,
}

impl From<AccessKey> for KeyAnswer {
    fn from(key: AccessKey) -> Self {
        let state = match (key.revoked_at, key.has_expired(now_micros())) {
            (Some(_), _) => "revoked",
            (None, true) => "expired",
            (None, false) => "active",
        };
        let KeyGrants { calls, routes, engines, voices } = key.grants();
        KeyAnswer {
            state: state.into(),
            calls: calls.into_iter().map(|call| call.name().to_owned()).collect(),
            routes,
            engines,
            voices,
            networks: key.networks.iter().flat_map(|list| list.lines()).map(str::to_owned).collect(),
            id: key.id,
            app: key.app,
            operator: key.operator,
            label: key.label,
            hint: key.hint,
            created: rfc3339(key.created_at),
            last_used: key.last_used_at.map(rfc3339),
            revoked: key.revoked_at.map(rfc3339),
            per_minute: key.per_minute,
            at_once: key.at_once,
            expires: key.expires_at.map(rfc3339),
            key: None,
        }
    }
}

/// A new key.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct KeyRequest {
    #[serde(default)]
    pub(crate) label: String,
    /// Maximum number of requests for speech and recognition per minute: 1 to 1000000 (default: as the app).
    pub(crate) per_minute: Option<i64>,
    /// Maximum number of such requests at once: 1 to 10000 (default: as the app).
    pub(crate) at_once: Option<i64>,
    /// Seconds until it expires: 10 to 316224000 (default: it does not expire).
    pub(crate) expires_in: Option<u64>,
    /// Granted calls: `speak`, `transcribe`, `caption`, `exchange`, `jobs`, `records` (reading), `manage`
    /// (tokens, prompt sets, vocabularies, clips). Default: all.
    #[serde(default)]
    calls: Vec<String>,
    /// Granted routes; a request must name one of them (default: all).
    #[serde(default)]
    routes: Vec<String>,
    /// Granted engines; no other is called, whatever a route says (default: all).
    #[serde(default)]
    engines: Vec<String>,
    /// Granted voices, as `engine/voice` (default: all).
    #[serde(default)]
    voices: Vec<String>,
    /// Networks that the key is accepted from, in CIDR notation (RFC 4632), such as `10.1.0.0/16` (default: any).
    #[serde(default)]
    networks: Vec<String>,
}

/// Entries of each list of grants.
const MOST_GRANTS: usize = 100;

impl KeyRequest {
    /// Its grants and networks.
    pub(crate) fn grants(&self) -> Result<(KeyGrants, Vec<IpNet>), Problem> {
        let lists = [
            ("/calls", &self.calls),
            ("/routes", &self.routes),
            ("/engines", &self.engines),
            ("/voices", &self.voices),
            ("/networks", &self.networks),
        ];
        let invalid = |pointer: &str, detail: String| Problem::at(ProblemKind::Invalid, pointer, detail);
        for (pointer, list) in lists {
            if list.len() > MOST_GRANTS {
                return Err(invalid(pointer, format!("a list of grants has at most {MOST_GRANTS} entries")));
            }
            if let Some(odd) = list.iter().find(|name| name.is_empty() || name.chars().any(char::is_control)) {
                return Err(invalid(pointer, format!("'{}' is no name", odd.escape_default())));
            }
        }
        let mut calls = Vec::new();
        for (number, name) in self.calls.iter().enumerate() {
            let known = || KeyCall::ALL.map(KeyCall::name).join(", ");
            let wrong = || invalid(&format!("/calls/{number}"), format!("a call is one of {}, not '{name}'", known()));
            calls.push(KeyCall::of_name(name).ok_or_else(wrong)?);
        }
        let mut networks = Vec::new();
        for (number, network) in self.networks.iter().enumerate() {
            let detail = || format!("'{network}' is not a network such as 10.1.0.0/16 or 192.0.2.7/32");
            networks.push(network.parse().map_err(|_| invalid(&format!("/networks/{number}"), detail()))?);
        }
        let (routes, engines, voices) = (self.routes.clone(), self.engines.clone(), self.voices.clone());
        Ok((KeyGrants { calls, routes, engines, voices }, networks))
    }
}

/// A person who can sign in with a password.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PersonAnswer {
    pub(crate) name: String,
    /// `operator`, `app-owner` or `auditor`.
    pub(crate) role: &'static str,
    /// Apps of an app owner.
    pub(crate) apps: Vec<String>,
    /// When the person was added or last changed.
    pub(crate) changed: String,
}

impl From<Person> for PersonAnswer {
    fn from(person: Person) -> Self {
        PersonAnswer {
            name: person.name,
            role: person.role.name(),
            apps: person.apps.iter().flat_map(|apps| apps.lines()).map(str::to_owned).collect(),
            changed: rfc3339(person.changed_at),
        }
    }
}

/// Who is signed in.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SessionAnswer {
    /// Null if nobody is signed in.
    pub(crate) person: Option<String>,
    /// `operator`, `app-owner` or `auditor`; null if nobody is signed in.
    pub(crate) role: Option<&'static str>,
    /// Apps of an app owner.
    pub(crate) apps: Vec<String>,
    pub(crate) version: String,
}

/// Signing in: a person and password, or an operator key.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignInRequest {
    pub(crate) person: Option<String>,
    #[schema(value_type = Option<String>)]
    pub(crate) password: Option<secrecy::SecretString>,
    #[schema(value_type = Option<String>)]
    pub(crate) key: Option<secrecy::SecretString>,
}

/// A person to be added, or changes to a person.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonRequest {
    /// At least twelve characters; required for a new person.
    #[schema(value_type = Option<String>)]
    pub(crate) password: Option<secrecy::SecretString>,
    /// `operator`: everything. `app-owner`: what keys of `apps` may do, the records of these apps, and their
    /// keys. `auditor`: reads everything and changes nothing. Default: unchanged, or operator for a new person.
    pub(crate) role: Option<String>,
    /// The apps of an app owner; the first is the one that the person works for.
    pub(crate) apps: Option<Vec<String>>,
}

/// Apps of an app owner.
const MOST_APPS: usize = 100;

impl PersonRequest {
    /// The role and its apps, where one is given.
    pub(crate) fn role(&self) -> Result<Option<(PersonRole, Vec<String>)>, Problem> {
        let invalid = |pointer: &str, detail: String| Problem::at(ProblemKind::Invalid, pointer, detail);
        let apps = self.apps.clone().unwrap_or_default();
        let Some(word) = &self.role else {
            return match apps.is_empty() {
                true => Ok(None),
                false => Err(invalid("/apps", "apps are given with the role app-owner".into())),
            };
        };
        let known = || PersonRole::ALL.iter().map(|role| role.name()).collect::<Vec<_>>().join(", ");
        let role = PersonRole::from_name(word)
            .ok_or_else(|| invalid("/role", format!("a role is one of {}, not '{word}'", known())))?;
        match (role == PersonRole::AppOwner, apps.len()) {
            (true, 0) => Err(invalid("/apps", "an app owner has at least one app".into())),
            (true, count) if count > MOST_APPS => {
                Err(invalid("/apps", format!("an app owner has at most {MOST_APPS} apps")))
            }
            (false, count) if count > 0 => Err(invalid("/apps", format!("the role {word} is for all apps"))),
            // Its keys are operator keys.
            (true, _) if apps.iter().any(|app| app == "console") => {
                Err(invalid("/apps", "the app console has no owner; make the person an operator".into()))
            }
            _ => Ok(Some((role, apps))),
        }
    }
}
