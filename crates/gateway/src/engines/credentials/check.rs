//! Whether credentials are taken: checked before they come into force, kept
//! trying while they are not live yet, and reported in plain words.

use std::sync::Weak;
use std::time::Duration;

use dispatcher_core::Cause;
use dispatcher_engines::{Engine, EngineError};
use dispatcher_store::{CredentialState, SealedCredential};
use dispatcher_vault::Parts;

use super::{CredentialView, OpenCredential};
use crate::{Gateway, GatewayError, Inner, now_micros};

/// Keys can take minutes to become live; it is tried so far apart.
const FIRST: Duration = Duration::from_secs(1);
const LONGEST: Duration = Duration::from_secs(60);
/// After a day it is given up.
const GIVEN_UP_MICROS: i64 = 24 * 3_600 * 1_000_000;

/// What a check of a credential found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CredentialCheck {
    pub credential: CredentialView,
    /// `None` if the sheet has no check without cost.
    pub works: Option<bool>,
    pub cause: Option<Cause>,
    /// For people: what is so, and what to do.
    pub told: String,
    /// Its rights, if the engine reports them.
    pub roles: Vec<String>,
    /// Of these, what it does not need.
    pub more: Vec<String>,
    /// What it needs and has not.
    pub missing: Vec<String>,
}

/// How a fresh credential was taken.
enum CredentialVerdict {
    Good,
    /// It may yet become so.
    Wait(Cause),
    Refused(Cause),
}

fn verdict(outcome: &Result<Vec<String>, EngineError>) -> CredentialVerdict {
    match outcome.as_ref().map_err(|error| error.cause) {
        Ok(_) => CredentialVerdict::Good,
        Err(
            cause @ (Cause::NotActiveYet
            | Cause::Unavailable
            | Cause::TimedOut
            | Cause::Throttled
            | Cause::Broken
            | Cause::Quota),
        ) => CredentialVerdict::Wait(cause),
        Err(cause) => CredentialVerdict::Refused(cause),
    }
}

/// A cause in plain words, with the next step.
fn words(cause: Cause, engine: &str) -> String {
    let text = match cause {
        Cause::Unauthorized => "it is mistyped, expired or revoked at the engine",
        Cause::NotActiveYet => "it is not active at the engine yet; this can take some minutes",
        Cause::WrongRegion => "it belongs to another region than the endpoint",
        Cause::MissingRole => "it lacks a role at the engine",
        Cause::Unpaid => "its account at the engine is not paid",
        Cause::Quota => "the limit of its account at the engine is reached",
        Cause::Throttled => "the engine accepts no more calls at present; try again later",
        Cause::Unavailable | Cause::TimedOut => "the engine cannot be reached, so the credential cannot be checked",
        Cause::Refused => "the engine refuses service",
        _ => "the engine's answer does not show whether the credential works",
    };
    match cause {
        Cause::Unauthorized | Cause::WrongRegion => {
            format!("{text}; replace it: dispatcher credential replace {engine}")
        }
        Cause::MissingRole | Cause::Unpaid => format!("{text}; correct this at the engine, then check again"),
        _ => text.into(),
    }
}

impl Gateway {
    /// Tries a version that was just added, and puts it into force where the
    /// engine takes it. What was in force stays until then.
    pub(super) async fn try_new(
        &self,
        row: SealedCredential,
        parts: &Parts,
        by: &str,
    ) -> Result<SealedCredential, GatewayError> {
        let registry = self.registry();
        let engine = registry.engine(&row.engine)?;
        let Some(outcome) = engine.try_credential(parts).await else {
            return self.set_unproven(row).await;
        };
        match verdict(&outcome) {
            CredentialVerdict::Good => self.activate(row, by).await,
            CredentialVerdict::Wait(cause) => {
                let row = self.hold(row, CredentialState::Pending, cause).await?;
                self.keep_trying(row.name.clone(), row.version);
                Ok(row)
            }
            CredentialVerdict::Refused(cause) => self.hold(row, CredentialState::Refused, cause).await,
        }
    }

    async fn activate(&self, row: SealedCredential, by: &str) -> Result<SealedCredential, GatewayError> {
        let state =
            self.inner.store.activate_credential(row.name.clone(), row.version, by.into(), now_micros()).await?;
        self.forget_credentials();
        Ok(SealedCredential { state, cause: None, ..row })
    }

    async fn hold(
        &self,
        row: SealedCredential,
        state: CredentialState,
        cause: Cause,
    ) -> Result<SealedCredential, GatewayError> {
        let cause = Some(cause.name().to_owned());
        let (name, version) = (row.name.clone(), row.version);
        self.inner.store.hold_credential(name, version, state, cause.clone(), now_micros()).await?;
        self.forget_credentials();
        Ok(SealedCredential { state, cause, ..row })
    }

    /// A version that cannot be tried without cost; the first call will show.
    async fn set_unproven(&self, row: SealedCredential) -> Result<SealedCredential, GatewayError> {
        let (name, version) = (row.name.clone(), row.version);
        self.inner.store.hold_credential(name, version, CredentialState::Unproven, None, now_micros()).await?;
        self.forget_credentials();
        Ok(SealedCredential { state: CredentialState::Unproven, cause: None, ..row })
    }

    /// The first call with a version succeeded: it comes into force, unless a
    /// newer one has done so meanwhile.
    pub(super) async fn prove(&self, opened: &OpenCredential) {
        let (name, version) = (opened.name.clone(), opened.version);
        if let Err(error) = self.inner.store.activate_credential(name, version, "gateway".into(), now_micros()).await {
            tracing::warn!(%error, "a credential that its engine takes was not noted");
        }
        self.forget_credentials();
    }

    /// The first call with a version was refused: it never comes into force.
    pub(super) async fn refuse(&self, opened: &OpenCredential, cause: Cause) {
        let (name, version, state) = (opened.name.clone(), opened.version, CredentialState::Refused);
        let told = Some(cause.name().to_owned());
        if let Err(error) = self.inner.store.hold_credential(name, version, state, told, now_micros()).await {
            tracing::warn!(%error, "a credential that its engine refuses was not noted");
        }
        self.forget_credentials();
    }

    /// Tries the versions that an earlier run left pending.
    pub(crate) async fn resume_checks(&self) -> Result<(), GatewayError> {
        for row in self.inner.store.credentials().await?.into_iter().filter(|row| row.state == CredentialState::Pending)
        {
            self.keep_trying(row.name, row.version);
        }
        Ok(())
    }

    fn keep_trying(&self, name: String, version: i64) {
        let inner: Weak<Inner> = std::sync::Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            let mut pause = FIRST;
            loop {
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(LONGEST);
                let Some(inner) = inner.upgrade() else { return };
                match (Gateway { inner }).try_again(&name, version).await {
                    Ok(true) => {}
                    Ok(false) => return,
                    Err(error) => tracing::warn!(credential = name, %error, "a pending credential was not tried"),
                }
            }
        });
    }

    /// Whether it is to be tried once more.
    async fn try_again(&self, name: &str, version: i64) -> Result<bool, GatewayError> {
        let rows = self.inner.store.credentials().await?;
        let pending = rows
            .into_iter()
            .find(|row| row.name == name && row.version == version && row.state == CredentialState::Pending);
        let Some(row) = pending else { return Ok(false) };
        let registry = self.registry();
        let engine = registry.engine(&row.engine)?;
        let parts = self.open_row(&row)?;
        let Some(outcome) = engine.try_credential(&parts).await else {
            self.set_unproven(row).await?;
            return Ok(false);
        };
        let old = now_micros() - row.created_at > GIVEN_UP_MICROS;
        match verdict(&outcome) {
            CredentialVerdict::Good => {
                tracing::info!(credential = name, version, "a pending credential is live");
                self.activate(row, "gateway").await?;
                Ok(false)
            }
            CredentialVerdict::Wait(cause) if !old => {
                if row.cause.as_deref() != Some(cause.name()) {
                    self.hold(row, CredentialState::Pending, cause).await?;
                }
                Ok(true)
            }
            CredentialVerdict::Wait(cause) | CredentialVerdict::Refused(cause) => {
                self.hold(row, CredentialState::Refused, cause).await?;
                Ok(false)
            }
        }
    }

    /// Checks the newest version of a credential that is not revoked.
    ///
    /// # Errors
    /// When there is none of the name.
    pub async fn check_credential(&self, name: &str, by: &str) -> Result<CredentialCheck, GatewayError> {
        let rows = self.inner.store.credentials().await?;
        let known = |row: &&SealedCredential| row.name == name && CredentialState::OPEN.contains(&row.state);
        let Some(row) = rows.iter().find(known).cloned() else {
            return Err(dispatcher_store::StoreError::Missing { what: "credential", name: name.into() }.into());
        };
        let registry = self.registry();
        let engine = registry.engine(&row.engine)?.clone();
        if row.hosts != engine.host() {
            let told = format!(
                "it is bound to {}, and the engine is called at {} now; if that is intended: dispatcher credential confirm {name}",
                row.hosts,
                engine.host()
            );
            return Ok(CredentialCheck { told, works: Some(false), ..CredentialCheck::of(super::view(&row)) });
        }
        let parts = self.open_row(&row)?;
        let outcome = engine.try_credential(&parts).await;
        self.inner
            .store
            .note("credential.check", format!("{name} version {}", row.version), by.into(), now_micros())
            .await?;
        let Some(outcome) = outcome else {
            let told =
                "its sheet has no call that checks it without cost; check it with real calls: dispatcher engine check";
            return Ok(CredentialCheck {
                told: format!("{told} {}", row.engine),
                ..CredentialCheck::of(super::view(&row))
            });
        };
        self.judged(row, &engine, outcome, by).await
    }

    async fn judged(
        &self,
        row: SealedCredential,
        engine: &Engine,
        outcome: Result<Vec<String>, EngineError>,
        by: &str,
    ) -> Result<CredentialCheck, GatewayError> {
        match &outcome {
            Err(error) => {
                let told = words(error.cause, &row.engine);
                let row = match verdict(&outcome) {
                    CredentialVerdict::Refused(cause) => self.hold(row, CredentialState::Refused, cause).await?,
                    _ => row,
                };
                let told = format!("{told} ({})", error.detail);
                Ok(CredentialCheck {
                    told,
                    works: Some(false),
                    cause: Some(error.cause),
                    ..CredentialCheck::of(super::view(&row))
                })
            }
            Ok(roles) => {
                let row = if row.state == CredentialState::Active { row } else { self.activate(row, by).await? };
                let needs = engine.sheet().access.check.as_ref().map(|check| check.needs.clone()).unwrap_or_default();
                let more: Vec<String> = match needs.is_empty() {
                    true => Vec::new(),
                    false => roles.iter().filter(|role| !needs.contains(role)).cloned().collect(),
                };
                let missing: Vec<String> = match roles.is_empty() {
                    true => Vec::new(),
                    false => needs.iter().filter(|need| !roles.contains(need)).cloned().collect(),
                };
                let told = match (missing.is_empty(), more.is_empty()) {
                    (false, _) => format!("the engine accepts it, but it lacks {}", missing.join(", ")),
                    (true, false) => {
                        format!("the engine accepts it; one without these rights is safer: {}", more.join(", "))
                    }
                    (true, true) => "the engine accepts it".to_owned(),
                };
                let works = Some(missing.is_empty());
                let cause = (!missing.is_empty()).then_some(Cause::MissingRole);
                Ok(CredentialCheck {
                    told,
                    works,
                    cause,
                    roles: roles.clone(),
                    more,
                    missing,
                    credential: super::view(&row),
                })
            }
        }
    }

    /// Binds a credential to where its engine is called now.
    ///
    /// # Errors
    /// When there is none of the name.
    pub async fn confirm_credential(&self, name: &str, by: &str) -> Result<CredentialView, GatewayError> {
        let rows = self.inner.store.credentials().await?;
        let known = |row: &&SealedCredential| row.name == name && row.state != CredentialState::Revoked;
        let Some(row) = rows.iter().find(known).cloned() else {
            return Err(dispatcher_store::StoreError::Missing { what: "credential", name: name.into() }.into());
        };
        let hosts = self.registry().engine(&row.engine)?.host();
        self.inner.store.bind_credential(name.into(), hosts.clone(), by.into(), now_micros()).await?;
        self.forget_credentials();
        Ok(super::view(&SealedCredential { hosts, ..row }))
    }
}

impl CredentialCheck {
    fn of(credential: CredentialView) -> CredentialCheck {
        CredentialCheck {
            credential,
            works: None,
            cause: None,
            told: String::new(),
            roles: Vec::new(),
            more: Vec::new(),
            missing: Vec::new(),
        }
    }
}
