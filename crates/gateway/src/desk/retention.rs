//! How long records are kept: rules by kind, what they would remove, and the
//! hourly removal. The ledger and the usage are never touched.

use std::time::Duration;

use dispatcher_store::{RetentionKind, RetentionRule};

use crate::clock::MICROS_OF_DAY;
use crate::{Gateway, GatewayError, now_micros};

/// Interval between removals.
const SWEEP: Duration = Duration::from_secs(3_600);
/// Days of every rule.
const MOST_DAYS: i64 = 36_500;
/// Dispatches are kept for longer than a month of an allowance, and than a
/// token (30 days) with the week for which its use can be read.
const FEWEST_DAYS_OF_DISPATCHES: i64 = 40;
/// Who looks into a change must find it.
const FEWEST_DAYS_OF_AUDIT: i64 = 30;

/// A kind of records, and for how long they are kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Retention {
    pub kind: RetentionKind,
    /// `None`: they stay.
    pub rule: Option<RetentionRule>,
    /// The fewest days that a rule may have.
    pub fewest_days: i64,
}

/// What a removal took, or would take, of a kind with a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RetentionRun {
    pub kind: RetentionKind,
    pub days: i64,
    pub records: i64,
}

fn fewest_days(kind: RetentionKind) -> i64 {
    match kind {
        RetentionKind::Dispatches => FEWEST_DAYS_OF_DISPATCHES,
        RetentionKind::Audit => FEWEST_DAYS_OF_AUDIT,
        RetentionKind::Transcripts
        | RetentionKind::KeptAnswers
        | RetentionKind::Exchanges
        | RetentionKind::Comparisons
        | RetentionKind::Uploads => 1,
    }
}

impl Gateway {
    /// All kinds of records that may have a rule.
    ///
    /// # Errors
    /// When the records cannot be read; so with all of these.
    pub async fn retention(&self) -> Result<Vec<Retention>, GatewayError> {
        let rules = self.inner.store.retention_rules().await?;
        let of = |kind| rules.iter().find(|rule| rule.kind == kind).cloned();
        let kinds = RetentionKind::ALL.iter().copied();
        Ok(kinds.map(|kind| Retention { kind, rule: of(kind), fewest_days: fewest_days(kind) }).collect())
    }

    /// Days of the rule of a kind; `None` where it has none.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn retention_days(&self, kind: RetentionKind) -> Result<Option<u32>, GatewayError> {
        let rules = self.inner.store.retention_rules().await?;
        let rule = rules.into_iter().find(|rule| rule.kind == kind);
        Ok(rule.and_then(|rule| u32::try_from(rule.days).ok()))
    }

    /// Sets the rule of a kind, or ends it with `None`. Records go with the next
    /// removal.
    ///
    /// # Errors
    /// Where the days are too few or too many, or there is no rule to end.
    pub async fn set_retention(&self, kind: RetentionKind, days: Option<i64>, by: &str) -> Result<(), GatewayError> {
        let (store, made_at, made_by) = (&self.inner.store, now_micros(), by.to_owned());
        match days {
            None => Ok(store.end_retention(kind, made_by, made_at).await?),
            Some(days) if !(fewest_days(kind)..=MOST_DAYS).contains(&days) => {
                Err(GatewayError::RetentionDays(kind, fewest_days(kind), MOST_DAYS))
            }
            Some(days) => Ok(store.set_retention(RetentionRule { kind, days, made_by, made_at }).await?),
        }
    }

    /// What the rules would remove now.
    pub async fn preview_retention(&self) -> Result<Vec<RetentionRun>, GatewayError> {
        let now = now_micros();
        let mut found = Vec::new();
        for RetentionRule { kind, days, .. } in self.inner.store.retention_rules().await? {
            let records = self.inner.store.older(kind, now - days * MICROS_OF_DAY).await?;
            found.push(RetentionRun { kind, days, records });
        }
        Ok(found)
    }

    /// Removes what the rules say.
    pub async fn run_retention(&self) -> Result<Vec<RetentionRun>, GatewayError> {
        let (store, now) = (&self.inner.store, now_micros());
        let mut runs = Vec::new();
        for RetentionRule { kind, days, .. } in store.retention_rules().await? {
            if kind == RetentionKind::Dispatches {
                // Usage is read from dispatches and attempts, once.
                store.roll_up_usage().await?;
            }
            let mut records = 0;
            loop {
                let removed = store.remove_older(kind, now - days * MICROS_OF_DAY).await?;
                if removed.count == 0 {
                    break;
                }
                records += removed.count;
                self.remove_erased_files(&removed.contents, &removed.comparisons).await;
            }
            runs.push(RetentionRun { kind, days, records });
        }
        Ok(runs)
    }

    /// Removes what the rules say, and transcripts whose days are over, now and every hour.
    pub(crate) fn keep_retention(&self) {
        let gateway = std::sync::Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            while let Some(inner) = gateway.upgrade() {
                let gateway = Gateway { inner };
                match gateway.inner.store.delete_expired_transcripts(now_micros()).await {
                    Ok(0) => {}
                    Ok(deleted) => tracing::info!(deleted, "transcripts whose days are over"),
                    Err(error) => tracing::warn!(%error, "expired transcripts were not deleted"),
                }
                match gateway.run_retention().await {
                    Ok(runs) => {
                        for RetentionRun { kind, days, records } in runs.into_iter().filter(|run| run.records > 0) {
                            tracing::info!(%kind, days, records, "records were removed by their rule of retention");
                        }
                    }
                    Err(error) => tracing::warn!(%error, "records were not removed by their rules of retention"),
                }
                drop(gateway);
                tokio::time::sleep(SWEEP).await;
            }
        });
    }
}
