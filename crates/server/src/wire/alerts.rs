//! Alerts, what they have told, and events, as JSON.

use dispatcher_core::{AlertRule, BreakerState, Hours, Watched, Work};
use dispatcher_gateway::{Event, StoredNotice};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;

/// What an operator is to be told of, and where.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AlertRequest {
    /// What it watches: `breaker-open`, `credential-refused`, `credential-ending`, `voice-withdrawn`,
    /// `error-share`, `queue-full` or `disk-low`.
    #[schema(example = "breaker-open")]
    on: String,
    /// The engines that it is about (default: all).
    #[serde(default)]
    engines: Vec<String>,
    /// From which measure on it is told. `credential-ending`: days before the end (default: 14).
    /// `error-share`: per cent of the calls of this hour and the one before, if there were 20 or more
    /// (default: 20). `queue-full`: waiting calls (default: 20). `disk-low`: free megabytes (default: 2000).
    threshold: Option<f64>,
    /// Seconds that it must last before it is told (default: 0).
    after: Option<u64>,
    /// Minutes in which the same is told once at the most (default: 30).
    pause: Option<u64>,
    /// Part of the day in UTC in which nothing is sent, as `22:00-06:00`; what still lasts is told
    /// afterwards.
    quiet: Option<String>,
    /// Where it is sent: `https://…` is called as a signed webhook, if the service allows its host;
    /// `mailto:…` gets mail, if the service sends mail.
    to: Vec<String>,
    /// For people; it is sent with each message.
    #[serde(default)]
    note: String,
}

impl AlertRequest {
    /// As a rule of a name; else says in words what is wrong, and where.
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
            note: self.note.chars().take(400).collect(),
        })
    }
}

/// A rule, as it is in force.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AlertAnswer {
    pub(crate) name: String,
    pub(crate) on: &'static str,
    pub(crate) engines: Vec<String>,
    /// Null if nothing is counted.
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

/// Something that an alert has told.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct NoticeAnswer {
    pub(crate) id: String,
    /// The alert that told it.
    pub(crate) alert: String,
    pub(crate) on: &'static str,
    /// An engine, a credential, a voice, or `disk`.
    pub(crate) subject: String,
    pub(crate) detail: String,
    /// When it began.
    pub(crate) since: String,
    /// When it was told.
    pub(crate) told: String,
    /// When it was over; null while it lasts.
    pub(crate) over: Option<String>,
    /// Why it could not be sent to one of its addresses.
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

/// What became of a trial at one address.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SentAnswer {
    pub(crate) to: String,
    pub(crate) sent: bool,
    /// Why it was not sent.
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

/// The breaker of an engine has changed.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct BreakerEvent {
    pub(crate) engine: String,
    /// `open`, `half-open` or `closed`.
    pub(crate) state: &'static str,
}

/// An event as the stream has it: its name, and its data.
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
