//! Why an attempt at an engine failed: a closed list, and what can help.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Who may still make the request succeed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Remedy {
    /// The same leg may be tried again a little later.
    SameLeg,
    /// Another engine may do better.
    NextLeg,
    /// The request itself is at fault.
    Nobody,
}

/// The cause of a failed attempt: those that `[[errors]]` of a sheet can give
/// ([`Cause::IN_SHEETS`]), and those that the gateway itself detects.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The engine refuses the request.
    Refused,
    /// The credential is not accepted.
    Unauthorized,
    /// The credential is new and not active yet.
    NotActiveYet,
    /// The credential belongs to another region.
    WrongRegion,
    /// The credential lacks a role.
    MissingRole,
    /// The account has unpaid bills.
    Unpaid,
    /// The limit of the account is reached.
    Quota,
    /// Too many requests at present.
    Throttled,
    /// The engine is down.
    Unavailable,
    /// The engine does not support the request.
    Unsupported,
    /// The engine did not understand the request.
    Malformed,
    /// No answer before the deadline.
    TimedOut,
    /// The answer was cut off, or is not what it states.
    Broken,
    /// There is no speech in the audio: no failure, but an empty transcript.
    NoSpeech,
    /// The engine is not installed on this host, or has no credential.
    Absent,
    /// The engine failed repeatedly and is not called for some time.
    BreakerOpen,
    /// The caller cancelled the request.
    Abandoned,
    /// No engine can fulfil the request.
    Unusable,
    /// The gateway itself failed, and not the engine.
    Internal,
}

impl Cause {
    /// The causes that a sheet may name.
    pub const IN_SHEETS: [Cause; 13] = [
        Cause::Refused,
        Cause::Unauthorized,
        Cause::NotActiveYet,
        Cause::WrongRegion,
        Cause::MissingRole,
        Cause::Unpaid,
        Cause::Quota,
        Cause::Throttled,
        Cause::Unavailable,
        Cause::Unsupported,
        Cause::Malformed,
        Cause::Broken,
        Cause::NoSpeech,
    ];

    /// Who can help.
    pub fn remedy(self) -> Remedy {
        match self {
            Cause::Throttled | Cause::Unavailable | Cause::NotActiveYet | Cause::BreakerOpen => Remedy::SameLeg,
            Cause::Abandoned | Cause::Unusable => Remedy::Nobody,
            _ => Remedy::NextLeg,
        }
    }

    /// Whether the engine refuses access or is missing, which a person can mend.
    pub fn is_of_access(self) -> bool {
        matches!(
            self,
            Cause::Unauthorized
                | Cause::NotActiveYet
                | Cause::WrongRegion
                | Cause::MissingRole
                | Cause::Unpaid
                | Cause::Absent
        )
    }

    /// The name used in sheets, records and answers.
    pub fn name(self) -> &'static str {
        match self {
            Cause::Refused => "refused",
            Cause::Unauthorized => "unauthorized",
            Cause::NotActiveYet => "not-active-yet",
            Cause::WrongRegion => "wrong-region",
            Cause::MissingRole => "missing-role",
            Cause::Unpaid => "unpaid",
            Cause::Quota => "quota",
            Cause::Throttled => "throttled",
            Cause::Unavailable => "unavailable",
            Cause::Unsupported => "unsupported",
            Cause::Malformed => "malformed",
            Cause::TimedOut => "timed-out",
            Cause::Broken => "broken",
            Cause::NoSpeech => "no-speech",
            Cause::Absent => "absent",
            Cause::BreakerOpen => "breaker-open",
            Cause::Abandoned => "abandoned",
            Cause::Unusable => "unusable",
            Cause::Internal => "internal",
        }
    }

    /// The cause of an HTTP status if the sheet has no rule for it.
    pub fn of_status(status: u16) -> Cause {
        match status {
            401 => Cause::Unauthorized,
            402 => Cause::Unpaid,
            403 => Cause::Refused,
            429 => Cause::Throttled,
            400 | 404 | 422 => Cause::Malformed,
            413 | 415 => Cause::Unsupported,
            408 | 504 => Cause::TimedOut,
            500.. => Cause::Unavailable,
            _ => Cause::Refused,
        }
    }
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
