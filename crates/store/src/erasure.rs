//! Erasing what an app, or one of its end users, said and heard. Amounts, and
//! the records of who was charged for what, stay.

use diesel::prelude::*;

use crate::audit::note;
use crate::models::StoredRecall;
use crate::recall::delete_recalled;
use crate::schema::{comparisons, dispatches, exchanges, jobs, recalled, tokens, transcripts};
use crate::{Durability, Store, StoreError, transcripts as kept_transcripts};

/// Whose records are erased.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ErasureScope {
    pub app: String,
    /// Only those of this end user; all of the app if `None`.
    pub end_user: Option<String>,
}

/// What belongs to an app or an end user and holds words or audio.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ErasedRecords {
    /// Number of transcripts.
    pub transcripts: i64,
    /// Number of records of exchanges.
    pub exchanges: i64,
    /// Ids of comparisons; operators make them, never end users.
    pub comparisons: Vec<String>,
    /// Number of answers that were kept for recall.
    pub kept_answers: i64,
    /// Contents of these answers that no other app keeps; known once they are erased.
    pub contents: Vec<String>,
    /// Ids of jobs, which the caller removes with their files.
    pub jobs: Vec<String>,
    /// Ids of the tokens of the end user.
    pub tokens: Vec<String>,
    /// Number of dispatches that do not name the end user any more.
    pub dispatches: i64,
}

/// Whether records are erased, or only counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErasureMode {
    Count,
    Erase,
}

/// The records of a table that are in a scope.
macro_rules! within {
    ($table:ident, $scope:expr) => {{
        let own = $table::table.filter($table::app.eq($scope.app.clone())).into_boxed();
        match &$scope.end_user {
            Some(user) => own.filter($table::end_user.eq(user.clone())),
            None => own,
        }
    }};
}

struct Found {
    records: ErasedRecords,
    transcripts: Vec<String>,
    kept_answers: Vec<StoredRecall>,
}

fn find(c: &mut SqliteConnection, scope: &ErasureScope) -> Result<Found, StoreError> {
    let transcripts: Vec<String> = within!(transcripts, scope).select(transcripts::id).load(c)?;
    let kept_answers: Vec<StoredRecall> = within!(recalled, scope).select(StoredRecall::as_select()).load(c)?;
    let mut records = ErasedRecords {
        transcripts: transcripts.len() as i64,
        exchanges: within!(exchanges, scope).count().get_result(c)?,
        kept_answers: kept_answers.len() as i64,
        jobs: within!(jobs, scope).select(jobs::id).load(c)?,
        ..ErasedRecords::default()
    };
    match &scope.end_user {
        Some(_) => {
            records.tokens = within!(tokens, scope).select(tokens::id).load(c)?;
            records.dispatches = within!(dispatches, scope).count().get_result(c)?;
        }
        None => {
            let own = comparisons::table.filter(comparisons::app.eq(&scope.app));
            records.comparisons = own.select(comparisons::id).load(c)?;
        }
    }
    Ok(Found { records, transcripts, kept_answers })
}

fn erase(c: &mut SqliteConnection, scope: &ErasureScope) -> Result<ErasedRecords, StoreError> {
    let Found { mut records, transcripts, kept_answers } = find(c, scope)?;
    for id in transcripts {
        kept_transcripts::delete(c, &id)?;
    }
    records.contents = delete_recalled(c, &kept_answers)?;
    let of_app = exchanges::table.filter(exchanges::app.eq(&scope.app));
    match &scope.end_user {
        Some(user) => {
            diesel::delete(of_app.filter(exchanges::end_user.eq(user))).execute(c)?;
            let named = dispatches::table.filter(dispatches::app.eq(&scope.app)).filter(dispatches::end_user.eq(user));
            diesel::update(named).set(dispatches::end_user.eq(None::<String>)).execute(c)?;
            let made_for = tokens::table.filter(tokens::app.eq(&scope.app)).filter(tokens::end_user.eq(user));
            diesel::update(made_for).set(tokens::end_user.eq(None::<String>)).execute(c)?;
        }
        None => {
            diesel::delete(of_app).execute(c)?;
            diesel::delete(comparisons::table.filter(comparisons::app.eq(&scope.app))).execute(c)?;
        }
    }
    Ok(records)
}

impl Store {
    /// Erases transcripts, exchanges, kept answers and comparisons, and takes
    /// the name of the end user from dispatches and tokens; or counts them.
    /// Files, jobs and the end of tokens are the caller's.
    pub async fn erase(
        &self,
        scope: ErasureScope,
        mode: ErasureMode,
        by: String,
        at: i64,
    ) -> Result<ErasedRecords, StoreError> {
        if mode == ErasureMode::Count {
            return self.read(move |c| Ok(find(c, &scope)?.records)).await;
        }
        let write = move |c: &mut SqliteConnection| {
            let erased = erase(c, &scope)?;
            // The log of who erased what must not name the end user for ever.
            let action = if scope.end_user.is_some() { "app.erase-end-user" } else { "app.erase" };
            note(c, at, &by, action, &scope.app)?;
            Ok(erased)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
