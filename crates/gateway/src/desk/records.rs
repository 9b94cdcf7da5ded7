//! What was done, what it cost and who changed what. An app key sees its own
//! app's alone.

use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{Costs, Money};
use dispatcher_store::{
    AuditEntry, AuditFilter, DispatchFilter, DispatchState, GroupBy, Identified, LedgerCheck, LedgerEntry,
    SampleDispatch, StoreError, StoredAttempt, StoredDispatch, UsageTotal,
};

use crate::{Caller, CallerRole, Gateway, GatewayError, day_of, now_micros, today};

/// Dispatches that an overview looks at.
const NEWEST: i64 = 500;
/// How often the sums of usage are brought up to date.
const ROLL_UP: Duration = Duration::from_secs(120);

/// A dispatch with its attempts, in order, and its ledger entries.
#[derive(Debug, Clone)]
pub struct DispatchDetails {
    pub dispatch: StoredDispatch,
    pub attempts: Vec<StoredAttempt>,
    pub ledger: Vec<LedgerEntry>,
}

/// What was used in some days.
#[derive(Debug, Clone)]
pub struct UsageReport {
    pub groups: Vec<UsageTotal>,
    /// The cost in each currency.
    pub sums: Costs,
    /// The cost in the operator's currency, by the rates of the days; `None` if
    /// one is missing.
    pub converted: Option<Money>,
}

/// How things are, at a glance.
#[derive(Debug, Clone)]
pub struct Overview {
    /// The newest dispatches; the counts below are of them.
    pub dispatches: Vec<StoredDispatch>,
    pub failed: usize,
    /// That an engine other than the first delivered.
    pub fallbacks: usize,
    /// Of today, by engine.
    pub usage: Vec<UsageTotal>,
}

impl Caller {
    /// The apps whose records it may see; those of all where nothing is given.
    pub(crate) fn visible_apps(&self) -> Option<Vec<String>> {
        match &self.role {
            CallerRole::Operator | CallerRole::Auditor => None,
            CallerRole::AppOwner(apps) => Some(apps.to_vec()),
            CallerRole::App => Some(vec![self.app.name.clone()]),
        }
    }

    /// Of an app that is asked for, or of all, those that it may see. A key sees
    /// its own app, whatever it asks for.
    pub fn visible(&self, app: Option<String>) -> Option<Vec<String>> {
        match (&self.role, app) {
            (CallerRole::AppOwner(_), Some(app)) if !self.may_see(&app) => Some(Vec::new()),
            (CallerRole::Operator | CallerRole::Auditor | CallerRole::AppOwner(_), Some(app)) => Some(vec![app]),
            _ => self.visible_apps(),
        }
    }

    /// Whether it may see the records of an app.
    pub fn may_see(&self, app: &str) -> bool {
        self.visible_apps().is_none_or(|apps| apps.iter().any(|own| own == app))
    }

    /// Whether it may change all records.
    pub fn is_operator(&self) -> bool {
        self.role == CallerRole::Operator
    }

    /// Whether it may read all records.
    pub fn reads_all(&self) -> bool {
        matches!(self.role, CallerRole::Operator | CallerRole::Auditor)
    }
}

impl Gateway {
    /// Dispatches, newest first.
    ///
    /// # Errors
    /// When the records cannot be read; so with all of these.
    pub async fn dispatches(
        &self,
        caller: &Caller,
        app: Option<String>,
        filter: DispatchFilter,
    ) -> Result<Vec<StoredDispatch>, GatewayError> {
        let job = match filter.job {
            Some(beginning) => Some(self.job_or_removed(caller, beginning).await?),
            None => None,
        };
        let filter = DispatchFilter { apps: caller.visible(app), job, ..filter };
        Ok(self.inner.store.dispatches(filter).await?)
    }

    /// The job whose id begins so. The dispatches of one that was removed
    /// stay, and are found by the whole of its id.
    async fn job_or_removed(&self, caller: &Caller, beginning: String) -> Result<String, GatewayError> {
        match self.inner.store.id_of(Identified::Job, caller.visible_apps(), beginning.clone()).await {
            Err(StoreError::Missing { .. }) => Ok(beginning),
            found => Ok(found?),
        }
    }

    /// One dispatch by its id or a unique beginning of it. What an engine said
    /// is for operators.
    ///
    /// # Errors
    /// Where the caller has none, or several, that begin so.
    pub async fn dispatch(&self, caller: &Caller, id: &str) -> Result<DispatchDetails, GatewayError> {
        let store = &self.inner.store;
        let id = store.id_of(Identified::Dispatch, caller.visible_apps(), id.to_owned()).await?;
        let (dispatch, mut attempts, ledger) = store.dispatch(id).await?;
        if !caller.reads_all() {
            attempts.iter_mut().for_each(|attempt| attempt.detail = None);
        }
        Ok(DispatchDetails { dispatch, attempts, ledger })
    }

    /// What a dispatch cost in the currency of its last attempt.
    ///
    /// # Errors
    /// Where there is none of this id.
    pub async fn cost_of(&self, dispatch: &str) -> Result<Money, GatewayError> {
        Ok(self.inner.store.dispatch(dispatch.to_owned()).await?.0.cost())
    }

    /// Usage from one day to another, both included (`YYYY-MM-DD` in UTC),
    /// grouped by one or two columns.
    ///
    /// # Errors
    /// Where a sum is more than money can hold.
    pub async fn usage(
        &self,
        caller: &Caller,
        by: (GroupBy, Option<GroupBy>),
        days: (String, String),
        app: Option<String>,
    ) -> Result<UsageReport, GatewayError> {
        let apps = caller.visible(app);
        let store = &self.inner.store;
        let groups = store.usage(by, days.clone(), apps.clone()).await?;
        let mut sums = Costs::default();
        for row in groups.iter().filter(|row| row.requests > 0 || row.nanos != 0) {
            sums.add(row.cost())?;
        }
        let by_day = store.usage((GroupBy::Day, None), days, apps).await?;
        Ok(UsageReport { groups, sums, converted: self.converted(&by_day).await? })
    }

    /// Adds new entries of the ledger to the sums of usage, now and then until
    /// the gateway is gone, so that a report has little to add. On a new day,
    /// voices are sorted by its prices.
    pub(crate) fn keep_usage(&self) {
        let inner = Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            let mut day = today();
            loop {
                tokio::time::sleep(ROLL_UP).await;
                let Some(inner) = inner.upgrade() else { return };
                if let Err(error) = inner.store.roll_up_usage().await {
                    tracing::warn!(%error, "the sums of usage were not brought up to date");
                }
                if std::mem::replace(&mut day, today()) != day {
                    let gateway = Gateway { inner };
                    let mut registry = (*gateway.registry()).clone();
                    registry.forget_prices();
                    gateway.replace_registry(registry);
                }
            }
        });
    }

    /// Checks all entries of the ledger.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn check_ledger(&self) -> Result<LedgerCheck, GatewayError> {
        Ok(self.inner.store.check_ledger().await?)
    }

    /// Adds made-up dispatches, marked as samples of the demo: all or none.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn add_samples(&self, samples: Vec<SampleDispatch>) -> Result<(), GatewayError> {
        Ok(self.inner.store.add_samples(samples).await?)
    }

    /// Whether some records are samples of the demo.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn has_samples(&self) -> Result<bool, GatewayError> {
        Ok(self.inner.store.has_samples().await?)
    }

    /// Entries of the audit log, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn audit(&self, filter: AuditFilter) -> Result<Vec<AuditEntry>, GatewayError> {
        Ok(self.inner.store.audit_page(filter).await?)
    }

    /// How things are, at a glance.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn overview(&self) -> Result<Overview, GatewayError> {
        let store = &self.inner.store;
        let dispatches = store.dispatches(DispatchFilter { limit: NEWEST, ..DispatchFilter::default() }).await?;
        let today = day_of(now_micros());
        let usage = store.usage((GroupBy::Engine, None), (today.clone(), today), None).await?;
        let failed = dispatches.iter().filter(|row| row.state == DispatchState::Failed).count();
        let oldest = dispatches.last().map(|row| row.id.clone()).unwrap_or_default();
        let fallbacks = store.count_fallbacks(oldest).await?;
        Ok(Overview { dispatches, failed, fallbacks, usage })
    }
}
