//! Alerts, notices and events, as JSON.

use dispatcher_core::{AlertRule, BreakerState, Hours, Watched, Work};
use dispatcher_gateway::{Event, StoredNotice};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;

/// An alert rule: its condition, and where messages are sent.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AlertRequest {
    /// Condition: `breaker-open`, `credential-refused`, `credential-ending`, `voice-withdrawn`,
    /// `error-share`, `queue-full`, `disk-low`, `allowance-share`, `credit-ending` or `voice-changed`.
    #[schema(example = "breaker-open")]
    on: String,
    /// Engines (default: all).
    #[serde(default)]
    engines: Vec<String>,
    /// Threshold. `credential-ending`: days before the end (default: 14). `error-share`: percentage of
    /// failed calls in this hour and the previous one, from 20 calls on (default: 20). `queue-full`: waiting
    /// calls (default: 20). `disk-low`: free megabytes (default: 2000). `allowance-share`: used percentage of an
    /// allowance (default: 80). `credit-ending`: days until a credit of an engine is used or ends (default: 14).
    threshold: Option<f64>,
    /// Seconds that the condition must last before a message is sent (default: 0).
    after: Option<u64>,
    /// Minimum number of minutes between two messages about the same subject (default: 30).
    pause: Option<u64>,
    /// Quiet hours in UTC, such as `22:00-06:00`: no message is sent; conditions that still last are
    /// reported afterwards.
    quiet: Option<String>,
    /// Addresses: `https://…` for a signed webhook, if the service allows its host; `mailto:…` for mail, if
    /// a mail server is configured.
    to: Vec<String>,
    /// Note that is included in each message (at most 400 characters).
    #[serde(default)]
    note: String,
}

impl AlertRequest {
    /// Converts the request to a rule; the error is a JSON Pointer and a message.
    pub(crate) fn into_rule(self, name: &str) -> Result<AlertRule, (&'static str, String)> {
        let words = || Watched::ALL.iter().map(|watched| watched.name()).collect::<Vec<_>>().join(", ");
        let on = Watched::from_name(&self.on);
        let on = on.ok_or_else(|| ("/on", format!("on is one of {}, not '{}'", words(), self.on)))?;
        let quiet: Option<Hours> = self.quiet.map(|hours| hours.parse()).transpose().map_err(|why| ("/quiet", why))?;
        Ok(AlertRule {
            name: name.to_owned(),
            on,
            engines: self.engines,
            threshold: self.threshold,
            after: self.after.unwrap_or(0),
            pause: self.pause.unwrap_or(30),
            quiet,
            to: self.to,
            note: self.note,
        })
    }
}

/// An alert rule.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AlertAnswer {
    pub(crate) name: String,
    pub(crate) on: &'static str,
    pub(crate) engines: Vec<String>,
    /// Null if the condition has no threshold.
    pub(crate) threshold: Option<f64>,
    pub(crate) after: u64,
    pub(crate) pause: u64,
    pub(crate) quiet: Option<String>,
    pub(crate) to: Vec<String>,
    pub(crate) note: String,
}

impl From<&AlertRule> for AlertAnswer {
    fn from(rule: &AlertRule) -> Self {
        AlertAnswer {
            name: rule.name.clone(),
            on: rule.on.name(),
            engines: rule.engines.clone(),
            threshold: rule.threshold.or(rule.on.usual_threshold()),
            after: rule.after,
            pause: rule.pause,
            quiet: rule.quiet.map(String::from),
            to: rule.to.clone(),
            note: rule.note.clone(),
        }
    }
}

/// A notice: one occurrence of the condition of an alert.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct NoticeAnswer {
    pub(crate) id: String,
    /// Name of the alert.
    pub(crate) alert: String,
    pub(crate) on: &'static str,
    /// An engine, a credential, a voice, or `disk`.
    pub(crate) subject: String,
    pub(crate) detail: String,
    /// Start of the condition.
    pub(crate) since: String,
    /// Time of the message.
    pub(crate) told: String,
    /// End of the condition; null while it lasts.
    pub(crate) over: Option<String>,
    /// Delivery failure, if any.
    pub(crate) problem: Option<String>,
}

impl From<StoredNotice> for NoticeAnswer {
    fn from(notice: StoredNotice) -> Self {
        NoticeAnswer {
            id: notice.id,
            alert: notice.rule,
            on: notice.watched.name(),
            subject: notice.subject,
            detail: notice.detail,
            since: rfc3339(notice.since),
            told: rfc3339(notice.told_at),
            over: notice.over_at.map(rfc3339),
            problem: notice.problem,
        }
    }
}

/// Result of a test message at one address.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SentAnswer {
    pub(crate) to: String,
    pub(crate) sent: bool,
    /// Delivery failure.
    pub(crate) problem: Option<String>,
}

/// A dispatch that has ended.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DispatchEvent {
    pub(crate) id: String,
    pub(crate) app: String,
    /// `synthesis` or `recognition`.
    pub(crate) work: &'static str,
    /// The engine that answered.
    pub(crate) engine: Option<String>,
    pub(crate) state: &'static str,
    pub(crate) requested: String,
}

/// A state change of an engine's breaker.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct BreakerEvent {
    pub(crate) engine: String,
    /// `open`, `half-open` or `closed`.
    pub(crate) state: &'static str,
}

/// An event of the stream.
pub(crate) enum ToldEvent {
    Dispatch(DispatchEvent),
    Breaker(BreakerEvent),
    Notice(NoticeAnswer),
}

impl From<Event> for ToldEvent {
    fn from(event: Event) -> Self {
        match event {
            Event::Dispatch { id, app, work, engine, state, requested } => ToldEvent::Dispatch(DispatchEvent {
                id,
                app,
                work: Work::name(work),
                engine,
                state: state.name(),
                requested,
            }),
            Event::Breaker { engine, state } => {
                ToldEvent::Breaker(BreakerEvent { engine, state: BreakerState::name(state) })
            }
            Event::Notice(notice) => ToldEvent::Notice(notice.into()),
        }
    }
}
