//! Allowances: how much an app, or one of its keys, may use in a period. An
//! account holds what running requests may use before any engine is called, so
//! that no number of concurrent requests exceeds an allowance. Where a period
//! begins, and who owns an account, is known elsewhere.

use std::fmt;

use crate::{AmountsUsed, Currency, Money, RequestShare};

/// A period of an allowance, in UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AllowancePeriod {
    /// From midnight.
    Day,
    /// From Monday (ISO 8601).
    Week,
    /// From the first day of the month.
    Month,
    /// All time; it does not renew.
    Total,
}

impl AllowancePeriod {
    /// All of them.
    pub const ALL: [AllowancePeriod; 4] =
        [AllowancePeriod::Day, AllowancePeriod::Week, AllowancePeriod::Month, AllowancePeriod::Total];

    /// The name in requests and records.
    pub fn name(self) -> &'static str {
        match self {
            AllowancePeriod::Day => "day",
            AllowancePeriod::Week => "week",
            AllowancePeriod::Month => "month",
            AllowancePeriod::Total => "total",
        }
    }

    /// The period of a name.
    pub fn of_name(name: &str) -> Option<AllowancePeriod> {
        AllowancePeriod::ALL.into_iter().find(|period| period.name() == name)
    }
}

/// An amount that an allowance limits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AllowanceAmount {
    /// Money that is charged.
    Cost(Money),
    /// Characters of text that are spoken.
    Characters(u64),
    /// Milliseconds of audio that are recognised.
    Milliseconds(u64),
    /// Requests that did not fail.
    Requests(u64),
}

impl AllowanceAmount {
    /// As a number: billionths of the currency, characters, milliseconds or requests.
    pub fn count(self) -> i64 {
        let signed = |count| i64::try_from(count).unwrap_or(i64::MAX);
        match self {
            AllowanceAmount::Cost(money) => money.nanos,
            AllowanceAmount::Characters(count)
            | AllowanceAmount::Milliseconds(count)
            | AllowanceAmount::Requests(count) => signed(count),
        }
    }

    /// Another number of the same unit.
    #[must_use]
    pub fn with_count(self, count: i64) -> AllowanceAmount {
        let unsigned = u64::try_from(count).unwrap_or_default();
        match self {
            AllowanceAmount::Cost(money) => AllowanceAmount::Cost(Money { nanos: count, ..money }),
            AllowanceAmount::Characters(_) => AllowanceAmount::Characters(unsigned),
            AllowanceAmount::Milliseconds(_) => AllowanceAmount::Milliseconds(unsigned),
            AllowanceAmount::Requests(_) => AllowanceAmount::Requests(unsigned),
        }
    }

    /// How much of its unit is in what was used.
    fn of(self, used: &Consumption) -> i64 {
        match self {
            AllowanceAmount::Cost(money) => used.amounts.costs.of(money.currency).nanos,
            AllowanceAmount::Characters(_) => AllowanceAmount::Characters(used.amounts.characters).count(),
            AllowanceAmount::Milliseconds(_) => AllowanceAmount::Milliseconds(used.amounts.milliseconds).count(),
            AllowanceAmount::Requests(_) => AllowanceAmount::Requests(used.requests).count(),
        }
    }
}

impl fmt::Display for AllowanceAmount {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AllowanceAmount::Cost(money) => write!(f, "{} {}", money.rounded(money.decimals()), money.currency),
            AllowanceAmount::Characters(count) => write!(f, "{count} characters"),
            AllowanceAmount::Milliseconds(count) => write!(f, "{:.1} s of audio", *count as f64 / 1_000.0),
            AllowanceAmount::Requests(count) => write!(f, "{count} requests"),
        }
    }
}

/// At most this amount in each period.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Allowance {
    /// The amount, not negative.
    pub amount: AllowanceAmount,
    /// The period.
    pub period: AllowancePeriod,
}

impl fmt::Display for Allowance {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.period {
            AllowancePeriod::Total => write!(f, "{} in total", self.amount),
            period => write!(f, "{} per {}", self.amount, period.name()),
        }
    }
}

/// What requests used.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Consumption {
    /// Number of requests.
    pub requests: u64,
    /// Their amounts.
    pub amounts: AmountsUsed,
}

impl Consumption {
    /// Adds requests and what they used.
    pub fn add(&mut self, requests: u64, share: RequestShare) {
        self.requests = self.requests.saturating_add(requests);
        self.amounts.add(share);
    }

    /// Adds everything that is in another one.
    pub fn add_all(&mut self, other: &Consumption) {
        self.requests = self.requests.saturating_add(other.requests);
        self.amounts.add_all(&other.amounts);
    }

    /// Subtracts everything that is in another one.
    pub fn subtract(&mut self, other: &Consumption) {
        self.requests = self.requests.saturating_sub(other.requests);
        self.amounts.give_back_all(&other.amounts);
    }
}

/// A period in time: microseconds since 1970 in UTC, its end excluded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PeriodSpan {
    /// Its begin.
    pub start: i64,
    /// Its end, at which the allowance renews; `None` for all time.
    pub end: Option<i64>,
}

/// An allowance of an account, and what was used of it in the current period.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AllowanceLine {
    /// Id of the allowance.
    pub id: String,
    /// The allowance.
    pub allowance: Allowance,
    /// The current period.
    pub span: PeriodSpan,
    /// What requests that have ended used in it.
    pub settled: Consumption,
}

/// Why an allowance does not cover a request.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AllowanceRefusal {
    /// Less is left than the request may use.
    #[error("the limit is {allowance}, {left} are left, and the request needs {needed}")]
    Exceeded {
        /// The allowance.
        allowance: Allowance,
        /// What is left in this period.
        left: AllowanceAmount,
        /// The highest amount that the request may use.
        needed: AllowanceAmount,
        /// When the allowance renews: microseconds since 1970.
        renews: Option<i64>,
    },
    /// Money of a currency for which the account has no allowance.
    #[error("the allowances are in {}, and the engine charges in {needed}", codes(.of))]
    Currency {
        /// Currencies of the allowances.
        of: Vec<Currency>,
        /// Currency of the engine.
        needed: Currency,
    },
}

fn codes(currencies: &[Currency]) -> String {
    currencies.iter().map(Currency::code).collect::<Vec<_>>().join(", ")
}

/// The allowances of an app or of a key, and what is held for running requests.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AllowanceAccount {
    lines: Vec<AllowanceLine>,
    held: Consumption,
    /// What was settled since the account was made.
    total: Consumption,
}

impl AllowanceAccount {
    /// Its allowances.
    pub fn lines(&self) -> &[AllowanceLine] {
        &self.lines
    }

    /// What was settled since the account was made. For an allowance that is
    /// added: what was settled while its records were read.
    pub fn total(&self) -> &Consumption {
        &self.total
    }

    /// Adds an allowance.
    pub fn add_line(&mut self, line: AllowanceLine) {
        self.lines.push(line);
    }

    /// Removes an allowance; what is held stays held for the others.
    pub fn remove_line(&mut self, id: &str) {
        self.lines.retain(|line| line.id != id);
    }

    /// What was used of an allowance in its period, including what is held.
    pub fn used(&self, line: &AllowanceLine) -> AllowanceAmount {
        let amount = line.allowance.amount;
        amount.with_count(amount.of(&line.settled).saturating_add(amount.of(&self.held)))
    }

    /// Begins new periods. What is held for running requests stays held: it
    /// is charged in the period in which they end.
    pub fn renew(&mut self, now: i64, span_of: impl Fn(AllowancePeriod) -> PeriodSpan) {
        for line in &mut self.lines {
            if line.span.end.is_some_and(|end| end <= now) {
                line.span = span_of(line.allowance.period);
                line.settled = Consumption::default();
            }
        }
    }

    /// Currencies of its allowances of money; empty if it has none.
    pub fn currencies(&self) -> Vec<Currency> {
        let of_line = |line: &AllowanceLine| match line.allowance.amount {
            AllowanceAmount::Cost(money) => Some(money.currency),
            _ => None,
        };
        self.lines.iter().filter_map(of_line).collect()
    }

    /// Holds what requests may use.
    ///
    /// # Errors
    /// [`AllowanceRefusal`] if an allowance does not cover it; then nothing is held.
    pub fn hold(&mut self, requests: u64, share: RequestShare) -> Result<(), AllowanceRefusal> {
        let mut needed = Consumption::default();
        needed.add(requests, share);
        let currencies = self.currencies();
        let currency = share.cost.currency;
        if share.cost.nanos > 0 && !currencies.is_empty() && !currencies.contains(&currency) {
            return Err(AllowanceRefusal::Currency { of: currencies, needed: currency });
        }
        for line in &self.lines {
            let amount = line.allowance.amount;
            let left = amount.count().saturating_sub(self.used(line).count()).max(0);
            let needed = amount.of(&needed);
            if needed > left {
                return Err(AllowanceRefusal::Exceeded {
                    allowance: line.allowance,
                    left: amount.with_count(left),
                    needed: amount.with_count(needed),
                    renews: line.span.end,
                });
            }
        }
        self.held.add(requests, share);
        Ok(())
    }

    /// Returns what was held and not used.
    pub fn give_back(&mut self, held: &Consumption) {
        self.held.subtract(held);
    }

    /// Counts what was used, in place of what was held.
    pub fn settle(&mut self, held: &Consumption, used: &Consumption) {
        self.held.subtract(held);
        self.total.add_all(used);
        for line in &mut self.lines {
            line.settled.add_all(used);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn line(id: &str, amount: AllowanceAmount) -> AllowanceLine {
        AllowanceLine {
            id: id.into(),
            allowance: Allowance { amount, period: AllowancePeriod::Day },
            span: PeriodSpan { start: 0, end: Some(100) },
            settled: Consumption::default(),
        }
    }

    fn account(amounts: &[AllowanceAmount]) -> AllowanceAccount {
        let mut account = AllowanceAccount::default();
        for (number, amount) in amounts.iter().enumerate() {
            account.add_line(line(&number.to_string(), *amount));
        }
        account
    }

    fn euros(nanos: i64) -> Money {
        Money { nanos, currency: Currency::EUR }
    }

    fn text(characters: u64, nanos: i64) -> RequestShare {
        RequestShare { characters, milliseconds: 0, cost: euros(nanos) }
    }

    fn held(requests: u64, share: RequestShare) -> Consumption {
        let mut held = Consumption::default();
        held.add(requests, share);
        held
    }

    #[test]
    fn a_request_is_refused_when_one_of_several_allowances_does_not_cover_it_and_nothing_is_held() {
        let mut account = account(&[AllowanceAmount::Characters(100), AllowanceAmount::Cost(euros(50))]);
        assert_eq!(account.hold(1, text(60, 50)), Ok(()));
        let refused = account.hold(1, text(30, 1)).expect_err("no money is left");
        assert_eq!(
            refused.to_string(),
            "the limit is 0.00000005 EUR per day, 0.00 EUR are left, and the request needs 0.000000001 EUR"
        );
        assert_eq!(account.hold(1, text(40, 0)), Ok(()), "the 30 characters of the refused request are not held");
        assert!(account.hold(1, text(1, 0)).is_err());
    }

    #[test]
    fn what_was_held_and_not_used_can_be_used_again() {
        let mut account = account(&[AllowanceAmount::Cost(euros(100))]);
        assert_eq!(account.hold(1, text(9, 100)), Ok(()));
        account.settle(&held(1, text(9, 100)), &held(1, text(9, 30)));
        let refused = account.hold(1, text(9, 71)).expect_err("70 are left");
        assert!(
            matches!(refused, AllowanceRefusal::Exceeded { left: AllowanceAmount::Cost(left), .. } if left == euros(70))
        );
        assert_eq!(account.hold(1, text(9, 70)), Ok(()));
        account.give_back(&held(1, text(9, 70)));
        assert_eq!(account.used(&account.lines()[0].clone()), AllowanceAmount::Cost(euros(30)));
    }

    #[test]
    fn a_new_period_begins_with_what_running_requests_hold() {
        let mut account = account(&[AllowanceAmount::Requests(3)]);
        assert_eq!(account.hold(2, text(0, 0)), Ok(()));
        account.settle(&held(1, text(0, 0)), &held(1, text(0, 0)));
        account.renew(99, |_| unreachable!("the period lasts until 100"));
        account.renew(100, |_| PeriodSpan { start: 100, end: Some(200) });
        assert_eq!(account.used(&account.lines()[0].clone()), AllowanceAmount::Requests(1), "one is still running");
        assert_eq!(account.hold(2, text(0, 0)), Ok(()));
        assert!(account.hold(1, text(0, 0)).is_err());
    }

    #[test]
    fn money_of_another_currency_than_the_allowances_is_refused_unless_it_is_nothing() {
        let dollars = |nanos| RequestShare {
            characters: 1,
            milliseconds: 0,
            cost: Money { nanos, currency: "USD".parse().expect("a currency") },
        };
        let mut account = account(&[AllowanceAmount::Cost(euros(100))]);
        let refused = account.hold(1, dollars(1)).expect_err("dollars");
        assert_eq!(refused.to_string(), "the allowances are in EUR, and the engine charges in USD");
        assert_eq!(account.hold(1, dollars(0)), Ok(()));
    }

    proptest! {
        /// Whatever is held, settled and given back: what was used never exceeds the allowance.
        #[test]
        fn no_order_of_requests_exceeds_an_allowance(steps in prop::collection::vec((0u8..3, 1u64..40, 0u64..40), 1..80)) {
            let mut account = account(&[AllowanceAmount::Characters(200)]);
            let mut running: Vec<u64> = Vec::new();
            let mut used = 0;
            for (step, characters, fewer) in steps {
                match (step, running.pop()) {
                    (1, Some(own)) => {
                        let spoken = own.saturating_sub(fewer);
                        account.settle(&held(1, text(own, 0)), &held(1, text(spoken, 0)));
                        used += spoken;
                    }
                    (2, Some(own)) => account.give_back(&held(1, text(own, 0))),
                    (_, last) => {
                        running.extend(last);
                        if account.hold(1, text(characters, 0)).is_ok() {
                            running.push(characters);
                        }
                    }
                }
                let in_work: u64 = running.iter().sum();
                prop_assert!(used + in_work <= 200);
                let line = account.lines()[0].clone();
                prop_assert_eq!(account.used(&line), AllowanceAmount::Characters(used + in_work));
            }
        }
    }
}
