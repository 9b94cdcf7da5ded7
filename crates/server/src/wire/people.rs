//! Apps, keys, and who is signed in.

use dispatcher_core::Site;
use dispatcher_gateway::{AccessKey, App, now_micros};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;

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
    pub(crate) created: String,
}

impl From<App> for AppAnswer {
    fn from(app: App) -> Self {
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
            apology: app.apology,
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
        KeyAnswer {
            state: state.into(),
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
}

/// A person who can sign in with a password.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PersonAnswer {
    pub(crate) name: String,
    /// When the person was added, or the password last changed.
    pub(crate) changed: String,
}

/// Who is signed in.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SessionAnswer {
    /// Null if nobody is signed in.
    pub(crate) person: Option<String>,
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

/// A person's new password.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonRequest {
    /// At least twelve characters.
    #[schema(value_type = String)]
    pub(crate) password: secrecy::SecretString,
}
