//! Sending the messages of alerts: a signed webhook, or mail.

use bytes::Bytes;
use dispatcher_core::{AlertRule, Told};
use dispatcher_store::StoredNotice;
use serde_json::json;

use crate::clock::rfc3339;
use crate::{Gateway, GatewayError, now_micros};

/// A message in the forms in which it is sent.
#[derive(Clone)]
struct Letter {
    subject: String,
    text: String,
    /// The body of a webhook.
    json: Bytes,
}

fn word(told: Told) -> &'static str {
    match told {
        Told::Raised => "raised",
        Told::Over => "over",
    }
}

fn letter(rule: &AlertRule, told: Told, notice: &StoredNotice) -> Letter {
    let over = notice.over_at.map(rfc3339);
    let json = json!({
        "event": "alert", "state": word(told), "alert": rule.name, "on": rule.on.name(), "subject": notice.subject,
        "detail": notice.detail, "since": rfc3339(notice.since), "over_at": over, "note": rule.note,
        "notice": notice.id,
    });
    let end = match told {
        Told::Raised => "A second message follows when it is over.".to_owned(),
        Told::Over => format!("Over since {}.", over.unwrap_or_default()),
    };
    let note = if rule.note.is_empty() { String::new() } else { format!("{}\n\n", rule.note) };
    Letter {
        subject: match told {
            Told::Raised => format!("Dispatcher: {}, {}", rule.on.name(), notice.subject),
            Told::Over => format!("Dispatcher: over: {}, {}", rule.on.name(), notice.subject),
        },
        text: format!("{}\n\nSince {}. {end}\n\n{note}Alert: {}\n", notice.detail, rfc3339(notice.since), rule.name),
        json: Bytes::from(json.to_string()),
    }
}

impl Gateway {
    /// Whether an address could be sent to.
    ///
    /// # Errors
    /// Where the host allows no such webhook, or sends no mail.
    pub(super) fn check_address(&self, address: &str) -> Result<(), GatewayError> {
        match address.strip_prefix("mailto:") {
            None => self.check_webhook(address),
            Some(_) if self.inner.host.mail.is_some() => Ok(()),
            Some(_) => Err(GatewayError::NoMail),
        }
    }

    async fn send_to(&self, address: &str, letter: &Letter) -> Result<(), String> {
        let Letter { subject, text, json } = letter;
        match (address.strip_prefix("mailto:"), &self.inner.host.mail, &self.inner.host.webhooks) {
            (Some(mailbox), Some(mail), _) => mail.send(mailbox, subject, text).await,
            (None, _, Some(webhooks)) => {
                let told = webhooks.webhook_client.tell(&self.inner.host.fetcher, address, json.clone());
                told.await.map_err(|error| error.detail)
            }
            _ => Err("the service cannot send to this address".into()),
        }
    }

    /// Sends to all addresses of a rule, each in a task of its own, again where
    /// it is not taken. What was never taken is said with the notice.
    pub(super) fn send(&self, rule: AlertRule, told: Told, notice: StoredNotice) {
        let letter = letter(&rule, told, &notice);
        for address in rule.to {
            let (gateway, letter, id) = (self.clone(), letter.clone(), notice.id.clone());
            tokio::spawn(async move {
                let Some(Err(error)) = gateway.until_heard(|| gateway.send_to(&address, &letter)).await else { return };
                tracing::warn!(address, error, "an alert could not be sent");
                let problem = format!("not sent to {address}: {error}");
                if let Err(error) = gateway.inner.store.note_unsent(id, problem).await {
                    tracing::warn!(%error, "that an alert was not sent could not be written");
                }
            });
        }
    }

    /// Sends a trial to all addresses of a rule, once.
    pub(super) async fn send_trial(&self, rule: &AlertRule) -> Vec<(String, Result<(), String>)> {
        let now = now_micros();
        let notice = StoredNotice {
            id: "trial".into(),
            rule: rule.name.clone(),
            watched: rule.on,
            subject: "trial".into(),
            detail: "This is a test message: nothing is wrong.".into(),
            since: now,
            told_at: now,
            over_at: None,
            problem: None,
        };
        let letter = letter(rule, Told::Raised, &notice);
        let sent = rule.to.iter().map(async |address| (address.clone(), self.send_to(address, &letter).await));
        futures::future::join_all(sent).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_letter_says_what_is_wrong_since_when_and_whose_rule_it_is() {
        let rule = serde_json::json!({
            "name": "night-watch", "on": "breaker-open", "to": ["mailto:watch@saltmarsh.example"],
            "note": "Call the harbour office.",
        });
        let rule: AlertRule = serde_json::from_value(rule).expect("a rule");
        let notice = StoredNotice {
            id: "1".into(),
            rule: rule.name.clone(),
            watched: rule.on,
            subject: "heron".into(),
            detail: "the breaker of heron is open after 5 failures in a row (unavailable)".into(),
            since: 1_790_000_000_000_000,
            told_at: 1_790_000_001_000_000,
            over_at: Some(1_790_000_060_000_000),
            problem: None,
        };
        let over = letter(&rule, Told::Over, &notice);
        assert_eq!(over.subject, "Dispatcher: over: breaker-open, heron");
        assert_eq!(
            over.text,
            "the breaker of heron is open after 5 failures in a row (unavailable)\n\nSince 2026-09-21T14:13:20Z. Over since \
             2026-09-21T14:14:20Z.\n\nCall the harbour office.\n\nAlert: night-watch\n"
        );
        let json: serde_json::Value = serde_json::from_slice(&over.json).expect("JSON");
        assert_eq!((json["state"].as_str(), json["over_at"].as_str()), (Some("over"), Some("2026-09-21T14:14:20Z")));
        let raised = letter(&rule, Told::Raised, &StoredNotice { over_at: None, ..notice });
        let json: serde_json::Value = serde_json::from_slice(&raised.json).expect("JSON");
        assert_eq!((json["event"].as_str(), json["on"].as_str()), (Some("alert"), Some("breaker-open")));
        assert!(json["over_at"].is_null() && raised.text.contains("A second message follows when it is over."));
    }
}
