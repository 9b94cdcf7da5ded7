//! Admit: who may do this.

use std::collections::HashMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use dispatcher_store::{App, Grant};
use dispatcher_vault::{hash_key, key_kind};

use crate::{Gateway, GatewayError, now_micros};

/// A grant is looked up again after this long, a revoked one at once.
const KEEP: Duration = Duration::from_secs(30);
/// Keys kept at once.
const MAX_KEPT: usize = 4_096;

/// Who makes a request.
#[derive(Debug, Clone)]
pub struct Caller {
    pub app: App,
    /// May read and change records.
    pub operator: bool,
    /// For the audit log: a key's id, or a person.
    pub who: String,
}

impl Caller {
    /// Somebody at a desk with no service: they see every voice.
    pub(crate) fn nobody() -> Self {
        let app = App { rehearsal: 1, ..App::new("desk", "", 0) };
        Caller { app, operator: true, who: String::new() }
    }

    /// The voices made for this account that it may use; all of them where
    /// nothing is given.
    pub fn granted(&self) -> Option<Vec<String>> {
        let voices = self.app.custom_voices.as_deref().unwrap_or_default();
        (!self.operator).then(|| voices.lines().map(str::to_owned).collect())
    }
}

#[derive(Default)]
pub(crate) struct GrantCache(Mutex<HashMap<String, (Instant, Grant)>>);

impl GrantCache {
    fn get(&self, hash: &str) -> Option<Grant> {
        let kept = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        kept.get(hash).filter(|(seen, _)| seen.elapsed() < KEEP).map(|(_, grant)| grant.clone())
    }

    fn put(&self, hash: String, grant: Grant) {
        let mut kept = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if kept.len() >= MAX_KEPT {
            kept.clear();
        }
        kept.insert(hash, (Instant::now(), grant));
    }

    pub(crate) fn clear(&self) {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clear();
    }
}

impl Gateway {
    /// Who the key speaks for. An operator key speaks for the app it belongs to.
    ///
    /// # Errors
    /// [`GatewayError::BadKey`] with a hint where the key is mistyped.
    pub async fn admit(&self, key: &str) -> Result<Caller, GatewayError> {
        if key_kind(key).is_none() {
            return Err(GatewayError::BadKey("; it is mistyped or cut off (its check digit does not fit)"));
        }
        let hash = hash_key(key);
        let grant = match self.inner.grants.get(&hash) {
            Some(grant) => grant,
            None => {
                let found = self.inner.store.grant(hash.clone()).await?;
                let grant = found.ok_or(GatewayError::BadKey("; it was revoked, or belongs to another gateway"))?;
                self.inner.store.note_key_use(grant.key.id.clone(), now_micros());
                self.inner.grants.put(hash, grant.clone());
                grant
            }
        };
        Ok(Caller { app: grant.app, operator: grant.key.operator == 1, who: grant.key.id })
    }

    /// The caller of a signed-in operator, who speaks for the app `console`.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn admit_person(&self, person: &str) -> Result<Caller, GatewayError> {
        let app = self.inner.store.app("console".into()).await?;
        Ok(Caller { app, operator: true, who: person.into() })
    }

    /// Forgets looked-up grants, after keys or apps were changed.
    pub fn forget_grants(&self) {
        self.inner.grants.clear();
    }
}
