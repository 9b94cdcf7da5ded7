//! What a token allows: its calls, its routes, its page, and how much may be
//! used with it. When it ends, and who holds it, is known elsewhere.

use serde::{Deserialize, Serialize};

use crate::{AmountsUsed, Currency, Money, RequestShare};

/// A call that a token may be for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TokenCall {
    /// Text to audio.
    Speak,
    /// A recording to text.
    Transcribe,
    /// Live recognition.
    Caption,
    /// A spoken exchange.
    Exchange,
}

impl TokenCall {
    /// All of them.
    pub const ALL: [TokenCall; 4] = [TokenCall::Speak, TokenCall::Transcribe, TokenCall::Caption, TokenCall::Exchange];

    /// The name in requests and records.
    pub fn name(self) -> &'static str {
        match self {
            TokenCall::Speak => "speak",
            TokenCall::Transcribe => "transcribe",
            TokenCall::Caption => "caption",
            TokenCall::Exchange => "exchange",
        }
    }

    /// The call of a name.
    pub fn of_name(name: &str) -> Option<TokenCall> {
        TokenCall::ALL.into_iter().find(|call| call.name() == name)
    }
}

/// The terms of a token.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TokenTerms {
    /// Calls that it is for.
    pub calls: Vec<TokenCall>,
    /// Routes that it is for; where there is none, whatever its app may use.
    pub routes: Vec<String>,
    /// The only origin whose pages may use it (RFC 6454).
    pub origin: Option<String>,
    /// Characters of text that may be spoken.
    pub characters: Option<u64>,
    /// Milliseconds of audio that may be recognised.
    pub milliseconds: Option<u64>,
    /// Money that may be charged.
    pub cost: Option<Money>,
    /// For whom its requests are, in the words of its app.
    pub end_user: Option<String>,
}

/// Why a token does not serve a request.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TokenRefusal {
    /// Another call than its own.
    #[error("the token is not for this call; it is for: {}", names(.0))]
    Call(Vec<TokenCall>),
    /// Another route than its own, or none.
    #[error("the token is for the routes {}; name one of them", .0.join(", "))]
    Route(Vec<String>),
    /// A voice beside its routes.
    #[error("the token is for the routes {}, and the script names other voices", .0.join(", "))]
    Voice(Vec<String>),
    /// A job, whose results are fetched with a key.
    #[error("a token makes no jobs; send the request without respond-async")]
    Job,
    /// A credential, which is for its app to choose.
    #[error("a token does not choose the credential")]
    Credential,
    /// Another page than its own.
    #[error("the token is for pages of {expected}, and the request comes from {}", origin_of(.given.as_deref()))]
    Origin {
        /// Of the token, or of its app.
        expected: String,
        /// Of the request.
        given: Option<String>,
    },
    /// More text than is left.
    #[error("the token has {left} characters left, and the request needs {needed}")]
    Characters {
        /// What is left.
        left: u64,
        /// What the request needs.
        needed: u64,
    },
    /// More audio than is left.
    #[error("the token has {:.1} s of audio left, and the request needs {:.1} s", seconds(*.left), seconds(*.needed))]
    Audio {
        /// Milliseconds that are left.
        left: u64,
        /// Milliseconds that the request needs.
        needed: u64,
    },
    /// More money than is left.
    #[error("the token has {left} left, and the request may cost {needed}")]
    Cost {
        /// What is left.
        left: Money,
        /// The top of what the request costs.
        needed: Money,
    },
    /// Money of another currency than its own.
    #[error("the token has an amount in {of}, and the engine charges in {needed}")]
    Currency {
        /// Of the token.
        of: Currency,
        /// Of the engine.
        needed: Currency,
    },
}

fn names(calls: &[TokenCall]) -> String {
    calls.iter().map(|call| call.name()).collect::<Vec<_>>().join(", ")
}

fn origin_of(given: Option<&str>) -> &str {
    given.unwrap_or("no page")
}

fn seconds(milliseconds: u64) -> f64 {
    milliseconds as f64 / 1_000.0
}

impl TokenTerms {
    /// Whether it is for a call.
    ///
    /// # Errors
    /// With the calls that it is for.
    pub fn check_call(&self, call: TokenCall) -> Result<(), TokenRefusal> {
        match self.calls.contains(&call) {
            true => Ok(()),
            false => Err(TokenRefusal::Call(self.calls.clone())),
        }
    }

    /// Whether it is for what is asked for by name: a route, a voice or an engine.
    ///
    /// # Errors
    /// With the routes that it is for.
    pub fn check_route(&self, wanted: &str) -> Result<(), TokenRefusal> {
        match self.routes.is_empty() || self.routes.iter().any(|route| route == wanted) {
            true => Ok(()),
            false => Err(TokenRefusal::Route(self.routes.clone())),
        }
    }

    /// Adds what a request takes to what was used.
    ///
    /// # Errors
    /// Where not as much is left; then nothing is added.
    pub fn take(&self, used: &mut AmountsUsed, share: RequestShare) -> Result<(), TokenRefusal> {
        if let Some(left) = self.characters.map(|most| most.saturating_sub(used.characters))
            && share.characters > left
        {
            return Err(TokenRefusal::Characters { left, needed: share.characters });
        }
        if let Some(left) = self.milliseconds.map(|most| most.saturating_sub(used.milliseconds))
            && share.milliseconds > left
        {
            return Err(TokenRefusal::Audio { left, needed: share.milliseconds });
        }
        if let Some(most) = self.cost {
            let needed = share.cost;
            if needed.nanos > 0 && needed.currency != most.currency {
                return Err(TokenRefusal::Currency { of: most.currency, needed: needed.currency });
            }
            let left = Money { nanos: (most.nanos - used.costs.of(most.currency).nanos).max(0), ..most };
            if needed.nanos > left.nanos {
                return Err(TokenRefusal::Cost { left, needed });
            }
        }
        used.add(share);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn euros(nanos: i64) -> Money {
        Money { nanos, currency: Currency::EUR }
    }

    fn text(characters: u64, nanos: i64) -> RequestShare {
        RequestShare { characters, milliseconds: 0, cost: euros(nanos) }
    }

    #[test]
    fn an_amount_is_used_up_to_its_last_unit_and_no_further() {
        let terms = TokenTerms { characters: Some(10), cost: Some(euros(100)), ..TokenTerms::default() };
        let mut used = AmountsUsed::default();
        assert_eq!(terms.take(&mut used, text(7, 60)), Ok(()));
        assert_eq!(terms.take(&mut used, text(4, 0)), Err(TokenRefusal::Characters { left: 3, needed: 4 }));
        let cost = Err(TokenRefusal::Cost { left: euros(40), needed: euros(41) });
        assert_eq!(terms.take(&mut used, text(3, 41)), cost);
        assert_eq!((used.characters, used.costs.of(Currency::EUR)), (7, euros(60)), "nothing of a refused one counts");
        assert_eq!(terms.take(&mut used, text(3, 40)), Ok(()));
        assert_eq!(terms.take(&mut used, text(1, 0)), Err(TokenRefusal::Characters { left: 0, needed: 1 }));
        // Half of it failed and is there again.
        used.give_back(text(3, 40));
        assert_eq!(terms.take(&mut used, text(3, 40)), Ok(()));
    }

    #[test]
    fn audio_is_counted_in_milliseconds_and_told_in_seconds() {
        let terms = TokenTerms { milliseconds: Some(1_500), ..TokenTerms::default() };
        let mut used = AmountsUsed::default();
        assert_eq!(terms.take(&mut used, RequestShare::of_audio(1_000, euros(9))), Ok(()));
        let refused = terms.take(&mut used, RequestShare::of_audio(501, euros(0))).expect_err("too much");
        assert_eq!(refused.to_string(), "the token has 0.5 s of audio left, and the request needs 0.5 s");
        assert_eq!(terms.take(&mut used, RequestShare::of_audio(500, euros(0))), Ok(()));
    }

    #[test]
    fn money_of_another_currency_is_no_way_around_the_amount() {
        let terms = TokenTerms { cost: Some(euros(100)), ..TokenTerms::default() };
        let dollars: Currency = "USD".parse().expect("a currency");
        let share = |nanos| RequestShare { characters: 5, milliseconds: 0, cost: Money { nanos, currency: dollars } };
        let mut used = AmountsUsed::default();
        let refused = TokenRefusal::Currency { of: Currency::EUR, needed: dollars };
        assert_eq!(terms.take(&mut used, share(1)), Err(refused));
        assert_eq!(terms.take(&mut used, share(0)), Ok(()), "what costs nothing costs nothing in any currency");
    }

    #[test]
    fn a_token_is_for_its_calls_and_routes() {
        let terms = TokenTerms { calls: vec![TokenCall::Speak], routes: vec!["quay".into()], ..TokenTerms::default() };
        assert_eq!(terms.check_call(TokenCall::Speak), Ok(()));
        let refused = terms.check_call(TokenCall::Caption).expect_err("another call");
        assert_eq!(refused.to_string(), "the token is not for this call; it is for: speak");
        assert_eq!(terms.check_route("quay"), Ok(()));
        assert!(terms.check_route("heron/pellin").is_err() && terms.check_route("").is_err());
        assert_eq!(TokenTerms::default().check_route("heron/pellin"), Ok(()), "no routes are named");
        assert!(TokenCall::ALL.into_iter().all(|call| TokenCall::of_name(call.name()) == Some(call)));
    }
}
