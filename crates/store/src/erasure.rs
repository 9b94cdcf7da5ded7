//! Erasing what an app said and heard. Amounts, and the records of who was
//! charged for what, stay.

use diesel::prelude::*;

use crate::audit::note;
use crate::schema::{comparisons, exchanges, recalled, transcript_versions, transcripts};
use crate::{Durability, Store, StoreError};

/// What belongs to an app and holds words or audio.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ErasedRecords {
    /// Number of transcripts.
    pub transcripts: i64,
    /// Number of records of exchanges.
    pub exchanges: i64,
    /// Ids of comparisons.
    pub comparisons: Vec<String>,
    /// Number of answers that were kept for recall.
    pub kept_answers: i64,
    /// Contents of these answers that no other app keeps.
    pub contents: Vec<String>,
}

/// Whether records are erased, or only counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErasureMode {
    Count,
    Erase,
}

fn count_of(c: &mut SqliteConnection, app: &str) -> Result<ErasedRecords, StoreError> {
    let kept = recalled::table.filter(recalled::app.eq(app));
    let of_others = diesel::alias!(recalled as others);
    let needed = of_others
        .filter(of_others.field(recalled::app).ne(app.to_owned()))
        .filter(of_others.field(recalled::content).eq(recalled::content));
    let alone = kept.filter(diesel::dsl::not(diesel::dsl::exists(needed)));
    Ok(ErasedRecords {
        transcripts: transcripts::table.filter(transcripts::app.eq(app)).count().get_result(c)?,
        exchanges: exchanges::table.filter(exchanges::app.eq(app)).count().get_result(c)?,
        comparisons: comparisons::table.filter(comparisons::app.eq(app)).select(comparisons::id).load(c)?,
        kept_answers: kept.count().get_result(c)?,
        contents: alone.select(recalled::content).distinct().load(c)?,
    })
}

impl Store {
    /// Erases the transcripts, exchanges, comparisons and kept answers of an
    /// app, or counts them; files are the caller's to remove.
    pub async fn erase_app(
        &self,
        app: String,
        mode: ErasureMode,
        by: String,
        at: i64,
    ) -> Result<ErasedRecords, StoreError> {
        if mode == ErasureMode::Count {
            return self.read(move |c| count_of(c, &app)).await;
        }
        let write = move |c: &mut SqliteConnection| {
            let erased = count_of(c, &app)?;
            let own: Vec<String> =
                transcripts::table.filter(transcripts::app.eq(&app)).select(transcripts::id).load(c)?;
            for id in own {
                let versions = transcript_versions::table.filter(transcript_versions::transcript.eq(id));
                diesel::delete(versions).execute(c)?;
            }
            diesel::delete(transcripts::table.filter(transcripts::app.eq(&app))).execute(c)?;
            diesel::delete(exchanges::table.filter(exchanges::app.eq(&app))).execute(c)?;
            diesel::delete(comparisons::table.filter(comparisons::app.eq(&app))).execute(c)?;
            diesel::delete(recalled::table.filter(recalled::app.eq(&app))).execute(c)?;
            note(c, at, &by, "app.erase", &app)?;
            Ok(erased)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
