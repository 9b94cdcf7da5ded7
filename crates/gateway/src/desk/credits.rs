//! Credits: what an engine includes in its price, in each period or once until
//! a day; what is left of it, and when it will be used at the present pace.

use dispatcher_core::{AllowanceAmount, AllowancePeriod, Currency, Money, Work, is_day, is_record_name};
use dispatcher_store::{GroupBy, NewVersion, UsageTotal, VersionedKind};
use serde::{Deserialize, Serialize};

use crate::clock::{MICROS_OF_DAY, period_span};
use crate::{Gateway, GatewayError, day_of, now_micros};

/// Days of which the pace is the mean.
const PACE_DAYS: i64 = 7;
/// Days ahead of which an end is told.
const FAR: f64 = 3_650.0;

/// What an engine includes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Credit {
    pub engine: String,
    /// 1 to 40 small letters, digits and hyphens.
    pub name: String,
    /// The work that it is for; all if `None`.
    pub work: Option<Work>,
    pub amount: AllowanceAmount,
    pub period: AllowancePeriod,
    /// First and last day, `YYYY-MM-DD` in UTC.
    pub from: Option<String>,
    pub until: Option<String>,
}

/// A credit as it is kept.
#[derive(Serialize, Deserialize)]
struct Kept {
    work: Option<Work>,
    unit: String,
    count: i64,
    currency: Option<Currency>,
    period: String,
    from: Option<String>,
    until: Option<String>,
}

/// A credit, and what was used of it.
#[derive(Debug, Clone)]
pub struct CreditView {
    pub credit: Credit,
    /// In this period, in the unit of the credit.
    pub used: AllowanceAmount,
    /// Used in a day: the mean of the last seven days.
    pub pace: f64,
    /// When the next period begins, in microseconds since 1970.
    pub renews: Option<i64>,
    /// The day on which it will be used at this pace, unless it renews or ends before.
    pub used_on: Option<String>,
    /// Days until it is used or ends, whichever is earlier; `None` if neither is near.
    pub days_left: Option<f64>,
}

impl CreditView {
    /// Used share in per cent.
    pub fn percent(&self) -> f64 {
        let limit = self.credit.amount.count();
        if limit > 0 { self.used.count() as f64 * 100.0 / limit as f64 } else { 100.0 }
    }

    /// What is left.
    pub fn left(&self) -> AllowanceAmount {
        self.credit.amount.with_count((self.credit.amount.count() - self.used.count()).max(0))
    }
}

impl Credit {
    fn document(&self) -> Kept {
        let (unit, currency) = match self.amount {
            AllowanceAmount::Cost(money) => ("cost", Some(money.currency)),
            AllowanceAmount::Characters(_) => ("characters", None),
            AllowanceAmount::Milliseconds(_) => ("milliseconds", None),
            AllowanceAmount::Requests(_) => ("requests", None),
        };
        Kept {
            work: self.work,
            unit: unit.into(),
            count: self.amount.count(),
            currency,
            period: self.period.name().into(),
            from: self.from.clone(),
            until: self.until.clone(),
        }
    }

    fn of(name: &str, kept: Kept) -> Option<Credit> {
        let (engine, name) = name.split_once('/')?;
        let count = u64::try_from(kept.count).ok()?;
        let amount = match kept.unit.as_str() {
            "cost" => AllowanceAmount::Cost(Money { nanos: kept.count, currency: kept.currency? }),
            "characters" => AllowanceAmount::Characters(count),
            "milliseconds" => AllowanceAmount::Milliseconds(count),
            "requests" => AllowanceAmount::Requests(count),
            _ => return None,
        };
        Some(Credit {
            engine: engine.into(),
            name: name.into(),
            work: kept.work,
            amount,
            period: AllowancePeriod::of_name(&kept.period)?,
            from: kept.from,
            until: kept.until,
        })
    }

    /// What of a group of the usage counts.
    fn counted(&self, total: &UsageTotal) -> i64 {
        match self.amount {
            AllowanceAmount::Cost(money) if money.currency == total.currency => total.nanos,
            AllowanceAmount::Cost(_) => 0,
            AllowanceAmount::Characters(_) => total.characters,
            AllowanceAmount::Milliseconds(_) => total.audio_ms,
            AllowanceAmount::Requests(_) => total.requests,
        }
    }

    /// The credit with what was used, at a time.
    fn view(self, used: i64, recent: i64, now: i64) -> CreditView {
        let span = period_span(self.period, now);
        let pace = recent as f64 / PACE_DAYS as f64;
        let left = (self.amount.count() - used).max(0) as f64;
        let until_used = (pace > 0.0).then(|| left / pace).filter(|days| *days <= FAR);
        // A credit that ends on a day serves until midnight.
        let days_to = |day: &str| {
            let midnight = (0..=FAR as i64).find(|days| day_of(now + days * MICROS_OF_DAY).as_str() > day);
            midnight.map(|days| days as f64 - (now % MICROS_OF_DAY) as f64 / MICROS_OF_DAY as f64)
        };
        let until_end = self.until.as_deref().and_then(days_to);
        let until_renewal = span.end.map(|end| (end - now) as f64 / MICROS_OF_DAY as f64);
        let until_used = until_used
            .filter(|days| until_renewal.is_none_or(|renewal| *days < renewal))
            .filter(|days| until_end.is_none_or(|end| *days < end));
        let days_left = [until_used, until_end].into_iter().flatten().reduce(f64::min);
        CreditView {
            used: self.amount.with_count(used),
            pace,
            renews: span.end,
            used_on: until_used.map(|days| day_of(now + (days * MICROS_OF_DAY as f64) as i64)),
            days_left,
            credit: self,
        }
    }
}

impl Gateway {
    /// All credits, by engine and name, with what was used of them.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn credits(&self) -> Result<Vec<CreditView>, GatewayError> {
        let now = now_micros();
        let mut views = Vec::new();
        for row in self.inner.store.in_force(VersionedKind::Credit).await? {
            let kept: Kept = serde_json::from_str(&row.document).map_err(GatewayError::document("a credit"))?;
            let Some(credit) = Credit::of(&row.name, kept) else { continue };
            let begin = day_of(period_span(credit.period, now).start);
            let from = credit.from.clone().unwrap_or_default().max(begin);
            let until = credit.until.clone().unwrap_or_else(|| "9999-12-31".into());
            let used = self.counted(&credit, (from, until)).await?;
            let recent = (day_of(now - PACE_DAYS * MICROS_OF_DAY), day_of(now - MICROS_OF_DAY));
            let recent = self.counted(&credit, recent).await?;
            views.push(credit.view(used, recent, now));
        }
        Ok(views)
    }

    async fn counted(&self, credit: &Credit, days: (String, String)) -> Result<i64, GatewayError> {
        let totals = self.inner.store.usage((GroupBy::Engine, Some(GroupBy::Work)), days, None).await?;
        let own = totals.iter().filter(|total| total.first == credit.engine);
        let own = own.filter(|total| credit.work.is_none_or(|work| total.second.as_deref() == Some(work.name())));
        Ok(own.map(|total| credit.counted(total)).sum())
    }

    /// Sets a credit of an engine, in place of one of the same name.
    ///
    /// # Errors
    /// Where the engine is not there, or the name or a day is none.
    pub async fn put_credit(&self, credit: &Credit, by: &str) -> Result<(), GatewayError> {
        self.registry().engine(&credit.engine)?;
        if !is_record_name(&credit.name) {
            return Err(GatewayError::CreditName(credit.name.clone()));
        }
        if let Some(day) = [&credit.from, &credit.until].into_iter().flatten().find(|day| !is_day(day)) {
            return Err(dispatcher_core::MoneyError::Day(day.clone()).into());
        }
        let document = serde_json::to_string(&credit.document()).map_err(GatewayError::document("a credit"))?;
        let name = format!("{}/{}", credit.engine, credit.name);
        self.inner.store.put_version(NewVersion::by(by, VersionedKind::Credit, &name, document), now_micros()).await?;
        Ok(())
    }

    /// Retires a credit.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn retire_credit(&self, engine: &str, name: &str, by: &str) -> Result<(), GatewayError> {
        let name = format!("{engine}/{name}");
        Ok(self.inner.store.retire(VersionedKind::Credit, name, by.into(), now_micros()).await?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 2026-12-01, 12:00.
    const NOON: i64 = 1_796_126_400_000_000;

    fn credit(characters: u64, period: AllowancePeriod, until: Option<&str>) -> Credit {
        Credit {
            engine: "heron".into(),
            name: "trial".into(),
            work: Some(Work::Synthesis),
            amount: AllowanceAmount::Characters(characters),
            period,
            from: None,
            until: until.map(str::to_owned),
        }
    }

    #[test]
    fn what_is_left_lasts_as_long_as_the_pace_allows() {
        assert_eq!(day_of(NOON), "2026-12-01");
        let total = |until| credit(10_000, AllowancePeriod::Total, until);
        // 700 in seven days are 100 a day: 3,000 last for 30 days.
        let view = total(None).view(7_000, 700, NOON);
        assert_eq!((view.percent(), view.left().count(), view.pace), (70.0, 3_000, 100.0));
        assert_eq!((view.used_on.as_deref(), view.days_left), (Some("2026-12-31"), Some(30.0)));
        // It ends before it is used, at the midnight after its last day.
        let view = total(Some("2026-12-10")).view(7_000, 700, NOON);
        assert_eq!((view.used_on, view.days_left), (None, Some(9.5)));
        let view = total(None).view(7_000, 0, NOON);
        assert_eq!((view.used_on, view.days_left), (None, None), "nobody uses it");
        let view = total(None).view(12_000, 700, NOON);
        assert_eq!((view.left().count(), view.days_left), (0, Some(0.0)), "it is used");
        let view = total(Some("2026-11-30")).view(0, 0, NOON);
        assert_eq!(view.days_left, Some(-0.5), "it has ended");
    }

    #[test]
    fn a_credit_that_renews_before_it_is_used_does_not_run_out() {
        let month = |used| credit(10_000, AllowancePeriod::Month, None).view(used, 700, NOON);
        assert_eq!(month(5_000).days_left, None, "50 days at this pace, and it renews in 31");
        assert_eq!(month(8_000).days_left, Some(20.0));
        assert_eq!(month(0).renews.map(day_of).as_deref(), Some("2027-01-01"));
    }

    #[test]
    fn a_credit_is_read_as_it_was_written() {
        for amount in [
            AllowanceAmount::Cost(Money { nanos: 5, currency: Currency::EUR }),
            AllowanceAmount::Characters(7),
            AllowanceAmount::Milliseconds(9),
            AllowanceAmount::Requests(11),
        ] {
            let credit = Credit { amount, ..credit(1, AllowancePeriod::Week, Some("2026-12-10")) };
            assert_eq!(Credit::of("heron/trial", credit.document()), Some(credit));
        }
    }
}
