//! Runs of canaries. What a canary is stands in its versions.

use diesel::prelude::*;
use dispatcher_core::VoiceMeasures;

use crate::audit::note;
use crate::schema::canary_runs;
use crate::{Durability, Store, StoreError};

/// One run of a canary.
#[derive(Debug, Clone, PartialEq, Queryable, Selectable, Insertable)]
#[diesel(table_name = canary_runs)]
pub struct StoredCanaryRun {
    pub id: String,
    pub canary: String,
    /// The version of the canary that ran.
    pub version: i64,
    /// Microseconds.
    pub run_at: i64,
    /// Later runs are held against it.
    pub is_reference: bool,
    pub dispatch: Option<String>,
    pub audio_ms: i64,
    /// Integrated, in LUFS.
    pub loudness: Option<f64>,
    /// Median fundamental frequency in hertz.
    pub pitch: Option<f64>,
    /// What the ear recognised.
    pub heard: Option<String>,
    /// Word error rate of that against the text.
    pub word_errors: Option<f64>,
    /// Words of the text that are not in it.
    pub words_missing: i64,
    /// Why it failed.
    pub fault: Option<String>,
}

impl StoredCanaryRun {
    /// What is compared; `None` of a run that failed.
    pub fn measures(&self) -> Option<VoiceMeasures> {
        self.fault.is_none().then(|| VoiceMeasures {
            seconds: self.audio_ms as f64 / 1_000.0,
            loudness: self.loudness,
            pitch: self.pitch,
            errors: self.word_errors,
            missing: usize::try_from(self.words_missing).unwrap_or(0),
        })
    }
}

impl Store {
    /// Keeps a run, and forgets the oldest of its canary beyond `most`; the
    /// reference stays.
    pub async fn add_canary_run(&self, run: StoredCanaryRun, most: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let own = canary_runs::table.filter(canary_runs::canary.eq(run.canary.clone()));
            diesel::insert_into(canary_runs::table).values(run).execute(c)?;
            let others = own.filter(canary_runs::is_reference.eq(false)).order(canary_runs::run_at.desc());
            let old: Vec<String> = others.select(canary_runs::id).offset(most).limit(i64::MAX).load(c)?;
            diesel::delete(canary_runs::table.filter(canary_runs::id.eq_any(old))).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Runs of a canary, the newest first.
    pub async fn canary_runs(&self, canary: String, limit: i64) -> Result<Vec<StoredCanaryRun>, StoreError> {
        self.read(move |c| {
            let own = canary_runs::table.filter(canary_runs::canary.eq(canary)).order(canary_runs::run_at.desc());
            Ok(own.limit(limit).select(StoredCanaryRun::as_select()).load(c)?)
        })
        .await
    }

    /// The reference of a version of a canary, if it has one yet.
    pub async fn canary_reference(&self, canary: String, version: i64) -> Result<Option<StoredCanaryRun>, StoreError> {
        self.read(move |c| {
            let own = canary_runs::table
                .filter(canary_runs::canary.eq(canary))
                .filter(canary_runs::version.eq(version))
                .filter(canary_runs::is_reference.eq(true));
            Ok(own.select(StoredCanaryRun::as_select()).first(c).optional()?)
        })
        .await
    }

    /// Makes a run the reference of its canary, in place of the one before.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such run.
    pub async fn accept_canary_run(&self, id: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let found = canary_runs::table.find(&id).select(canary_runs::canary).first::<String>(c).optional()?;
            let canary = found.ok_or_else(|| StoreError::Missing { what: "run of a canary", name: id.clone() })?;
            let own = canary_runs::table.filter(canary_runs::canary.eq(&canary));
            diesel::update(own).set(canary_runs::is_reference.eq(canary_runs::id.eq(&id))).execute(c)?;
            note(c, at, &by, "canary.accept", &format!("{canary}, run {id}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
