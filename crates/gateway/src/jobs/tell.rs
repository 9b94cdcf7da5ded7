//! Notifications: webhooks are called at the end of a job, signed,
//! and again if they do not answer. Alerts are sent in the same way.

use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::Backoff;
use dispatcher_engines::WebhookClient;
use dispatcher_store::WebhookResult;
use serde_json::json;

use crate::intake::hosts::check_host;
use crate::{Gateway, GatewayError, now_micros};

/// Waits between tries, and how many tries there are: some three quarters of an hour.
const WAITS: Backoff =
    Backoff { first: Duration::from_secs(1), factor: 5, longest: Duration::from_secs(1_800), jitter: 0.2 };
const TRIES: u32 = 7;

/// Hosts that may be notified, and the signing key.
pub struct Webhooks {
    pub webhook_client: WebhookClient,
    /// Hosts that the operator allows, each with its port where that is not
    /// the usual one.
    pub hosts: Vec<String>,
}

impl Gateway {
    /// The public key of webhooks, and its name; `None` without webhooks.
    pub fn webhook_key(&self) -> Option<(&str, &str)> {
        self.inner.host.webhooks.as_ref().map(|webhooks| webhooks.webhook_client.public_key())
    }

    /// Whether an address may be notified.
    pub(crate) fn check_webhook(&self, address: &str) -> Result<(), GatewayError> {
        let hosts = self.inner.host.webhooks.as_ref().map(|webhooks| webhooks.hosts.as_slice()).unwrap_or_default();
        check_host(address, hosts, "webhook_hosts").map_err(GatewayError::Webhook)
    }

    /// Tells the end of a job, in a task of its own.
    pub(super) fn tell_end(&self, id: String) {
        let gateway = self.clone();
        tokio::spawn(async move {
            if let Err(error) = gateway.tell_until_heard(&id).await {
                tracing::warn!(job = %id, %error, "the end of a job was not told");
            }
        });
    }

    async fn tell_until_heard(&self, id: &str) -> Result<(), GatewayError> {
        let row = self.job(id).await?.row;
        let (Some(address), Some(webhooks)) = (&row.webhook, &self.inner.host.webhooks) else { return Ok(()) };
        let told = json!({
            "event": "job", "id": row.id, "app": row.app, "title": row.title, "work": row.work.name(), "state": row.state.name(),
            "reason": row.reason, "job": format!("/api/v1/jobs/{}", row.id),
        });
        let body = Bytes::from(told.to_string());
        let heard = self.until_heard(|| webhooks.webhook_client.tell(&self.inner.host.fetcher, address, body.clone()));
        let result = match heard.await {
            // The next start begins anew.
            None => return Ok(()),
            Some(Ok(())) => WebhookResult::Notified,
            Some(Err(error)) => {
                tracing::warn!(job = %id, %error, "the webhook of a job does not answer and is given up");
                WebhookResult::GivenUp
            }
        };
        Ok(self.inner.store.note_webhook(id.to_owned(), result, now_micros()).await?)
    }

    /// Tells somebody, again and again until it is heard. Gives the last error
    /// where it never is, and nothing where the service ends before that.
    pub(crate) async fn until_heard<E, F>(&self, tell: impl Fn() -> F) -> Option<Result<(), E>>
    where
        F: Future<Output = Result<(), E>>,
    {
        for tried in 1.. {
            let outcome = tell().await;
            if outcome.is_ok() || tried == TRIES {
                return Some(outcome);
            }
            tokio::select! {
                () = tokio::time::sleep(WAITS.wait(tried, rand::random())) => {}
                () = self.inner.jobs.pause.cancelled() => return None,
            }
        }
        None
    }
}
