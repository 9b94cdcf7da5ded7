//! Credentials, without their secrets, and what is found out of them.

use dispatcher_gateway::CredentialView;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;

/// A new credential.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CredentialRequest {
    pub(crate) engine: String,
    /// Default: the name of the engine.
    pub(crate) name: Option<String>,
    /// The parts given in the engine's sheet.
    #[schema(value_type = Option<std::collections::BTreeMap<String, String>>)]
    pub(crate) parts: Option<dispatcher_vault::Parts>,
    /// Instead of parts: the text of a JSON key file, from which the parts are read as the
    /// sheet says.
    #[schema(value_type = Option<String>)]
    pub(crate) key_file: Option<secrecy::SecretString>,
    /// Last day of the credential, such as `2027-03-31`, for alerts.
    #[schema(example = "2027-03-31")]
    pub(crate) ends: Option<String>,
}

/// A credential, without its secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CredentialAnswer {
    pub(crate) name: String,
    pub(crate) engine: String,
    pub(crate) version: i64,
    pub(crate) state: String,
    pub(crate) cause: Option<String>,
    pub(crate) parts: Vec<String>,
    pub(crate) host: String,
    pub(crate) created: String,
    pub(crate) created_by: String,
    pub(crate) last_used: Option<String>,
    /// Last day, if it was given.
    pub(crate) ends: Option<String>,
    /// Whether it is the default credential of its engine.
    pub(crate) in_use: bool,
    /// Next steps after adding the credential.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) next: Option<String>,
}

impl From<CredentialView> for CredentialAnswer {
    fn from(view: CredentialView) -> Self {
        CredentialAnswer {
            name: view.name,
            engine: view.engine,
            version: view.version,
            state: view.state.to_string(),
            cause: view.cause,
            parts: view.parts,
            host: view.host,
            created: rfc3339(view.created_at),
            created_by: view.created_by,
            last_used: view.last_used_at.map(rfc3339),
            ends: view.ends_at.map(rfc3339),
            in_use: view.in_use,
            next: None,
        }
    }
}

/// Result of a check of a credential.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TrialAnswer {
    pub(crate) credential: CredentialAnswer,
    /// Null if it cannot be determined without cost.
    pub(crate) works: Option<bool>,
    pub(crate) cause: Option<String>,
    /// Explanation, with the next step.
    pub(crate) told: String,
    pub(crate) roles: Vec<String>,
    /// Roles that it does not need.
    pub(crate) more: Vec<String>,
    /// Roles that it needs and does not have.
    pub(crate) missing: Vec<String>,
}

impl From<dispatcher_gateway::CredentialCheck> for TrialAnswer {
    fn from(check: dispatcher_gateway::CredentialCheck) -> Self {
        TrialAnswer {
            credential: check.credential.into(),
            works: check.works,
            cause: check.cause.map(|cause| cause.name().to_owned()),
            told: check.told,
            roles: check.roles,
            more: check.more,
            missing: check.missing,
        }
    }
}

/// Result of a change of the root key.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RootAnswer {
    /// Number of credentials sealed again.
    pub(crate) credentials: usize,
}
