//! What a key is granted: its calls, routes, engines, voices and networks. A key
//! without grants may do whatever its app may. Addresses are compared elsewhere.

use serde::{Deserialize, Serialize};

/// A group of calls that a key may be granted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyCall {
    /// Text to audio.
    Speak,
    /// A recording to text.
    Transcribe,
    /// Live recognition.
    Caption,
    /// Spoken exchanges.
    Exchange,
    /// Jobs and uploads.
    Jobs,
    /// Reading records, voices and files.
    Records,
    /// Changing what belongs to the app: tokens, prompt sets, vocabularies, clips.
    Manage,
}

impl KeyCall {
    /// All of them.
    pub const ALL: [KeyCall; 7] = [
        KeyCall::Speak,
        KeyCall::Transcribe,
        KeyCall::Caption,
        KeyCall::Exchange,
        KeyCall::Jobs,
        KeyCall::Records,
        KeyCall::Manage,
    ];

    /// The name in requests and records.
    pub fn name(self) -> &'static str {
        match self {
            KeyCall::Speak => "speak",
            KeyCall::Transcribe => "transcribe",
            KeyCall::Caption => "caption",
            KeyCall::Exchange => "exchange",
            KeyCall::Jobs => "jobs",
            KeyCall::Records => "records",
            KeyCall::Manage => "manage",
        }
    }

    /// The call of a name.
    pub fn of_name(name: &str) -> Option<KeyCall> {
        KeyCall::ALL.into_iter().find(|call| call.name() == name)
    }
}

/// The grants of a key. An empty list grants everything of its kind.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct KeyGrants {
    /// Calls.
    pub calls: Vec<KeyCall>,
    /// Routes that may be named.
    pub routes: Vec<String>,
    /// Engines that may be called, whatever a route says.
    pub engines: Vec<String>,
    /// Voices that may speak, as `engine/voice`.
    pub voices: Vec<String>,
}

/// Why a key does not serve a request.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum GrantRefusal {
    /// Another call than its own.
    #[error("the key is not granted this call; it is granted: {}", names(.0))]
    Call(Vec<KeyCall>),
    /// Another route than its own.
    #[error("the key is granted the routes {}; name one of them", .0.join(", "))]
    Route(Vec<String>),
    /// It comes from elsewhere.
    #[error("the key is not accepted from {0}")]
    Network(String),
    /// A token could do what the key may not.
    #[error("a key with grants makes no tokens; use a key of the app without grants")]
    Token,
}

fn names(calls: &[KeyCall]) -> String {
    calls.iter().map(|call| call.name()).collect::<Vec<_>>().join(", ")
}

impl KeyGrants {
    /// Whether everything is granted.
    pub fn is_whole(&self) -> bool {
        *self == KeyGrants::default()
    }

    /// Whether a call is granted.
    ///
    /// # Errors
    /// [`GrantRefusal::Call`] with the calls that are.
    pub fn check_call(&self, call: KeyCall) -> Result<(), GrantRefusal> {
        match self.calls.is_empty() || self.calls.contains(&call) {
            true => Ok(()),
            false => Err(GrantRefusal::Call(self.calls.clone())),
        }
    }

    /// Whether what is asked for by name is granted: a route, or a voice or
    /// recogniser that has a grant of its own.
    ///
    /// # Errors
    /// [`GrantRefusal::Route`] with the routes that are granted.
    pub fn check_route(&self, wanted: &str) -> Result<(), GrantRefusal> {
        let named = |list: &[String]| list.iter().any(|name| name == wanted);
        match self.routes.is_empty() || named(&self.routes) || named(&self.voices) || named(&self.engines) {
            true => Ok(()),
            false => Err(GrantRefusal::Route(self.routes.clone())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_listed_is_refused_and_an_empty_list_grants_all() {
        let whole = KeyGrants::default();
        assert!(whole.is_whole());
        for call in KeyCall::ALL {
            assert_eq!(whole.check_call(call), Ok(()));
            assert_eq!(KeyCall::of_name(call.name()), Some(call));
        }
        assert_eq!(KeyCall::of_name("Speak"), None);
        assert_eq!(whole.check_route("anything"), Ok(()));
        let list = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let grants = KeyGrants {
            calls: vec![KeyCall::Speak, KeyCall::Records],
            routes: list(&["quayside"]),
            engines: list(&["flite"]),
            voices: list(&["heron/pellin"]),
        };
        assert!(!grants.is_whole());
        assert_eq!(grants.check_call(KeyCall::Speak), Ok(()));
        let refusal = grants.check_call(KeyCall::Jobs).expect_err("not granted");
        assert_eq!(refusal.to_string(), "the key is not granted this call; it is granted: speak, records");
        for (wanted, granted) in
            [("quayside", true), ("heron/pellin", true), ("flite", true), ("heron/sable", false), ("harbour", false)]
        {
            assert_eq!(grants.check_route(wanted).is_ok(), granted, "{wanted}");
        }
    }
}
