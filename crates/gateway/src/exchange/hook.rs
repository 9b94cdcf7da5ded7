//! Client of reply hooks: a signed POST for each turn, and the streamed answer.

use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{ReplyFault, ReplyForm, ReplyReader};
use dispatcher_engines::WebhookAnswer;
use futures::future::BoxFuture;
use serde_json::json;
use tokio::time::Instant;

use super::{Attachment, ReplyWish};
use crate::{Gateway, GatewayError};

/// Longest pause between two pieces of an answer.
const SILENCE: Duration = Duration::from_secs(10);
/// Longest duration of an answer.
const LONGEST: Duration = Duration::from_secs(120);

/// Why the answer of a hook is given up.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub(super) enum HookFault {
    #[error("the reply hook failed: {0}")]
    Failed(String),
    #[error("the reply hook failed: it answered with '{0}', not text/event-stream or text/plain")]
    Form(String),
    #[error("the reply hook failed: {0}")]
    Reply(#[from] ReplyFault),
    #[error("the reply hook failed: its answer is empty")]
    Empty,
    #[error("the reply hook stalled: no text for {} s", .0.as_secs_f64())]
    Stalled(Duration),
    #[error("the reply hook took more than {} s", LONGEST.as_secs())]
    Endless,
}

/// Body of the request to a hook.
pub(super) struct Question<'a> {
    pub(super) exchange: &'a str,
    pub(super) app: &'a str,
    pub(super) text: &'a str,
    pub(super) language: Option<&'a str>,
    pub(super) attachment: Option<&'a Attachment>,
}

/// An answer that is being received.
pub(super) struct HookAnswer {
    state: HookState,
    most: usize,
    /// Text has been received.
    begun: bool,
    /// Deadline of the next text, the wait that it allows, and the deadline of the whole.
    next_by: Instant,
    wait: Duration,
    whole_by: Instant,
}

enum HookState {
    Asking(BoxFuture<'static, Result<WebhookAnswer, String>>),
    Reading(Box<Reading>),
    /// The text before the fault has been returned.
    Faulty(ReplyFault),
    Over,
}

struct Reading {
    answer: WebhookAnswer,
    reader: ReplyReader,
}

impl Gateway {
    /// Address of the hook of an app.
    ///
    /// # Errors
    /// If the app has none, or its host is not allowed.
    pub(super) fn reply_hook(&self, app: &crate::App) -> Result<String, GatewayError> {
        let address = app.reply_hook.clone().ok_or_else(|| GatewayError::NoReplyHook(app.name.clone()))?;
        self.check_webhook(&address)?;
        Ok(address)
    }

    /// Checks that the host of an app's hook is allowed, if the app has one.
    pub(crate) fn check_reply_hook(&self, app: &crate::App) -> Result<(), GatewayError> {
        app.reply_hook.as_ref().map_or(Ok(()), |address| self.check_webhook(address))
    }

    /// Prepares a request; it is sent when the answer is first read.
    pub(super) fn ask_hook(&self, address: &str, question: &Question<'_>, wish: &ReplyWish) -> HookAnswer {
        let attachment = question.attachment.map(|given| json!({"type": given.kind, "base64": given.base64}));
        let body = json!({
            "event": "exchange", "exchange": question.exchange, "app": question.app, "text": question.text,
            "language": question.language, "context": wish.context, "attachment": attachment,
        });
        let (gateway, address, body) = (self.clone(), address.to_owned(), Bytes::from(body.to_string()));
        let asking = async move {
            let webhooks = gateway.inner.host.webhooks.as_ref().ok_or("this service has no webhook key")?;
            let asked = webhooks.webhook_client.ask(&gateway.inner.host.fetcher, &address, body, ReplyForm::ACCEPT);
            asked.await.map_err(|error| error.detail)
        };
        let now = Instant::now();
        HookAnswer {
            state: HookState::Asking(Box::pin(asking)),
            most: wish.characters,
            begun: false,
            next_by: now + wish.within,
            wait: wish.within,
            whole_by: now + LONGEST,
        }
    }
}

impl HookAnswer {
    /// Returns the next text, `None` at the end. Text before a fault is returned
    /// first, and the fault by the next call. Cancel safe.
    pub(super) async fn next(&mut self) -> Option<Result<String, HookFault>> {
        match tokio::time::timeout_at(self.next_by.min(self.whole_by), self.read()).await {
            Ok(Ok(None)) if !self.begun => Some(Err(HookFault::Empty)),
            Ok(Ok(None)) => None,
            Ok(Ok(Some(text))) => {
                self.begun |= !text.trim().is_empty();
                // White space alone is not a first text.
                if self.begun {
                    self.resume();
                }
                Some(Ok(text))
            }
            Ok(Err(fault)) => Some(Err(fault)),
            Err(_) if Instant::now() >= self.whole_by => Some(Err(HookFault::Endless)),
            Err(_) => Some(Err(HookFault::Stalled(self.wait))),
        }
    }

    /// Restarts the wait for text, after a time in which it was not read.
    pub(super) fn resume(&mut self) {
        if self.begun {
            self.wait = SILENCE;
        }
        self.next_by = Instant::now() + self.wait;
    }

    async fn read(&mut self) -> Result<Option<String>, HookFault> {
        loop {
            match &mut self.state {
                HookState::Asking(asking) => {
                    let answer = asking.await.map_err(HookFault::Failed)?;
                    let form = ReplyForm::of_media_type(answer.media_type());
                    let form = form.ok_or_else(|| HookFault::Form(answer.media_type().chars().take(80).collect()))?;
                    let reader = ReplyReader::new(form, self.most);
                    self.state = HookState::Reading(Box::new(Reading { answer, reader }));
                }
                HookState::Reading(reading) => {
                    let Reading { answer, reader } = &mut **reading;
                    if reader.has_ended() {
                        self.state = HookState::Over;
                        return Ok(None);
                    }
                    let Some(piece) = answer.next().await.map_err(|error| HookFault::Failed(error.detail))? else {
                        let whole = reader.finish();
                        self.state = HookState::Over;
                        return whole.map(|()| None).map_err(HookFault::Reply);
                    };
                    let mut text = String::new();
                    match reader.push(&piece, &mut text) {
                        Err(fault) if text.is_empty() => return Err(fault.into()),
                        Err(fault) => self.state = HookState::Faulty(fault),
                        Ok(()) => {}
                    }
                    if !text.is_empty() {
                        return Ok(Some(text));
                    }
                }
                HookState::Faulty(fault) => return Err(fault.clone().into()),
                HookState::Over => return Ok(None),
            }
        }
    }
}
