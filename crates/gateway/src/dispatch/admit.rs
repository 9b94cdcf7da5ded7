//! Admit: who may do this.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use dispatcher_core::{Bounds, Circumstances, GrantRefusal, KeyGrants};
use dispatcher_store::{App, Grant, PersonRole, Session};
use dispatcher_vault::{KeyKind, hash_key, key_kind};
use ipnet::IpNet;
use parking_lot::Mutex;

use crate::clock::minute_of_day;
use crate::desk::CONSOLE;
use crate::dispatch::tokens::Token;
use crate::{Gateway, GatewayError, now_micros};

/// A grant is looked up again after this long, a revoked one at once.
const KEEP: Duration = Duration::from_secs(30);
/// Keys kept at once.
const MAX_KEPT: usize = 4_096;

/// Who makes a request.
#[derive(Debug, Clone)]
pub struct Caller {
    pub app: App,
    /// What it may do beyond its app.
    pub role: CallerRole,
    /// For the audit log: a key's id, or a person.
    pub who: String,
    /// The limits of its key, where the key has any.
    pub key: Option<KeyLimits>,
    /// What its key is granted, where that is not everything.
    pub grants: Option<Arc<KeyGrants>>,
    /// The token that it calls with, in place of a key.
    pub token: Option<Token>,
    /// For whom its request is, in the words of the app.
    pub end_user: Option<Arc<str>>,
}

/// What a caller may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CallerRole {
    /// A key or token: use its app.
    App,
    /// A person: use the first of these apps, read the records of all of them, and change their keys.
    AppOwner(Arc<[String]>),
    /// A person: read everything.
    Auditor,
    /// Everything.
    Operator,
}

/// Requests for work that may be made with a key, beside what its app may make.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyLimits {
    pub per_minute: Option<i64>,
    pub at_once: Option<i64>,
}

impl Caller {
    /// Somebody who speaks for an app, without limits of a key or token.
    pub fn of_app(app: App, who: impl Into<String>) -> Caller {
        Caller { app, role: CallerRole::App, who: who.into(), key: None, grants: None, token: None, end_user: None }
    }

    /// Somebody at a desk with no service: they see every voice.
    pub(crate) fn nobody() -> Self {
        let app = App { rehearsal: true, ..App::new("desk", "", 0) };
        Caller { role: CallerRole::Operator, ..Caller::of_app(app, "") }
    }

    /// The key or person that makes the request, or made its token.
    pub(crate) fn principal(&self) -> &str {
        self.token.as_ref().map_or(self.who.as_str(), Token::made_by)
    }

    /// For whom its request is, for records.
    pub fn end_user(&self) -> Option<String> {
        self.end_user.as_deref().map(str::to_owned)
    }

    /// The caller with a request for an end user of its app. A token that was
    /// made for one is for no other.
    ///
    /// # Errors
    /// Where the name is empty, too long or no text, or another than the token's.
    pub fn for_end_user(mut self, name: &str) -> Result<Caller, GatewayError> {
        if !is_end_user(name) {
            return Err(GatewayError::BadEndUser);
        }
        match &self.end_user {
            Some(own) if **own != *name => Err(GatewayError::ForeignEndUser),
            Some(_) => Ok(self),
            None => {
                self.end_user = Some(name.into());
                Ok(self)
            }
        }
    }

    /// Where engines may be called for it.
    pub fn bounds(&self) -> Bounds {
        let bounds = Bounds::default().at(self.app.site).in_region(self.app.region.as_deref());
        match &self.grants {
            Some(grants) => bounds.only(&grants.engines, &grants.voices),
            None => bounds,
        }
    }

    /// What conditions of routes may ask of its request, whose audio format has
    /// these names.
    pub(crate) fn circumstances<'a>(&'a self, formats: &'a [&'a str]) -> Circumstances<'a> {
        Circumstances { app: Some(&self.app.name), formats, minute: Some(minute_of_day(now_micros())) }
    }

    /// The voices made for this account that it may use; all of them where
    /// nothing is given.
    pub fn granted(&self) -> Option<Vec<String>> {
        let voices = self.app.custom_voices.as_deref().unwrap_or_default();
        (!self.reads_all()).then(|| voices.lines().map(str::to_owned).collect())
    }
}

/// Whether it may name an end user: 1 to 100 characters without control
/// characters, and no space at its ends.
pub(crate) fn is_end_user(name: &str) -> bool {
    (1..=100).contains(&name.chars().count()) && name.trim() == name && !name.chars().any(char::is_control)
}

/// Grants that were looked up.
#[derive(Default)]
pub(crate) struct GrantCache(Mutex<Looked>);

#[derive(Default)]
struct Looked {
    kept: HashMap<String, (Instant, Grant)>,
    /// How often the cache was cleared: what was looked up before a key was
    /// revoked must not be kept after it.
    generation: u64,
}

impl GrantCache {
    fn get(&self, hash: &str) -> Option<Grant> {
        self.lock().kept.get(hash).filter(|(seen, _)| seen.elapsed() < KEEP).map(|(_, grant)| grant.clone())
    }

    fn lock(&self) -> parking_lot::MutexGuard<'_, Looked> {
        self.0.lock()
    }

    fn generation(&self) -> u64 {
        self.lock().generation
    }

    /// Keeps what was looked up in a generation, unless that is over.
    fn put(&self, hash: String, grant: Grant, generation: u64) {
        let mut looked = self.lock();
        if looked.generation != generation {
            return;
        }
        if looked.kept.len() >= MAX_KEPT {
            looked.kept.clear();
        }
        looked.kept.insert(hash, (Instant::now(), grant));
    }

    pub(crate) fn clear(&self) {
        let mut looked = self.lock();
        looked.kept.clear();
        looked.generation += 1;
    }
}

impl Gateway {
    /// Who the key speaks for, called from an address. An operator key speaks for
    /// the app it belongs to.
    ///
    /// # Errors
    /// [`GatewayError::BadKey`] with a hint where the key is mistyped;
    /// [`GatewayError::Grant`] where it is not accepted from there.
    pub async fn admit(&self, key: &str, from: Option<IpAddr>) -> Result<Caller, GatewayError> {
        match key_kind(key) {
            None => return Err(GatewayError::BadKey("; it is mistyped or cut off (its check digit does not fit)")),
            Some(KeyKind::Token) => return Err(GatewayError::BadKey("; a token stands in its place")),
            Some(KeyKind::App | KeyKind::Operator) => {}
        }
        let hash = hash_key(key);
        let grant = match self.inner.grants.get(&hash) {
            Some(grant) => grant,
            None => {
                let generation = self.inner.grants.generation();
                let found = self.inner.store.grant(hash.clone()).await?;
                let grant = found.ok_or(GatewayError::BadKey("; it was revoked, or belongs to another gateway"))?;
                self.inner.store.note_key_use(grant.key.id.clone(), now_micros());
                self.inner.grants.put(hash, grant.clone(), generation);
                grant
            }
        };
        let Grant { key, app } = grant;
        if key.has_expired(now_micros()) {
            return Err(GatewayError::BadKey("; it has expired"));
        }
        check_network(key.networks.as_deref(), from)?;
        let grants = Some(key.grants()).filter(|grants| !grants.is_whole()).map(Arc::new);
        let role = if key.operator { CallerRole::Operator } else { CallerRole::App };
        let limits = KeyLimits { per_minute: key.per_minute, at_once: key.at_once };
        let limited = key.per_minute.is_some() || key.at_once.is_some();
        Ok(Caller { role, grants, key: limited.then_some(limits), ..Caller::of_app(app, key.id) })
    }

    /// The caller of a session. An operator or auditor speaks for the app
    /// `console`, an app owner for the first of their apps.
    ///
    /// # Errors
    /// When the records cannot be read; [`GatewayError::NoPerson`] where the
    /// person was removed meanwhile.
    pub async fn admit_session(&self, session: &Session) -> Result<Caller, GatewayError> {
        let store = &self.inner.store;
        let console = || store.app(CONSOLE.into());
        let as_who = |role, app| Caller { role, ..Caller::of_app(app, session.person.clone()) };
        if session.key.is_some() {
            return Ok(as_who(CallerRole::Operator, console().await?));
        }
        let person = store.person(session.person.clone()).await?.ok_or(GatewayError::NoPerson)?;
        let apps: Arc<[String]> = person.apps.iter().flat_map(|apps| apps.lines()).map(str::to_owned).collect();
        Ok(match (person.role, apps.first()) {
            (PersonRole::Operator, _) => as_who(CallerRole::Operator, console().await?),
            (PersonRole::Auditor, _) => as_who(CallerRole::Auditor, console().await?),
            (PersonRole::AppOwner, Some(first)) => {
                let app = store.app(first.clone()).await?;
                as_who(CallerRole::AppOwner(apps), app)
            }
            (PersonRole::AppOwner, None) => return Err(GatewayError::NoPerson),
        })
    }

    /// Forgets looked-up grants, after keys or apps were changed.
    pub(crate) fn forget_grants(&self) {
        self.inner.grants.clear();
    }
}

/// Whether a key that is bound to networks is called from one of them.
fn check_network(networks: Option<&str>, from: Option<IpAddr>) -> Result<(), GatewayError> {
    let Some(networks) = networks else { return Ok(()) };
    let from = from.map(|from| from.to_canonical());
    let within = |network: &str| network.parse::<IpNet>().ok().zip(from).is_some_and(|(net, from)| net.contains(&from));
    match networks.lines().any(within) {
        true => Ok(()),
        false => {
            let from = from.map_or_else(|| "an unknown address".to_owned(), |from| from.to_string());
            Err(GrantRefusal::Network(from).into())
        }
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_store::AccessKey;

    use super::*;

    #[test]
    fn a_key_that_is_bound_to_networks_is_not_accepted_from_elsewhere() {
        let accepted = |networks: Option<&str>, from: &str| check_network(networks, from.parse().ok()).is_ok();
        let both = Some("10.1.0.0/16\n2001:db8::/32");
        assert!(accepted(None, "203.0.113.7"));
        assert!(accepted(both, "10.1.255.9") && accepted(both, "2001:db8::1") && accepted(both, "::ffff:10.1.2.3"));
        for elsewhere in ["10.2.0.1", "2001:db9::1", "127.0.0.1", "nowhere"] {
            assert!(!accepted(both, elsewhere), "{elsewhere}");
        }
        // What can no longer be read opens nothing.
        assert!(!accepted(Some("10.1.0.0"), "10.1.0.0"));
    }

    #[test]
    fn a_grant_that_was_looked_up_before_a_revocation_is_not_kept_after_it() {
        let cache = GrantCache::default();
        let key = AccessKey {
            id: "k1".into(),
            app: "quay".into(),
            operator: false,
            hash: "h".into(),
            hint: "ab12".into(),
            label: String::new(),
            created_at: 1,
            last_used_at: None,
            revoked_at: None,
            per_minute: None,
            at_once: None,
            expires_at: None,
            calls: None,
            routes: None,
            engines: None,
            voices: None,
            networks: None,
        };
        let grant = Grant { key, app: App::new("quay", "Quay", 1) };
        cache.put("h".into(), grant.clone(), cache.generation());
        assert!(cache.get("h").is_some());
        let before = cache.generation();
        cache.clear();
        cache.put("h".into(), grant, before);
        assert!(cache.get("h").is_none(), "the key was revoked while it was looked up");
    }
}
