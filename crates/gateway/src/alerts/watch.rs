//! What alerts watch: how engines, credentials, voices, queues and the disk
//! are at this moment.

use std::collections::BTreeMap;

use dispatcher_core::{AlertRule, BreakerState, Cause, VoiceId, Watched, Work};
use dispatcher_store::CredentialState;

use crate::{AllowanceView, CanaryView, CreditView, Gateway, GatewayError, Registry};

/// Microseconds of a day.
const DAY: f64 = 86_400e6;

/// A condition of which a rule may notify.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Condition {
    pub(super) on: Watched,
    pub(super) engine: Option<String>,
    /// What it is about: an engine, a credential, a voice, the disk.
    pub(super) subject: String,
    /// As the threshold of a rule counts it.
    pub(super) measure: f64,
    pub(super) detail: String,
}

impl Condition {
    fn of(on: Watched, engine: &str, detail: String) -> Condition {
        Condition { on, engine: Some(engine.to_owned()), subject: engine.to_owned(), measure: 0.0, detail }
    }

    /// Whether a rule notifies of it.
    pub(super) fn raises(&self, rule: &AlertRule) -> bool {
        self.on == rule.on && rule.concerns(self.engine.as_deref()) && rule.is_raised_at(self.measure)
    }
}

/// How much of an allowance is used.
fn allowance_condition(view: &AllowanceView) -> Condition {
    let (owner, allowance) = (view.owner(), view.row.allowance());
    Condition {
        on: Watched::AllowanceShare,
        engine: None,
        subject: format!("{owner}, {allowance}"),
        measure: view.percent(),
        detail: format!("the {owner} has used {:.0} % of {allowance}", view.percent()),
    }
}

/// When a credit is used or ends.
fn credit_condition(view: &CreditView) -> Option<Condition> {
    let (days, credit) = (view.days_left?, &view.credit);
    let name = format!("{} of {}", credit.name, credit.engine);
    let left = view.left();
    let detail = match (days <= 0.0, &view.used_on) {
        (true, None) => format!("the credit {name} has ended; {left} were left"),
        (true, Some(_)) => format!("the credit {name} is used"),
        (false, Some(day)) => format!("the credit {name} will be used on {day} at this pace; {left} are left"),
        (false, None) => format!("the credit {name} ends in {} days; {left} are left", days.ceil()),
    };
    let condition = Condition::of(Watched::CreditEnding, &credit.engine, detail);
    Some(Condition { subject: name, measure: days, ..condition })
}

/// That a voice does not sound as it did.
fn canary_condition(view: &CanaryView) -> Option<Condition> {
    let id: VoiceId = view.canary.voice.parse().ok()?;
    let condition = Condition::of(Watched::VoiceChanged, &id.engine, view.trouble()?);
    Some(Condition { subject: format!("{}, canary {}", view.canary.voice, view.canary.name), ..condition })
}

impl Gateway {
    /// All current conditions.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(super) async fn conditions(&self, now: i64) -> Result<Vec<Condition>, GatewayError> {
        let mut conditions = self.open_breakers();
        conditions.extend(self.credential_conditions(now).await?);
        let defaults = self.apps().await?.into_iter().filter_map(|app| Some((app.name, app.default_voice?)));
        conditions.extend(withdrawn(&self.registry(), defaults));
        conditions.extend(self.failing_engines(now));
        for (engine, waiting) in self.inner.limiters.waiting() {
            let detail = format!("{waiting} calls are waiting for {engine}");
            conditions
                .push(Condition { measure: f64::from(waiting), ..Condition::of(Watched::QueueFull, &engine, detail) });
        }
        if let Some(free) = self.inner.host.room.as_ref().and_then(crate::StorageRoom::free) {
            let megabytes = (free / 1_000_000) as f64;
            conditions.push(Condition {
                on: Watched::DiskLow,
                engine: None,
                subject: "disk".into(),
                measure: megabytes,
                detail: format!("{megabytes} MB are free on the disk of the data folder"),
            });
        }
        conditions.extend(self.all_allowances().await?.iter().map(allowance_condition));
        // Their use is summed up from the records, which is done for a rule only.
        if self.alert_rules().iter().any(|rule| rule.on == Watched::CreditEnding) {
            conditions.extend(self.credits().await?.iter().filter_map(credit_condition));
        }
        if self.alert_rules().iter().any(|rule| rule.on == Watched::VoiceChanged) {
            conditions.extend(self.canaries().await?.iter().filter_map(canary_condition));
        }
        Ok(conditions)
    }

    fn open_breakers(&self) -> Vec<Condition> {
        let open = self.breakers().into_iter().filter(|view| view.state != BreakerState::Closed);
        let told = |view: crate::BreakerView| {
            let cause = view.cause.map_or("failures", Cause::name);
            let detail =
                format!("the breaker of {} is open after {} failures in a row ({cause})", view.engine, view.failures);
            let condition = Condition::of(Watched::BreakerOpen, &view.engine, detail);
            let subject = view.credential.map_or(view.engine.clone(), |with| format!("{} with {with}", view.engine));
            Condition { subject, ..condition }
        };
        open.map(told).collect()
    }

    async fn credential_conditions(&self, now: i64) -> Result<Vec<Condition>, GatewayError> {
        let mut conditions = Vec::new();
        for credential in self.credentials().await? {
            let (name, engine) = (format!("{} version {}", credential.name, credential.version), &credential.engine);
            if credential.state == CredentialState::Refused {
                let cause = credential.cause.as_deref().unwrap_or("unauthorized");
                let detail = format!("{engine} rejects the credential {name} ({cause})");
                let condition = Condition::of(Watched::CredentialRefused, engine, detail);
                conditions.push(Condition { subject: name.clone(), ..condition });
            }
            let in_force = credential.state.serves() || credential.state == CredentialState::Refused;
            let Some(ends_at) = credential.ends_at.filter(|_| in_force) else { continue };
            let days = (ends_at - now) as f64 / DAY;
            let detail = match days < 0.0 {
                true => format!("the credential {name} of {engine} has expired"),
                false => format!("the credential {name} of {engine} expires in {} days", days.ceil()),
            };
            let condition = Condition::of(Watched::CredentialEnding, engine, detail);
            conditions.push(Condition { subject: name, measure: days, ..condition });
        }
        Ok(conditions)
    }

    fn failing_engines(&self, now: i64) -> Vec<Condition> {
        let told = |(engine, work, calls, failures): (String, Work, i64, i64)| {
            let percent = failures as f64 * 100.0 / calls as f64;
            let detail = format!("{failures} of {calls} calls of {engine} failed in this hour and the previous one");
            let condition = Condition::of(Watched::ErrorShare, &engine, detail);
            Condition { subject: format!("{engine}, {}", work.name()), measure: percent, ..condition }
        };
        self.inner.health.failing(now).into_iter().map(told).collect()
    }
}

/// Voices that routes and apps name, and that are gone. An engine that has
/// reported no voice yet says nothing of any.
fn withdrawn(registry: &Registry, defaults: impl Iterator<Item = (String, String)>) -> Vec<Condition> {
    // Each voice once, with the first that names it.
    let mut named: BTreeMap<String, String> = BTreeMap::new();
    for route in registry.routes().values() {
        for (engine, voice) in route.legs.iter().filter_map(|leg| Some((&leg.engine, leg.voice.as_ref()?))) {
            named.entry(format!("{engine}/{voice}")).or_insert_with(|| format!("the route {}", route.name));
        }
    }
    for (app, voice) in defaults {
        named.entry(voice).or_insert_with(|| format!("the app {app}"));
    }
    let mut conditions: Vec<Condition> = Vec::new();
    for (subject, by) in named {
        // The default of an app may be a route.
        let Ok(id) = subject.parse::<VoiceId>() else { continue };
        let Ok(engine) = registry.engine(&id.engine) else { continue };
        let Some(synthesis) = engine.sheet().synthesis.as_ref().filter(|it| !it.voices.is_empty()) else { continue };
        let voice = synthesis.voices.iter().find(|voice| voice.id == id.voice);
        let why = match voice {
            Some(voice) => match &voice.unavailable {
                Some(why) => why.clone(),
                None => continue,
            },
            None => "removed from the catalogue of its engine".into(),
        };
        let detail = format!("the voice {subject} is not available ({why}); it is used by {by}");
        conditions.push(Condition { subject, ..Condition::of(Watched::VoiceWithdrawn, &id.engine, detail) });
    }
    conditions
}
