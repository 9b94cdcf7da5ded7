//! Spoken exchanges: what is said is recognised (the stage `ear`), the reply
//! hook of the app answers it (`reply`), and the answer is spoken while it
//! comes in (`voice`). One turn is in `turn`, the hook in `hook`, turns one
//! after the other in `conversation`.

mod conversation;
mod hook;
mod turn;

use std::time::Duration;

use dispatcher_audio::Format;
use dispatcher_core::{Costs, Site};
use dispatcher_store::StoredExchange;
use tokio::sync::mpsc;
use tokio::time::Instant;

pub use conversation::{ConversationEvent, ConversationOrder, ConversationRequest, ConversationSession, TurnTaking};
use turn::Turn;

use crate::{Caller, Gateway, GatewayError, NarrationEvent, Recognised, RecognitionRequest, SynthesisRequest};

/// What is spoken where a hook does not answer well and its app has no apology.
pub const APOLOGY: &str = "I am sorry, I cannot answer that at the moment.";
/// Events that wait to be told.
const WAITING: usize = 64;

/// How the hook is to answer.
#[derive(Debug, Clone)]
pub struct ReplyWish {
    /// Handed to the hook as it is.
    pub context: serde_json::Value,
    /// Until the first text.
    pub within: Duration,
    /// Characters of the whole answer.
    pub characters: usize,
}

impl Default for ReplyWish {
    fn default() -> Self {
        ReplyWish { context: serde_json::Value::Null, within: Duration::from_secs(8), characters: 2_000 }
    }
}

/// Something that goes to the hook with what is said, such as a picture.
#[derive(Debug, Clone)]
pub struct Attachment {
    /// Media type.
    pub kind: String,
    pub base64: String,
}

/// What a caller says.
#[derive(Debug, Clone)]
pub enum Said {
    Audio(Box<RecognitionRequest>),
    Text { text: String, language: Option<String> },
}

/// What is asked for.
#[derive(Debug, Clone)]
pub struct ExchangeRequest {
    pub said: Said,
    /// The request that each sentence of the reply is spoken by; raw audio.
    pub voice: SynthesisRequest,
    pub reply: ReplyWish,
    pub attachment: Option<Attachment>,
    /// Where engines must run, and the hook as well where that is here.
    pub site: Option<Site>,
}

/// What is told of an exchange, in order.
#[derive(Debug, Clone)]
pub enum ExchangeEvent {
    /// What was said; text that was sent has no transcript.
    Said {
        /// Id of the exchange.
        exchange: String,
        text: String,
        recognised: Option<Box<Recognised>>,
    },
    /// More text of the reply.
    Reply(String),
    /// The reply ends before its time; the apology follows.
    Fault(String),
    /// The voice of the reply. Times are seconds of its audio.
    Voice(NarrationEvent),
    /// All is told.
    Ended(Box<ExchangeEnd>),
}

/// How an exchange ended.
#[derive(Debug, Clone, PartialEq)]
pub struct ExchangeEnd {
    pub record: StoredExchange,
    /// Of all its dispatches.
    pub costs: Costs,
}

/// What a caller orders while the reply sounds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum ExchangeOrder {
    /// So many seconds of it were heard.
    Heard(f64),
    /// Nothing more of it is spoken; so many seconds were heard, or all that was told.
    Stop(Option<f64>),
}

/// An exchange in work; it ends where this is dropped.
pub struct ExchangeSession {
    pub id: String,
    /// Of the audio.
    pub format: Format,
    pub orders: mpsc::Sender<ExchangeOrder>,
    pub events: mpsc::Receiver<Result<ExchangeEvent, GatewayError>>,
}

impl Gateway {
    /// Begins an exchange.
    ///
    /// # Errors
    /// Where the app has no hook, or nobody could speak; before anything is called.
    pub async fn exchange(&self, caller: &Caller, request: ExchangeRequest) -> Result<ExchangeSession, GatewayError> {
        let (caller, hook) = self.answerer(caller, request.site, &request.voice).await?;
        let (orders, taken) = mpsc::channel(WAITING);
        let (told, events) = mpsc::channel(WAITING);
        let turn = Turn::new(self.clone(), caller, hook, told, Instant::now());
        let (id, format) = (turn.record.id.clone(), request.voice.format);
        self.inner.running.spawn(turn.run(request, taken));
        Ok(ExchangeSession { id, format, orders, events })
    }

    /// A caller bound to a site, and the address of the hook that answers it.
    async fn answerer(
        &self,
        caller: &Caller,
        site: Option<Site>,
        voice: &SynthesisRequest,
    ) -> Result<(Caller, String), GatewayError> {
        let caller = bound(caller, site)?;
        let hook = self.reply_hook(&caller.app)?;
        if caller.app.site == Some(Site::Local) && !is_here(&hook) {
            return Err(GatewayError::ReplyHookElsewhere);
        }
        self.check_narration(&caller, voice).await?;
        Ok((caller, hook))
    }

    /// Exchanges that are over, the newest first: those of the caller's app, or
    /// of the app that an operator names, or of all.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn exchanges(
        &self,
        caller: &Caller,
        app: Option<String>,
        before: Option<String>,
        limit: i64,
    ) -> Result<Vec<StoredExchange>, GatewayError> {
        let app = if caller.operator { app } else { Some(caller.app.name.clone()) };
        Ok(self.inner.store.exchanges(app, before, limit).await?)
    }
}

/// A caller whose engines must run at a site.
fn bound(caller: &Caller, site: Option<Site>) -> Result<Caller, GatewayError> {
    let mut caller = caller.clone();
    match (caller.app.site, site) {
        (Some(of_app), Some(wanted)) if of_app != wanted => Err(GatewayError::OtherSite { of_app, wanted }),
        (of_app, wanted) => {
            caller.app.site = wanted.or(of_app);
            Ok(caller)
        }
    }
}

/// Whether an address is on this machine.
fn is_here(address: &str) -> bool {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
    if let Some((inside, _)) = host.strip_prefix('[').and_then(|host| host.split_once(']')) {
        return inside.parse::<std::net::Ipv6Addr>().is_ok_and(|address| address.is_loopback());
    }
    let name = host.split(':').next().unwrap_or_default();
    name.eq_ignore_ascii_case("localhost") || name.parse::<std::net::Ipv4Addr>().is_ok_and(|it| it.is_loopback())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_loopback_is_here() {
        for here in ["http://127.0.0.1:9/a", "http://localhost/", "https://LOCALHOST:1?x", "http://[::1]:80/"] {
            assert!(is_here(here), "{here}");
        }
        for elsewhere in
            ["http://127.0.0.1.example/", "http://localhost.example", "http://10.0.0.7/", "http://[2001:db8::1]/", ""]
        {
            assert!(!is_here(elsewhere), "{elsewhere}");
        }
    }

    #[test]
    fn a_request_tightens_the_site_of_its_app_and_never_changes_it() {
        let of = |site| Caller::of_app(crate::App { site, ..crate::App::new("quay", "Quay", 1) }, "k");
        assert_eq!(bound(&of(None), Some(Site::Local)).expect("bound").app.site, Some(Site::Local));
        assert_eq!(bound(&of(Some(Site::Local)), None).expect("bound").app.site, Some(Site::Local));
        assert!(bound(&of(Some(Site::Local)), Some(Site::Cloud)).is_err());
    }
}
