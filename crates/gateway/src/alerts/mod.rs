//! Alerts: the operator's rules, what they watch, what was sent, and
//! how it is sent. Whether something is sent is decided in `dispatcher_core`.

mod mail;
mod send;
mod watch;

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Weak};
use std::time::Duration;

use dispatcher_core::{Alarm, AlertRule, Told};
use dispatcher_store::{NewVersion, StoredNotice, VersionedKind};
use parking_lot::{Mutex, RwLock};

pub use mail::{Mail, MailSecurity};
use watch::Condition;

use crate::clock::minute_of_day;
use crate::dispatch::dispatch_record::new_id;
use crate::{Event, Gateway, GatewayError, Inner, now_micros};

/// Interval between checks of all conditions.
const EVERY: Duration = Duration::from_secs(5);
/// Subjects for which it is known whether a message was sent.
const MOST: usize = 10_000;

/// The rules in force, and what is known of all that they watch.
#[derive(Default)]
pub(crate) struct Alerts {
    rules: RwLock<Arc<Vec<AlertRule>>>,
    alarms: Mutex<HashMap<(String, String), OpenAlarm>>,
}

#[derive(Default, Clone)]
struct OpenAlarm {
    alarm: Alarm,
    /// Messages that were sent, while their conditions last.
    notice: Option<StoredNotice>,
}

/// Something to be sent.
struct Message {
    rule: AlertRule,
    told: Told,
    notice: StoredNotice,
}

fn since_epoch(micros: i64) -> Duration {
    Duration::from_micros(u64::try_from(micros).unwrap_or_default())
}

fn to_micros(time: Duration) -> i64 {
    i64::try_from(time.as_micros()).unwrap_or(i64::MAX)
}

impl Alerts {
    /// Takes the current conditions; returns the messages to send.
    fn step(&self, conditions: &[Condition], now: i64) -> Vec<Message> {
        let rules = self.rules.read().clone();
        let mut alarms = self.alarms.lock();
        let mut messages = Vec::new();
        for rule in rules.iter() {
            let raised = conditions.iter().filter(|condition| condition.raises(rule));
            let raised: HashMap<&str, &Condition> = raised.map(|it| (it.subject.as_str(), it)).collect();
            let known = alarms.keys().filter(|(name, _)| *name == rule.name).map(|(_, subject)| subject.clone());
            let mut subjects: HashSet<String> = known.collect();
            subjects.extend(raised.keys().map(|subject| (*subject).to_owned()));
            for subject in subjects {
                let key = (rule.name.clone(), subject);
                if !alarms.contains_key(&key) && alarms.len() >= MOST {
                    continue;
                }
                let condition = raised.get(key.1.as_str()).copied();
                let own = alarms.entry(key.clone()).or_default();
                messages.extend(own.step(rule, &key.1, condition, now));
                if own.is_forgotten(rule, now) {
                    alarms.remove(&key);
                }
            }
        }
        messages
    }

    /// Takes the rules into force. Gives the notices of those that are gone.
    fn set(&self, rules: Vec<AlertRule>) -> Vec<StoredNotice> {
        let mut alarms = self.alarms.lock();
        let gone = |alarm: &StoredNotice| !rules.iter().any(|rule| rule.name == alarm.rule && rule.on == alarm.watched);
        let ended: Vec<StoredNotice> = alarms.values().filter_map(|own| own.notice.clone()).filter(gone).collect();
        alarms.retain(|(name, _), own| {
            rules.iter().any(|rule| rule.name == *name) && !own.notice.as_ref().is_some_and(gone)
        });
        *self.rules.write() = Arc::new(rules);
        ended
    }
}

impl OpenAlarm {
    fn step(&mut self, rule: &AlertRule, subject: &str, condition: Option<&Condition>, now: i64) -> Option<Message> {
        let told = self.alarm.step(rule, condition.is_some(), since_epoch(now), minute_of_day(now))?;
        let notice = match (told, self.notice.take()) {
            (Told::Over, Some(notice)) => StoredNotice { over_at: Some(now), ..notice },
            (Told::Over, None) => return None,
            (Told::Raised, _) => {
                let notice = StoredNotice {
                    id: new_id(),
                    rule: rule.name.clone(),
                    watched: rule.on,
                    subject: subject.to_owned(),
                    detail: condition.map(|condition| condition.detail.clone()).unwrap_or_default(),
                    since: self.alarm.since.map_or(now, to_micros),
                    told_at: now,
                    over_at: None,
                    problem: None,
                };
                self.notice = Some(notice.clone());
                notice
            }
        };
        Some(Message { rule: rule.clone(), told, notice })
    }

    /// Nothing lasts, and its pause is over.
    fn is_forgotten(&self, rule: &AlertRule, now: i64) -> bool {
        let pause = Duration::from_secs(60 * rule.pause);
        let over = self.alarm.told_at.is_none_or(|told| since_epoch(now) >= told + pause);
        self.alarm.since.is_none() && !self.alarm.open && over
    }
}

impl Gateway {
    /// The rules in force, by name.
    pub fn alert_rules(&self) -> Arc<Vec<AlertRule>> {
        self.inner.alerts.rules.read().clone()
    }

    /// Keeps a rule as its next version; gives the version.
    ///
    /// # Errors
    /// If it could never be sent, or not to these addresses.
    pub async fn put_alert_rule(&self, rule: AlertRule, by: &str) -> Result<i64, GatewayError> {
        rule.check()?;
        let registry = self.registry();
        for engine in &rule.engines {
            registry.engine(engine)?;
        }
        for address in &rule.to {
            self.check_address(address)?;
        }
        let document = serde_json::to_string(&rule).map_err(GatewayError::document("an alert"))?;
        let new = NewVersion::by(by, VersionedKind::AlertRule, &rule.name, document);
        let version = self.inner.store.put_version(new, now_micros()).await?;
        self.load_alert_rules().await?;
        Ok(version)
    }

    /// Retires a rule. Its open notices are closed.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn retire_alert_rule(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        self.inner.store.retire(VersionedKind::AlertRule, name.into(), by.into(), now_micros()).await?;
        self.load_alert_rules().await
    }

    /// Sends a message of a rule that says that it is a trial. Gives what became
    /// of it at each address.
    ///
    /// # Errors
    /// Where there is no rule of the name.
    pub async fn try_alert_rule(&self, name: &str) -> Result<Vec<(String, Result<(), String>)>, GatewayError> {
        let rules = self.alert_rules();
        let missing = || dispatcher_store::StoreError::Missing { what: "alert", name: name.to_owned() };
        let rule = rules.iter().find(|rule| rule.name == name).ok_or_else(missing)?;
        Ok(self.send_trial(rule).await)
    }

    /// Notices, the newest first; open ones before closed ones.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn notices(&self, limit: i64) -> Result<Vec<StoredNotice>, GatewayError> {
        Ok(self.inner.store.notices(limit).await?)
    }

    async fn load_alert_rules(&self) -> Result<(), GatewayError> {
        let mut rules = Vec::new();
        for row in self.inner.store.in_force(VersionedKind::AlertRule).await? {
            let rule: AlertRule = serde_json::from_str(&row.document)
                .map_err(GatewayError::document(format!("the alert {}", row.name)))?;
            rules.push(rule);
        }
        let now = now_micros();
        for notice in self.inner.alerts.set(rules) {
            self.inner.store.end_notice(notice.id, now).await?;
        }
        Ok(())
    }

    /// Checks all conditions, and sends the messages that are due.
    pub(crate) async fn watch_once(&self) -> Result<(), GatewayError> {
        if self.inner.alerts.rules.read().is_empty() {
            return Ok(());
        }
        let now = now_micros();
        let conditions = self.conditions(now).await?;
        for message in self.inner.alerts.step(&conditions, now) {
            let Message { rule, told, notice } = message;
            tracing::warn!(alert = rule.name, subject = notice.subject, over = told == Told::Over, "{}", notice.detail);
            let kept = match told {
                Told::Raised => self.inner.store.put_notice(notice.clone()).await,
                Told::Over => self.inner.store.end_notice(notice.id.clone(), now).await,
            };
            // Told all the same: the operator learns of it, and so of the others.
            if let Err(error) = kept {
                tracing::warn!(%error, "a notice could not be written");
            }
            self.inner.events.tell(|| Event::Notice(notice.clone()));
            self.send(rule, told, notice);
        }
        Ok(())
    }

    /// Loads the notices of an earlier run, and watches until the gateway ends.
    pub(crate) async fn keep_watch(&self) -> Result<(), GatewayError> {
        self.load_alert_rules().await?;
        let rules = self.alert_rules();
        for notice in self.inner.store.open_notices().await? {
            // What its rule does not watch any more is over.
            if !rules.iter().any(|rule| rule.name == notice.rule && rule.on == notice.watched) {
                self.inner.store.end_notice(notice.id, now_micros()).await?;
                continue;
            }
            let key = (notice.rule.clone(), notice.subject.clone());
            let alarm = Alarm {
                since: Some(since_epoch(notice.since)),
                told_at: Some(since_epoch(notice.told_at)),
                open: true,
            };
            self.inner.alerts.alarms.lock().insert(key, OpenAlarm { alarm, notice: Some(notice) });
        }
        let inner: Weak<Inner> = Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(EVERY).await;
                let Some(inner) = inner.upgrade() else { return };
                if let Err(error) = (Gateway { inner }).watch_once().await {
                    tracing::warn!(%error, "what alerts watch could not be looked at");
                }
            }
        });
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_core::Watched;

    use super::*;

    fn rule(on: Watched) -> AlertRule {
        let rule = serde_json::json!({"name": "watch", "on": on, "to": ["https://watch.saltmarsh.example"]});
        serde_json::from_value(rule).expect("a rule")
    }

    fn condition(on: Watched, subject: &str, measure: f64) -> Condition {
        Condition { on, engine: Some("heron".into()), subject: subject.into(), measure, detail: "it fails".into() }
    }

    fn told(messages: &[Message]) -> Vec<(&str, Told)> {
        let mut told: Vec<_> = messages.iter().map(|it| (it.notice.subject.as_str(), it.told)).collect();
        told.sort_by_key(|(subject, _)| (*subject).to_owned());
        told
    }

    #[test]
    fn each_subject_is_told_by_itself_and_its_end_in_the_same_notice() {
        let alerts = Alerts::default();
        alerts.set(vec![rule(Watched::BreakerOpen)]);
        let (one, other) =
            (condition(Watched::BreakerOpen, "heron", 1.0), condition(Watched::BreakerOpen, "ibis", 1.0));
        let first = alerts.step(std::slice::from_ref(&one), 1_000_000);
        assert_eq!(told(&first), [("heron", Told::Raised)]);
        assert_eq!(told(&alerts.step(&[one, other.clone()], 2_000_000)), [("ibis", Told::Raised)]);
        let ended = alerts.step(&[other], 3_000_000);
        assert_eq!(told(&ended), [("heron", Told::Over)]);
        assert_eq!((&ended[0].notice.id, ended[0].notice.over_at), (&first[0].notice.id, Some(3_000_000)));
        // What is over for long is forgotten.
        alerts.step(&[], 4_000_000);
        alerts.step(&[], 2_000_000_000);
        assert_eq!(alerts.alarms.lock().len(), 0);
    }

    #[test]
    fn a_rule_takes_what_it_watches_above_its_threshold_and_of_its_engines() {
        let alerts = Alerts::default();
        let share = AlertRule { threshold: Some(30.0), engines: vec!["heron".into()], ..rule(Watched::ErrorShare) };
        alerts.set(vec![share]);
        let ibis = Condition { engine: Some("ibis".into()), ..condition(Watched::ErrorShare, "ibis", 90.0) };
        let heron = |share| condition(Watched::ErrorShare, "heron", share);
        assert_eq!(told(&alerts.step(&[heron(29.0), ibis, condition(Watched::QueueFull, "heron", 90.0)], 1)), []);
        assert_eq!(told(&alerts.step(&[heron(31.0)], 2)), [("heron", Told::Raised)]);
    }

    #[test]
    fn what_a_retired_rule_has_told_is_given_back() {
        let alerts = Alerts::default();
        alerts.set(vec![rule(Watched::BreakerOpen)]);
        alerts.step(&[condition(Watched::BreakerOpen, "heron", 1.0)], 1);
        assert_eq!(alerts.set(vec![rule(Watched::BreakerOpen)]).len(), 0, "a new version goes on");
        let ended = alerts.set(Vec::new());
        assert_eq!(ended.iter().map(|it| it.subject.as_str()).collect::<Vec<_>>(), ["heron"]);
        assert_eq!(alerts.alarms.lock().len(), 0);
    }
}
