//! Tokens.

use dispatcher_core::Money;
use dispatcher_gateway::TokenView;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, rfc3339, thousandths};

/// A new token.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TokenRequest {
    /// Note on its purpose.
    #[serde(default)]
    pub(crate) label: String,
    /// `speak`, `transcribe` or `caption`.
    pub(crate) calls: Vec<String>,
    /// Routes that it allows. Default: all that the app may use.
    #[serde(default)]
    pub(crate) routes: Vec<String>,
    /// Only pages of this origin may use it; one of the origins of the app. Default: programs, and pages of
    /// all origins of the app.
    pub(crate) origin: Option<String>,
    /// Characters of text that may be spoken.
    pub(crate) characters: Option<u64>,
    /// Seconds of audio that may be recognised.
    pub(crate) seconds: Option<f64>,
    /// Money that may be charged.
    #[schema(value_type = Option<Amount>)]
    pub(crate) cost: Option<Money>,
    /// For whom its requests are, in the words of the app: a number rather than a name. See `eraseApp`.
    pub(crate) end_user: Option<String>,
    /// Seconds until it expires: 10 to 2592000. Default: 900.
    pub(crate) expires_in: Option<u64>,
}

/// A token.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TokenAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) label: String,
    pub(crate) calls: Vec<String>,
    pub(crate) routes: Vec<String>,
    pub(crate) origin: Option<String>,
    pub(crate) characters: Option<u64>,
    pub(crate) seconds: Option<f64>,
    pub(crate) cost: Option<Amount>,
    /// For whom its requests are, in the words of the app.
    pub(crate) end_user: Option<String>,
    pub(crate) used: TokenUsedAnswer,
    pub(crate) created: String,
    pub(crate) expires: String,
    pub(crate) revoked: Option<String>,
    /// Only in the answer that makes the token.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) token: Option<String>,
}

/// What was used with a token.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TokenUsedAnswer {
    pub(crate) characters: u64,
    pub(crate) seconds: f64,
    /// By currency.
    pub(crate) costs: Vec<Amount>,
}

impl From<TokenView> for TokenAnswer {
    fn from(view: TokenView) -> Self {
        let TokenView { token, used } = view;
        let terms = token.terms();
        let seconds = |milliseconds: u64| thousandths(milliseconds as f64 / 1_000.0);
        TokenAnswer {
            id: token.id,
            app: token.app,
            label: token.label,
            calls: terms.calls.iter().map(|call| call.name().to_owned()).collect(),
            routes: terms.routes,
            origin: terms.origin,
            characters: terms.characters,
            seconds: terms.milliseconds.map(seconds),
            cost: terms.cost.map(Amount::from),
            end_user: terms.end_user,
            used: TokenUsedAnswer {
                characters: used.characters,
                seconds: seconds(used.milliseconds),
                costs: used.costs.amounts().iter().copied().filter(|cost| cost.nanos != 0).map(Amount::from).collect(),
            },
            created: rfc3339(token.made_at),
            expires: rfc3339(token.expires_at),
            revoked: token.revoked_at.map(rfc3339),
            token: None,
        }
    }
}
