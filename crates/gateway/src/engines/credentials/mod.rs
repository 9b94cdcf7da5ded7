//! Credentials: sealed on the way in, opened only for a call.

mod check;
mod root_keys;

pub use check::CredentialCheck;
pub use root_keys::{RootKeySource, RootKeys};

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use dispatcher_core::{CallPrice, Cause, Usage};
use dispatcher_engines::{Engine, EngineError};
use dispatcher_store::{CredentialState, SealedCredential, StoreError};
use dispatcher_vault::{Parts, Sealed, VaultError};
use parking_lot::Mutex;
use secrecy::ExposeSecret as _;

use crate::error::CredentialFault;
use crate::{EngineState, Gateway, GatewayError, PlannedCall, now_micros};

/// A use is noted in the records at most this often.
const NOTE_EVERY: Duration = Duration::from_secs(60);
/// Longer secrets are no credentials: key files are a few KiB.
const MAX_PART: usize = 64 << 10;

/// A credential as it may be shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CredentialView {
    pub name: String,
    pub engine: String,
    pub version: i64,
    pub state: CredentialState,
    pub cause: Option<String>,
    pub parts: Vec<String>,
    pub host: String,
    pub created_by: String,
    pub created_at: i64,
    pub last_used_at: Option<i64>,
    /// When it ends, as its owner says.
    pub ends_at: Option<i64>,
    /// Whether its engine is called with it where nobody names another.
    pub in_use: bool,
}

/// An opened credential, and when its use was last noted.
pub(crate) struct OpenCredential {
    pub(crate) name: String,
    pub(crate) version: i64,
    pub(crate) parts: Parts,
    /// Its engine has not accepted it yet; the first call will show.
    unproven: bool,
    /// When, and with which refusal.
    noted: Mutex<Option<(Instant, Option<Cause>)>>,
}

#[derive(Default)]
pub(crate) struct Cache(Mutex<HashMap<String, Arc<OpenCredential>>>);

impl Cache {
    fn get(&self, key: &str) -> Option<Arc<OpenCredential>> {
        self.0.lock().get(key).cloned()
    }

    fn put(&self, key: String, opened: Arc<OpenCredential>) {
        self.0.lock().insert(key, opened);
    }

    fn clear(&self) {
        self.0.lock().clear();
    }
}

fn view(row: &SealedCredential) -> CredentialView {
    CredentialView {
        name: row.name.clone(),
        engine: row.engine.clone(),
        version: row.version,
        state: row.state,
        cause: row.cause.clone(),
        parts: row.part_names.split(',').map(str::to_owned).collect(),
        host: row.hosts.clone(),
        created_by: row.created_by.clone(),
        created_at: row.created_at,
        last_used_at: row.last_used_at,
        ends_at: row.ends_at,
        in_use: false,
    }
}

/// What a failure says of the credential that a call was made with.
fn refusal(cause: Cause) -> Option<Cause> {
    let refused = matches!(
        cause,
        Cause::Unauthorized | Cause::NotActiveYet | Cause::WrongRegion | Cause::MissingRole | Cause::Unpaid
    );
    refused.then_some(cause)
}

impl Gateway {
    /// Revokes every credential that is sealed, where its root key is lost.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn forget_sealed_credentials(&self, by: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.forget_credentials(by.to_owned(), now_micros()).await?)
    }

    /// Seals a credential for an engine as the next version of its name. It
    /// comes into force once the engine takes it, or at once where that cannot
    /// be known without cost.
    ///
    /// # Errors
    /// When the parts are not those that the engine's sheet names.
    pub async fn add_credential(
        &self,
        engine: &str,
        name: Option<&str>,
        parts: Parts,
        by: &str,
    ) -> Result<CredentialView, GatewayError> {
        let registry = self.registry();
        let found = registry.engine(engine)?;
        let wanted = &found.sheet().access.parts;
        let given: Vec<&String> = parts.keys().collect();
        let missing: Vec<&String> = wanted.iter().filter(|part| !parts.contains_key(*part)).collect();
        if wanted.is_empty() {
            return Err(CredentialFault::NotNeeded(engine.into()).into());
        }
        if !missing.is_empty() || given.len() != wanted.len() {
            let given = given.into_iter().cloned().collect();
            return Err(CredentialFault::WrongParts { engine: engine.into(), wanted: wanted.clone(), given }.into());
        }
        if let Some(part) = wanted.iter().find(|part| {
            let length = parts[*part].expose_secret().len();
            length == 0 || length > MAX_PART
        }) {
            return Err(CredentialFault::PartSize { part: part.clone(), most: MAX_PART }.into());
        }
        let name = name.unwrap_or(engine).to_owned();
        let (engine, hosts, by) = (engine.to_owned(), found.host(), by.to_owned());
        let part_names = wanted.join(",");
        let now = now_micros();
        let inner = self.inner.clone();
        let (row_name, created_by, who) = (name.clone(), by.clone(), by.clone());
        let sealing = parts.clone();
        let row = self
            .inner
            .store
            .put_credential(name, by, now, move |version| {
                let sealed = inner.roots.seal(&row_name, version, &sealing);
                let sealed = sealed.map_err(|error| StoreError::Document(error.to_string()))?;
                Ok(SealedCredential {
                    name: row_name,
                    version,
                    engine,
                    state: CredentialState::Pending,
                    cause: None,
                    part_names,
                    hosts,
                    wrapped_key: sealed.wrapped_key,
                    ciphertext: sealed.ciphertext,
                    created_by,
                    created_at: now,
                    last_used_at: None,
                    ends_at: None,
                })
            })
            .await?;
        let row = self.try_new(row, &parts, &who).await?;
        Ok(view(&row))
    }

    /// Notes when a version of a credential ends, so that alerts can say so before.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn note_credential_end(&self, view: CredentialView, at: i64) -> Result<CredentialView, GatewayError> {
        self.inner.store.note_credential_end(view.name.clone(), view.version, at).await?;
        Ok(CredentialView { ends_at: Some(at), ..view })
    }

    /// The parts of an engine's credential out of a key file of JSON.
    ///
    /// # Errors
    /// When the file is none, or a part is not where the sheet says.
    pub fn parts_of_file(&self, engine: &str, text: &str) -> Result<Parts, GatewayError> {
        let registry = self.registry();
        Ok(registry.engine(engine)?.parts_of_file(text).map_err(CredentialFault::from)?)
    }

    /// Forgets what was opened, after something changed that it depends on.
    pub(crate) fn forget_credentials(&self) {
        self.inner.credentials.clear();
    }

    /// All credentials, newest version of each name first; never a secret.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn credentials(&self) -> Result<Vec<CredentialView>, GatewayError> {
        let rows = self.inner.store.credentials().await?;
        let registry = self.registry();
        let used: Vec<(String, i64)> = registry
            .engines()
            .filter_map(|engine| self.usable(engine, None, &rows).ok())
            .map(|row| (row.name.clone(), row.version))
            .collect();
        let shown = |row: &SealedCredential| {
            let in_use = used.iter().any(|(name, version)| *name == row.name && *version == row.version);
            CredentialView { in_use, ..view(row) }
        };
        Ok(rows.iter().map(shown).collect())
    }

    /// Revokes all versions of a credential.
    ///
    /// # Errors
    /// When there is none of the name.
    pub async fn revoke_credential(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        self.inner.store.revoke_credential(name.into(), by.into(), now_micros()).await?;
        self.inner.credentials.clear();
        Ok(())
    }

    fn open_row(&self, row: &SealedCredential) -> Result<Parts, VaultError> {
        let sealed = Sealed { wrapped_key: row.wrapped_key.clone(), ciphertext: row.ciphertext.clone() };
        self.inner.roots.open(&row.name, row.version, &sealed)
    }

    /// The version that an engine is called with: of the credential that is
    /// named, else of the one that has the engine's name, else of the one that
    /// was added last. A version that is to prove itself goes before the one
    /// that has.
    fn usable<'a>(
        &self,
        engine: &Engine,
        name: Option<&str>,
        rows: &'a [SealedCredential],
    ) -> Result<&'a SealedCredential, EngineError> {
        let sheet = engine.sheet();
        let absent = |detail: String| EngineError { cause: Cause::Absent, detail, retry_after: None };
        let mut own: Vec<&SealedCredential> =
            rows.iter().filter(|row| row.engine == sheet.name && name.is_none_or(|name| row.name == name)).collect();
        own.sort_by_key(|row| (row.name != sheet.name, std::cmp::Reverse(row.created_at)));
        let of = |state: CredentialState| own.iter().copied().find(|row| row.state == state);
        let good = own.iter().copied().find(|row| row.state.serves());
        // Both states of one credential: its newest version comes first.
        let good = good.and_then(|good| {
            let of_name =
                |state: CredentialState| own.iter().copied().find(|row| row.name == good.name && row.state == state);
            of_name(CredentialState::Unproven).or(of_name(CredentialState::Active))
        });
        if let (None, None, Some(pending)) = (good, of(CredentialState::Refused), of(CredentialState::Pending)) {
            let cause = pending.cause.as_deref().unwrap_or("not tried yet");
            return Err(absent(format!("its credential is pending ({cause}); it is tried again for a day")));
        }
        let Some(row) = good.or(of(CredentialState::Refused)) else {
            return Err(absent(match name {
                Some(name) => format!("it has no credential '{name}'; list them: dispatcher credential list"),
                None => format!("no credential; run: dispatcher credential add {}", sheet.name),
            }));
        };
        if row.hosts != engine.host() {
            return Err(absent(format!(
                "its credential is bound to {}, not to {}; if that is intended: dispatcher credential confirm {}",
                row.hosts,
                engine.host(),
                row.name
            )));
        }
        Ok(row)
    }

    /// What to call the engine with; `None` if it needs no credential.
    pub(crate) async fn credential_for(
        &self,
        engine: &Engine,
        name: Option<&str>,
    ) -> Result<Option<Arc<OpenCredential>>, EngineError> {
        let sheet = engine.sheet();
        if sheet.access.parts.is_empty() {
            return Ok(None);
        }
        let key = format!("{}/{}", sheet.name, name.unwrap_or_default());
        if let Some(opened) = self.inner.credentials.get(&key) {
            return Ok(Some(opened));
        }
        let absent = |detail: String| EngineError { cause: Cause::Absent, detail, retry_after: None };
        let rows = self.inner.store.credentials().await.map_err(|error| absent(error.to_string()))?;
        let row = self.usable(engine, name, &rows)?;
        let parts = self.open_row(row).map_err(|error| absent(error.to_string()))?;
        let unproven = row.state == CredentialState::Unproven;
        let (name, version) = (row.name.clone(), row.version);
        let opened = Arc::new(OpenCredential { name, version, parts, unproven, noted: Mutex::new(None) });
        self.inner.credentials.put(key, opened.clone());
        Ok(Some(opened))
    }

    /// Makes a call with the engine's credential, or the one that is named. A
    /// version that was never tried proves itself with it; where it is
    /// refused, the former one takes over.
    ///
    /// # Errors
    /// Those of the call, and where there is no credential.
    pub(crate) async fn with_credential<T, F>(
        &self,
        engine: &Engine,
        name: Option<&str>,
        mut call: impl FnMut(Option<Arc<OpenCredential>>) -> F,
    ) -> Result<T, EngineError>
    where
        F: Future<Output = Result<T, EngineError>>,
    {
        let mut opened = self.credential_for(engine, name).await?;
        loop {
            let outcome = call(opened.clone()).await;
            let Some(used) = opened.take() else { return outcome };
            let cause = outcome.as_ref().err().map(|error| error.cause);
            if !used.unproven {
                self.note_use(&used, cause.map_or(Ok(()), Err));
                return outcome;
            }
            match (&outcome, cause.and_then(refusal)) {
                (Ok(_), _) => {
                    self.prove(&used).await;
                    return outcome;
                }
                (Err(_), None) => return outcome,
                (Err(_), Some(cause)) => self.refuse(&used, cause).await,
            }
            match self.credential_for(engine, name).await {
                Ok(Some(former)) if former.version != used.version => opened = Some(former),
                _ => return outcome,
            }
        }
    }

    /// The credential of a call and its region, for the records: each attempt
    /// has the version it was made with, and each has a breaker.
    pub(crate) async fn credential_name(&self, planned: &PlannedCall) -> Option<String> {
        let opened = self.credential_for(&planned.engine, planned.candidate.credential.as_deref()).await.ok()??;
        let named = format!("{} version {}", opened.name, opened.version);
        Some(match planned.candidate.region() {
            Some(region) => format!("{named} in {region}"),
            None => named,
        })
    }

    /// How a call is charged on a day, after what was used in its month: in the
    /// region of its credential, unless it has one of its own.
    pub(crate) async fn price_of(
        &self,
        planned: &PlannedCall,
        day: &str,
        used: Usage,
    ) -> Result<CallPrice, GatewayError> {
        let candidate = &planned.candidate;
        let of_credential = match &candidate.sheet.regions {
            Some(regions) if candidate.region().is_none() && !candidate.tariff().regions.is_empty() => {
                let opened = self.credential_for(&planned.engine, candidate.credential.as_deref()).await.ok().flatten();
                opened.and_then(|opened| Some(opened.parts.get(&regions.part)?.expose_secret().to_owned()))
            }
            _ => None,
        };
        Ok(candidate.price_in(of_credential.as_deref(), day, used)?)
    }

    /// Notes how an engine took the credential; a change at once, otherwise
    /// now and then.
    pub(crate) fn note_use(&self, opened: &OpenCredential, outcome: Result<(), Cause>) {
        let refusal = outcome.err().and_then(refusal);
        {
            let mut noted = opened.noted.lock();
            let fresh = noted.is_some_and(|(at, refused)| at.elapsed() < NOTE_EVERY && refused == refusal);
            if fresh {
                return;
            }
            *noted = Some((Instant::now(), refusal));
        }
        let (store, name, version) = (self.inner.store.clone(), opened.name.clone(), opened.version);
        let cause = refusal.map(|cause| cause.name().to_owned());
        self.inner.running.spawn(async move {
            if let Err(error) = store.note_credential_use(name, version, cause, now_micros()).await {
                tracing::warn!(%error, "the use of a credential was not noted");
            }
        });
    }

    /// Whether an engine can be called, from what is known without calling it.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn engine_state(&self, engine: &Engine) -> Result<EngineState, GatewayError> {
        Ok(self.state_of(engine, &self.inner.store.credentials().await?))
    }

    /// As [`Gateway::engine_state`], of every engine by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn engine_states(&self) -> Result<HashMap<String, EngineState>, GatewayError> {
        let rows = self.inner.store.credentials().await?;
        let registry = self.registry();
        Ok(registry.engines().map(|engine| (engine.sheet().name.clone(), self.state_of(engine, &rows))).collect())
    }

    fn state_of(&self, engine: &Engine, rows: &[SealedCredential]) -> EngineState {
        let name = &engine.sheet().name;
        if let Some(reason) = engine.absent() {
            return EngineState::Absent(reason);
        }
        if engine.sheet().access.parts.is_empty() {
            return EngineState::Ready;
        }
        match self.usable(engine, None, rows) {
            Err(error) => EngineState::Absent(error.detail),
            Ok(row) if row.state == CredentialState::Refused => EngineState::Refused(format!(
                "its credential is not accepted ({}); check it, then: dispatcher credential add {name}",
                row.cause.as_deref().unwrap_or("refused"),
            )),
            Ok(_) => EngineState::Ready,
        }
    }
}
