//! Apps and their keys.

use dispatcher_core::{KeyGrants, PlanError, VoiceQuery};
use dispatcher_store::{AccessKey, App, Identified};
use dispatcher_vault::{KeyKind, new_key, random_token};
use ipnet::IpNet;
use secrecy::SecretString;

use crate::{Gateway, GatewayError, KeyLimits, now_micros};

/// The app that pays for the console; its keys are operator keys.
pub(crate) const CONSOLE: &str = "console";
/// Characters of the id of a key or token.
const ID: usize = 12;
/// Characters of the label of a key or token; what is longer is cut.
const LABEL: usize = 80;

/// The id of a new key or token.
pub(crate) fn key_id() -> String {
    random_token(&mut rand::rng())[..ID].to_owned()
}

/// A label as it is kept.
pub(crate) fn label_of(label: &str) -> String {
    label.chars().take(LABEL).collect()
}

/// A new key of an app, to be kept, and its secret, which is shown once.
pub fn new_access_key(app: &str, label: &str) -> (AccessKey, SecretString) {
    let operator = app == CONSOLE;
    let made = new_key(if operator { KeyKind::Operator } else { KeyKind::App }, &mut rand::rng());
    let key = AccessKey {
        id: key_id(),
        app: app.to_owned(),
        operator,
        hash: made.hash,
        hint: made.hint,
        label: label_of(label),
        created_at: now_micros(),
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
    (key, made.secret)
}

/// A key to be added.
#[derive(Debug, Clone)]
pub struct NewKey {
    pub label: String,
    pub limits: KeyLimits,
    /// Seconds until it expires, if it does.
    pub expires_in: Option<u64>,
    pub grants: KeyGrants,
    /// Networks that it is accepted from; any if empty.
    pub networks: Vec<IpNet>,
}

impl NewKey {
    /// A key that is limited in nothing.
    pub fn labelled(label: &str) -> NewKey {
        NewKey {
            label: label.to_owned(),
            limits: KeyLimits { per_minute: None, at_once: None },
            expires_in: None,
            grants: KeyGrants::default(),
            networks: Vec::new(),
        }
    }
}

impl Gateway {
    /// All apps by name.
    ///
    /// # Errors
    /// When the records cannot be read or written; so with all of these.
    pub async fn apps(&self) -> Result<Vec<App>, GatewayError> {
        Ok(self.inner.store.apps().await?)
    }

    /// One app.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn app(&self, name: &str) -> Result<App, GatewayError> {
        Ok(self.inner.store.app(name.to_owned()).await?)
    }

    /// Adds an app.
    ///
    /// # Errors
    /// Where the name is taken.
    pub async fn add_app(&self, app: App, by: &str) -> Result<App, GatewayError> {
        self.check_reply_hook(&app)?;
        let app = self.inner.store.add_app(app, by.to_owned()).await?;
        self.note_app(&app).await?;
        Ok(app)
    }

    /// Changes an app, from its next request on.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn change_app(&self, app: App, by: &str) -> Result<App, GatewayError> {
        self.check_reply_hook(&app)?;
        let app = self.inner.store.change_app(app, by.to_owned(), now_micros()).await?;
        self.note_app(&app).await?;
        self.forget_grants();
        Ok(app)
    }

    /// The keys of an app, without their secrets.
    ///
    /// # Errors
    /// Where there is no app of the name.
    pub async fn app_keys(&self, app: &str) -> Result<Vec<AccessKey>, GatewayError> {
        self.app(app).await?;
        Ok(self.inner.store.keys(app.to_owned()).await?)
    }

    /// Adds a key to an app; returns its secret, which is shown nowhere else.
    ///
    /// # Errors
    /// Where there is no app of the name, or its grants name what is not there.
    pub async fn add_app_key(
        &self,
        app: &str,
        new: NewKey,
        by: &str,
    ) -> Result<(AccessKey, SecretString), GatewayError> {
        let NewKey { label, limits, expires_in, grants, networks } = new;
        self.check_grants(&grants)?;
        let (key, secret) = new_access_key(app, &label);
        let KeyLimits { per_minute, at_once } = limits;
        let micros = |seconds: u64| i64::try_from(seconds).unwrap_or(i64::MAX).saturating_mul(1_000_000);
        let expires_at = expires_in.map(|seconds| key.created_at.saturating_add(micros(seconds)));
        let networks: Vec<String> = networks.iter().map(IpNet::to_string).collect();
        let key = AccessKey { per_minute, at_once, expires_at, ..key }.with_grants(&grants, &networks);
        Ok((self.inner.store.add_key(key, by.to_owned()).await?, secret))
    }

    /// Whether everything that is granted is there, so that a slip is noticed
    /// when the key is added.
    fn check_grants(&self, grants: &KeyGrants) -> Result<(), GatewayError> {
        let registry = self.registry();
        if let Some(route) = grants.routes.iter().find(|route| !registry.routes().contains_key(*route)) {
            return Err(GatewayError::NoSuchRoute(route.clone()));
        }
        for engine in &grants.engines {
            registry.engine(engine)?;
        }
        let index = registry.voices();
        for voice in &grants.voices {
            let query = VoiceQuery { among: Some(vec![voice.clone()]), limit: 1, ..VoiceQuery::default() };
            if index.find(&query).page.is_empty() {
                return Err(PlanError::NoSuchVoice { wanted: voice.clone(), nearest: Vec::new() }.into());
            }
        }
        Ok(())
    }

    /// Revokes a key of an app by its id or a unique beginning of it; the
    /// sessions that began with it end.
    ///
    /// # Errors
    /// Where the app has none, or several, that begin so.
    pub async fn revoke_app_key(&self, app: &str, id: &str, by: &str) -> Result<(), GatewayError> {
        let store = &self.inner.store;
        let id = store.id_of(Identified::Key, Some(vec![app.to_owned()]), id.to_owned()).await?;
        store.revoke_key(app.to_owned(), id, by.to_owned(), now_micros()).await?;
        self.forget_grants();
        Ok(())
    }
}
