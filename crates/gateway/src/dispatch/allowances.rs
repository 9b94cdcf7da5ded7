//! Allowances of apps and keys: loaded with what was used of them, and held
//! for requests before any engine is called. The arithmetic is in
//! [`dispatcher_core::AllowanceAccount`].

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{
    Allowance, AllowanceAccount, AllowanceAmount, AllowanceLine, AllowanceRefusal, Consumption, Currency, RequestShare,
};
use dispatcher_store::{Identified, StoredAllowance, UsageQuery};
use parking_lot::Mutex;

use crate::clock::{day_of, period_span};
use crate::desk::key_id;
use crate::{Caller, Gateway, GatewayError, now_micros, rfc3339};

/// Allowances of one app, with those of its keys.
const MOST_OF_APP: i64 = 40;

/// An app, or one of its keys.
type Owner = (String, Option<String>);

/// The accounts of those that have allowances.
#[derive(Debug, Default)]
pub(crate) struct AllowanceBook {
    accounts: Mutex<HashMap<Owner, Arc<Mutex<AllowanceAccount>>>>,
    /// One allowance is added at a time.
    changes: tokio::sync::Mutex<()>,
}

/// An allowance, and what was used of it in its period.
#[derive(Debug, Clone)]
pub struct AllowanceView {
    pub row: StoredAllowance,
    pub used: AllowanceAmount,
    /// When it renews, in microseconds since 1970.
    pub renews: Option<i64>,
}

impl AllowanceView {
    /// The used share in per cent; more than 100 if the allowance was added later.
    pub fn percent(&self) -> f64 {
        let of = self.row.allowance().amount.count();
        if of == 0 { 100.0 } else { self.used.count() as f64 * 100.0 / of as f64 }
    }

    /// The app or key, in words.
    pub(crate) fn owner(&self) -> String {
        words(&(self.row.app.clone(), self.row.key.clone()))
    }
}

/// What a running request holds of an account; it is returned when this is
/// dropped before it is settled.
#[derive(Debug)]
pub(crate) struct AccountHold {
    owner: Owner,
    account: Arc<Mutex<AllowanceAccount>>,
    held: Consumption,
}

fn words((app, key): &Owner) -> String {
    key.as_ref().map_or(format!("app {app}"), |key| format!("key {key} of app {app}"))
}

/// Locks an account, in its current periods.
fn current(account: &Mutex<AllowanceAccount>) -> parking_lot::MutexGuard<'_, AllowanceAccount> {
    let now = now_micros();
    let mut account = account.lock();
    account.renew(now, |period| period_span(period, now));
    account
}

fn refused(owner: &Owner, refusal: AllowanceRefusal) -> GatewayError {
    let renews = match &refusal {
        AllowanceRefusal::Exceeded { renews, .. } => *renews,
        _ => None,
    };
    let wait = renews.map(|at| Duration::from_micros(u64::try_from(at - now_micros()).unwrap_or_default()));
    let told = renews.map_or(String::new(), |at| format!("; it renews at {}", rfc3339(at)));
    GatewayError::Allowance { detail: format!("allowance of the {}: {refusal}{told}", words(owner)), retry_after: wait }
}

impl AccountHold {
    /// Holds more, without a further request.
    ///
    /// # Errors
    /// [`GatewayError::Allowance`] if not as much is left.
    pub(crate) fn extend(&mut self, more: RequestShare) -> Result<(), GatewayError> {
        self.hold(0, more)
    }

    fn hold(&mut self, requests: u64, share: RequestShare) -> Result<(), GatewayError> {
        current(&self.account).hold(requests, share).map_err(|refusal| refused(&self.owner, refusal))?;
        self.held.add(requests, share);
        Ok(())
    }

    /// Returns a part that was not needed.
    pub(crate) fn give_back(&mut self, part: RequestShare) {
        let mut consumption = Consumption::default();
        consumption.add(0, part);
        self.account.lock().give_back(&consumption);
        self.held.subtract(&consumption);
    }

    /// Counts what was used in the end, in place of what was held.
    pub(crate) fn settle(&mut self, used: &Consumption) {
        current(&self.account).settle(&std::mem::take(&mut self.held), used);
    }
}

impl Drop for AccountHold {
    fn drop(&mut self) {
        self.account.lock().give_back(&self.held);
    }
}

impl AllowanceBook {
    fn get(&self, owner: &Owner) -> Option<Arc<Mutex<AllowanceAccount>>> {
        self.accounts.lock().get(owner).cloned()
    }

    /// The accounts of a caller, with their owners. A token counts for the key
    /// that made it, which could make any number of them.
    fn of(&self, caller: &Caller) -> Vec<(Owner, Arc<Mutex<AllowanceAccount>>)> {
        let accounts = self.accounts.lock();
        if accounts.is_empty() {
            return Vec::new();
        }
        let key = caller.principal();
        let owners = [None, Some(key.to_owned())].map(|key| (caller.app.name.clone(), key));
        owners.into_iter().filter_map(|owner| Some((owner.clone(), accounts.get(&owner)?.clone()))).collect()
    }

    /// Currencies in which a caller may be charged; `None` without allowances of money.
    ///
    /// # Errors
    /// [`GatewayError::Allowance`] if its accounts have no currency in common.
    pub(crate) fn currencies(&self, caller: &Caller) -> Option<Vec<Currency>> {
        let all = self.of(caller).into_iter().map(|(_, account)| account.lock().currencies());
        let mut limited = all.filter(|currencies| !currencies.is_empty());
        let first = limited.next()?;
        let rest: Vec<Vec<Currency>> = limited.collect();
        Some(first.into_iter().filter(|one| rest.iter().all(|other| other.contains(one))).collect())
    }

    /// Holds what a request needs of each account of its caller.
    ///
    /// # Errors
    /// [`GatewayError::Allowance`] if not as much is left; then nothing is held.
    pub(crate) fn hold(&self, caller: &Caller, share: RequestShare) -> Result<Vec<AccountHold>, GatewayError> {
        let mut holds = Vec::new();
        for (owner, account) in self.of(caller) {
            let mut hold = AccountHold { owner, account, held: Consumption::default() };
            hold.hold(1, share)?;
            holds.push(hold);
        }
        Ok(holds)
    }
}

impl Gateway {
    /// Loads all allowances with what was used of them.
    pub(crate) async fn load_allowances(&self) -> Result<(), GatewayError> {
        for row in self.inner.store.allowances().await? {
            self.take_allowance(&row).await?;
        }
        Ok(())
    }

    /// Adds an allowance to its account, with what was used in its period.
    async fn take_allowance(&self, row: &StoredAllowance) -> Result<(), GatewayError> {
        let owner = (row.app.clone(), row.key.clone());
        let book = &self.inner.allowances;
        // Requests that began before the account was made are not held there:
        // what they hold is on record.
        let known = book.get(&owner);
        let running = known.is_none();
        let account = known.unwrap_or_else(|| book.accounts.lock().entry(owner).or_default().clone());
        let before = account.lock().total().clone();
        let allowance = row.allowance();
        let span = period_span(allowance.period, now_micros());
        let since_day = span.end.map_or(String::new(), |_| day_of(span.start));
        let query = UsageQuery { app: row.app.clone(), key: row.key.clone(), since: span.start, since_day, running };
        let mut settled = self.inner.store.used_since(query).await?;
        let mut account = account.lock();
        // What was settled meanwhile may be on record already; it is counted
        // twice rather than not at all.
        settled.add_all(account.total());
        settled.subtract(&before);
        account.add_line(AllowanceLine { id: row.id.clone(), allowance, span, settled });
        Ok(())
    }

    /// Allowances of an app and its keys, of those that the caller may see; of
    /// all if `None`.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub async fn allowances(&self, caller: &Caller, app: Option<String>) -> Result<Vec<AllowanceView>, GatewayError> {
        let apps = caller.visible(app);
        let all = self.all_allowances().await?.into_iter();
        Ok(all.filter(|view| apps.as_ref().is_none_or(|apps| apps.contains(&view.row.app))).collect())
    }

    /// All allowances, by app.
    pub(crate) async fn all_allowances(&self) -> Result<Vec<AllowanceView>, GatewayError> {
        let rows = self.inner.store.allowances().await?;
        Ok(rows.into_iter().filter_map(|row| self.allowance_view(row)).collect())
    }

    fn allowance_view(&self, row: StoredAllowance) -> Option<AllowanceView> {
        let account = self.inner.allowances.get(&(row.app.clone(), row.key.clone()))?;
        let account = current(&account);
        let line = account.lines().iter().find(|line| line.id == row.id)?;
        Some(AllowanceView { used: account.used(line), renews: line.span.end, row })
    }

    /// Adds an allowance of an app, or of one of its keys by its id or a unique
    /// beginning of it. It covers what was used in the current period before.
    ///
    /// # Errors
    /// If the app has no such key, or too many allowances.
    pub async fn add_allowance(
        &self,
        app: &str,
        key: Option<String>,
        allowance: Allowance,
        by: &str,
    ) -> Result<AllowanceView, GatewayError> {
        let app = self.app(app).await?.name;
        let store = &self.inner.store;
        let key = match key {
            Some(key) => Some(store.id_of(Identified::Key, Some(vec![app.clone()]), key).await?),
            None => None,
        };
        let row = StoredAllowance::new(key_id(), (app.clone(), key), allowance, (by, now_micros()));
        let _one = self.inner.allowances.changes.lock().await;
        if !store.add_allowance(row.clone(), MOST_OF_APP).await? {
            let what = format!("the app {app} has {MOST_OF_APP} allowances, and may have no more; remove one first");
            return Err(GatewayError::Crowded { what, retry_after: Duration::from_secs(60) });
        }
        self.take_allowance(&row).await?;
        self.allowance_view(row).ok_or(GatewayError::Contradiction("an added allowance is missing"))
    }

    /// Removes an allowance of an app by its id or a unique beginning of it.
    ///
    /// # Errors
    /// If the app has none, or several, that begin so.
    pub async fn remove_allowance(&self, app: &str, id: &str, by: &str) -> Result<(), GatewayError> {
        let store = &self.inner.store;
        let id = store.id_of(Identified::Allowance, Some(vec![app.to_owned()]), id.to_owned()).await?;
        store.remove_allowance(app.to_owned(), id.clone(), by.to_owned(), now_micros()).await?;
        for account in self.inner.allowances.accounts.lock().values() {
            account.lock().remove_line(&id);
        }
        Ok(())
    }
}
