//! Comparisons of voices, and their ratings.

use diesel::prelude::*;
use dispatcher_core::{Currency, Money};

use crate::audit::note;
use crate::schema::{compared_voices, comparisons, preference_ratings};
use crate::words::Word;
use crate::{Durability, Store, StoreError};

/// A comparison.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = comparisons)]
pub struct StoredComparison {
    pub id: String,
    pub app: String,
    pub text: String,
    /// Who made it.
    pub made_by: String,
    pub made_at: i64,
}

/// A voice of a comparison.
#[derive(Debug, Clone, PartialEq, Queryable, Selectable, Insertable)]
#[diesel(table_name = compared_voices)]
pub struct ComparedVoice {
    pub comparison: String,
    /// From 1.
    pub number: i64,
    /// `engine/voice`.
    pub voice: String,
    pub model: Option<String>,
    pub dispatch: Option<String>,
    pub nanos: i64,
    #[diesel(serialize_as = Word<Currency>, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    /// Until the first audio, and until the last.
    pub first_us: Option<i64>,
    pub total_us: Option<i64>,
    pub audio_ms: i64,
    /// Integrated, in LUFS.
    pub loudness: Option<f64>,
    /// Why it did not speak.
    pub fault: Option<String>,
}

impl ComparedVoice {
    /// What it cost.
    pub fn cost(&self) -> Money {
        Money { nanos: self.nanos, currency: self.currency }
    }
}

/// A rating of two voices of a comparison.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = preference_ratings)]
pub struct StoredRating {
    pub comparison: String,
    /// From 1, in the order in which they were made.
    pub number: i64,
    pub first: i64,
    pub second: i64,
    pub score: i64,
    pub made_by: String,
    pub made_at: i64,
}

/// A comparison with its voices and ratings.
pub type WholeComparison = (StoredComparison, Vec<ComparedVoice>, Vec<StoredRating>);

fn missing(id: &str) -> StoreError {
    StoreError::Missing { what: "comparison", name: id.to_owned() }
}

impl Store {
    /// Keeps a comparison with its voices, and forgets the oldest of its app
    /// beyond `most`; gives the ids of those.
    pub async fn add_comparison(
        &self,
        row: StoredComparison,
        voices: Vec<ComparedVoice>,
        most: i64,
    ) -> Result<Vec<String>, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(comparisons::table).values(&row).execute(c)?;
            for voice in voices {
                diesel::insert_into(compared_voices::table).values(voice).execute(c)?;
            }
            note(c, row.made_at, &row.made_by, "comparison.add", &format!("{} of {}", row.id, row.app))?;
            let newest_first = comparisons::table.filter(comparisons::app.eq(&row.app)).order(comparisons::id.desc());
            let old: Vec<String> = newest_first.select(comparisons::id).offset(most).limit(i64::MAX).load(c)?;
            diesel::delete(comparisons::table.filter(comparisons::id.eq_any(&old))).execute(c)?;
            Ok(old)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Comparisons of some apps, or of all, the newest first.
    pub async fn comparisons(
        &self,
        apps: Option<Vec<String>>,
        limit: i64,
    ) -> Result<Vec<StoredComparison>, StoreError> {
        self.read(move |c| {
            let mut found = comparisons::table.order(comparisons::id.desc()).limit(limit).into_boxed();
            if let Some(apps) = apps {
                found = found.filter(comparisons::app.eq_any(apps));
            }
            Ok(found.select(StoredComparison::as_select()).load(c)?)
        })
        .await
    }

    /// One comparison.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none of this id.
    pub async fn comparison(&self, id: String) -> Result<WholeComparison, StoreError> {
        self.read(move |c| {
            let row = comparisons::table.find(&id).select(StoredComparison::as_select()).first(c).optional()?;
            let row = row.ok_or_else(|| missing(&id))?;
            let voices = compared_voices::table.filter(compared_voices::comparison.eq(&id));
            let voices = voices.order(compared_voices::number).select(ComparedVoice::as_select()).load(c)?;
            let ratings = preference_ratings::table.filter(preference_ratings::comparison.eq(&id));
            let ratings = ratings.order(preference_ratings::number).select(StoredRating::as_select()).load(c)?;
            Ok((row, voices, ratings))
        })
        .await
    }

    /// Adds a rating, whose number is given to it, unless the comparison has
    /// `most` already; gives whether it was added.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such comparison.
    pub async fn add_rating(&self, rating: StoredRating, most: i64) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let known: i64 = comparisons::table.find(&rating.comparison).count().get_result(c)?;
            if known == 0 {
                return Err(missing(&rating.comparison));
            }
            let of_it = preference_ratings::table.filter(preference_ratings::comparison.eq(&rating.comparison));
            let last: Option<i64> = of_it.select(diesel::dsl::max(preference_ratings::number)).first(c)?;
            let number = last.unwrap_or_default() + 1;
            if number > most {
                return Ok(false);
            }
            let row = StoredRating { number, ..rating.clone() };
            diesel::insert_into(preference_ratings::table).values(row).execute(c)?;
            Ok(true)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Removes a comparison with its ratings.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none of this id.
    pub async fn remove_comparison(&self, id: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if diesel::delete(comparisons::table.find(&id)).execute(c)? == 0 {
                return Err(missing(&id));
            }
            note(c, at, &by, "comparison.remove", &id)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
