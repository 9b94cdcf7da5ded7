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

/// Apology of apps that have none of their own.
pub const APOLOGY: &str = "I am sorry, I cannot answer that at the moment.";
/// Capacity of the channels of a session.
const WAITING: usize = 64;

/// Options of the stage `reply`.
#[derive(Debug, Clone)]
pub struct ReplyWish {
    /// Sent to the hook unchanged.
    pub context: serde_json::Value,
    /// Deadline of the first text.
    pub within: Duration,
    /// Most characters of the reply.
    pub characters: usize,
}

impl Default for ReplyWish {
    fn default() -> Self {
        ReplyWish { context: serde_json::Value::Null, within: Duration::from_secs(8), characters: 2_000 }
    }
}

/// A file for the hook, such as a picture.
#[derive(Debug, Clone)]
pub struct Attachment {
    /// Media type.
    pub kind: String,
    pub base64: String,
}

/// Input of an exchange.
#[derive(Debug, Clone)]
pub enum Said {
    Audio(Box<RecognitionRequest>),
    Text { text: String, language: Option<String> },
}

/// An exchange request.
#[derive(Debug, Clone)]
pub struct ExchangeRequest {
    pub said: Said,
    /// Synthesis of each sentence of the reply; raw audio.
    pub voice: SynthesisRequest,
    pub reply: ReplyWish,
    pub attachment: Option<Attachment>,
    /// Site of all engines; with `local`, the hook must be on this machine too.
    pub site: Option<Site>,
}

/// Output of an exchange, in order.
#[derive(Debug, Clone)]
pub enum ExchangeEvent {
    /// What was said; `recognised` is `None` for typed text.
    Said {
        /// Id of the exchange.
        exchange: String,
        text: String,
        recognised: Option<Box<Recognised>>,
    },
    /// Next text of the reply.
    Reply(String),
    /// The hook failed; the apology follows.
    Fault(String),
    /// Synthesis of the reply. Times are seconds of its audio.
    Voice(NarrationEvent),
    /// The end.
    Ended(Box<ExchangeEnd>),
}

/// How an exchange ended.
#[derive(Debug, Clone, PartialEq)]
pub struct ExchangeEnd {
    pub record: StoredExchange,
    /// Costs of all its dispatches.
    pub costs: Costs,
}

/// An order during the reply.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum ExchangeOrder {
    /// Playback position, in seconds.
    Heard(f64),
    /// Ends the reply; the playback position, or `None` if all sent audio was heard.
    Stop(Option<f64>),
}

/// An exchange in progress; dropping it ends the exchange.
pub struct ExchangeSession {
    pub id: String,
    /// Format of the audio.
    pub format: Format,
    pub orders: mpsc::Sender<ExchangeOrder>,
    pub events: mpsc::Receiver<Result<ExchangeEvent, GatewayError>>,
}

impl Gateway {
    /// Begins an exchange.
    ///
    /// # Errors
    /// If the app has no hook, or no engine can speak; before any engine is called.
    pub async fn exchange(&self, caller: &Caller, request: ExchangeRequest) -> Result<ExchangeSession, GatewayError> {
        let (caller, hook) = self.answerer(caller, request.site, &request.voice).await?;
        let (orders, taken) = mpsc::channel(WAITING);
        let (told, events) = mpsc::channel(WAITING);
        let turn = Turn::new(self.clone(), caller, hook, told, Instant::now());
        let (id, format) = (turn.record.id.clone(), request.voice.format);
        self.inner.running.spawn(turn.run(request, taken));
        Ok(ExchangeSession { id, format, orders, events })
    }

    /// The caller, bound to a site, and the URL of its hook.
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

    /// Exchanges that have ended, newest first: of the caller's app; for operators,
    /// of one app or of all.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub async fn exchanges(
        &self,
        caller: &Caller,
        app: Option<String>,
        before: Option<String>,
        limit: i64,
    ) -> Result<Vec<StoredExchange>, GatewayError> {
        Ok(self.inner.store.exchanges(caller.visible(app), before, limit).await?)
    }
}

/// The caller with its engines bound to a site.
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

/// Whether a URL has a loopback host.
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
