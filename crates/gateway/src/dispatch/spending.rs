//! What a request may use of the token and the allowances of its caller. It is
//! held before any engine is called, extended when an attempt may cost more
//! than is held, and replaced by what was used in the end.

use dispatcher_core::{AllowanceRefusal, Consumption, Costs, Money, RequestShare, TokenRefusal};

use crate::dispatch::allowances::AccountHold;
use crate::dispatch::tokens::TokenHold;
use crate::{Caller, Gateway, GatewayError, PlannedCall};

/// What a running request holds.
#[derive(Debug)]
pub(crate) struct SpendHold {
    token: Option<TokenHold>,
    accounts: Vec<AccountHold>,
    /// Money that is held.
    reserved: Costs,
    /// Money that its attempts were charged, or may still be charged.
    committed: Costs,
}

impl SpendHold {
    /// The id of the token, if the caller has one.
    pub(crate) fn token(&self) -> Option<&str> {
        self.token.as_ref().map(TokenHold::token)
    }

    /// Holds more.
    ///
    /// # Errors
    /// [`GatewayError::Token`] or [`GatewayError::Allowance`] if not as much
    /// is left; then nothing more is held.
    pub(crate) fn extend(&mut self, more: RequestShare) -> Result<(), GatewayError> {
        if let Some(token) = &mut self.token {
            token.extend(more)?;
        }
        let mut refused = None;
        for (number, account) in self.accounts.iter_mut().enumerate() {
            if let Err(error) = account.extend(more) {
                refused = Some((number, error));
                break;
            }
        }
        if let Some((number, error)) = refused {
            self.accounts.iter_mut().take(number).for_each(|account| account.give_back(more));
            if let Some(token) = &mut self.token {
                token.give_back(more);
            }
            return Err(error);
        }
        self.reserved.add(more.cost)?;
        Ok(())
    }

    /// An attempt may be charged up to this much: holds what is missing.
    ///
    /// # Errors
    /// As [`SpendHold::extend`].
    pub(crate) fn commit(&mut self, hold: Money) -> Result<(), GatewayError> {
        self.committed.add(hold)?;
        let missing = self.committed.of(hold.currency).nanos - self.reserved.of(hold.currency).nanos;
        if missing > 0
            && let Err(error) = self.extend(RequestShare::of_audio(0, Money { nanos: missing, ..hold }))
        {
            self.release(hold, Money::zero(hold.currency));
            return Err(error);
        }
        Ok(())
    }

    /// An attempt has ended, and was charged this much.
    pub(crate) fn release(&mut self, hold: Money, charged: Money) {
        // Both sums were added before, and fit.
        let _ = self.committed.add(Money { nanos: -hold.nanos, ..hold });
        let _ = self.committed.add(charged);
    }

    /// Counts what was used in the end, in place of what was held.
    pub(crate) fn settle(&mut self, used: &Consumption) {
        if let Some(token) = &mut self.token {
            token.settle(&used.amounts);
        }
        self.accounts.iter_mut().for_each(|account| account.settle(used));
    }
}

impl Gateway {
    /// Holds what a request needs; `None` if its caller has neither a token
    /// nor allowances.
    ///
    /// # Errors
    /// [`GatewayError::Token`] or [`GatewayError::Allowance`] if not as much is left.
    pub(crate) fn hold_spending(
        &self,
        caller: &Caller,
        share: RequestShare,
    ) -> Result<Option<SpendHold>, GatewayError> {
        let token = caller.hold_token(share)?;
        let accounts = self.inner.allowances.hold(caller, share)?;
        let limited = token.is_some() || !accounts.is_empty();
        let (reserved, committed) = (Costs::from(share.cost), Costs::default());
        Ok(limited.then_some(SpendHold { token, accounts, reserved, committed }))
    }

    /// Keeps the candidates that charge in a currency of the token and the
    /// allowances, and holds what the dearest of them needs.
    ///
    /// # Errors
    /// As [`Gateway::hold_spending`], or if no candidate is left.
    pub(crate) fn hold_for_plan(
        &self,
        caller: &Caller,
        plan: &mut Vec<PlannedCall>,
        share: impl Fn(Money) -> RequestShare,
    ) -> Result<Option<SpendHold>, GatewayError> {
        let Some(head) = plan.first().map(|planned| planned.estimate) else { return Ok(None) };
        if let Some(currency) = caller.token_currency() {
            plan.retain(|planned| planned.estimate.currency == currency);
            if plan.is_empty() {
                return Err(TokenRefusal::Currency { of: currency, needed: head.currency }.into());
            }
        }
        if let Some(currencies) = self.inner.allowances.currencies(caller) {
            plan.retain(|planned| planned.estimate.nanos == 0 || currencies.contains(&planned.estimate.currency));
            if plan.is_empty() {
                let refusal = AllowanceRefusal::Currency { of: currencies, needed: head.currency };
                return Err(GatewayError::Allowance { detail: refusal.to_string(), retry_after: None });
            }
        }
        let currency = plan.first().map_or(head.currency, |planned| planned.estimate.currency);
        let dearest = plan.iter().map(|planned| planned.estimate).filter(|cost| cost.currency == currency);
        let nanos = dearest.map(|cost| cost.nanos).max().unwrap_or_default();
        self.hold_spending(caller, share(Money { nanos, currency }))
    }
}
