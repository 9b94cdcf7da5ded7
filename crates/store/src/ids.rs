//! Ids by their beginnings: what a caller types may be as short as it is unique.

use diesel::prelude::*;

use crate::schema::{access_keys, allowances, clips, comparisons, dispatches, jobs, tokens, transcripts};
use crate::{Store, StoreError};

/// A record that has an id.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Identified {
    Dispatch,
    Job,
    Clip,
    /// A key of an app.
    Key,
    /// A token of an app.
    Token,
    Transcript,
    /// An allowance of an app.
    Allowance,
    /// A comparison of voices.
    Comparison,
}

impl Identified {
    fn name(self) -> &'static str {
        match self {
            Identified::Dispatch => "dispatch",
            Identified::Job => "job",
            Identified::Clip => "clip",
            Identified::Key => "key",
            Identified::Token => "token",
            Identified::Transcript => "transcript",
            Identified::Allowance => "allowance",
            Identified::Comparison => "comparison",
        }
    }
}

/// The first two ids of a table that begin with the text, among those of apps.
macro_rules! beginning {
    ($table:ident, $apps:expr, $start:expr, $end:expr, $connection:expr) => {{
        let found = $table::table.filter($table::id.ge($start)).filter($table::id.lt($end)).order($table::id).limit(2);
        let found = found.select($table::id).distinct().into_boxed();
        match $apps {
            Some(apps) => found.filter($table::app.eq_any(apps)).load($connection)?,
            None => found.load($connection)?,
        }
    }};
}

impl Store {
    /// The id that begins with `beginning`, among the records of `apps` (of all
    /// apps if `None`): records of others neither are found nor make it
    /// ambiguous. A complete id takes precedence over longer ones.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where none begins so, [`StoreError::Ambiguous`]
    /// where several do.
    pub async fn id_of(
        &self,
        what: Identified,
        apps: Option<Vec<String>>,
        beginning: String,
    ) -> Result<String, StoreError> {
        if beginning.is_empty() {
            return Err(StoreError::Missing { what: what.name(), name: beginning });
        }
        self.read(move |c| {
            // Ids are ASCII letters and digits, which are less than the tilde.
            let (start, end) = (beginning.clone(), format!("{beginning}~"));
            let found: Vec<String> = match what {
                Identified::Dispatch => beginning!(dispatches, apps, start, end, c),
                Identified::Job => beginning!(jobs, apps, start, end, c),
                Identified::Clip => beginning!(clips, apps, start, end, c),
                Identified::Key => beginning!(access_keys, apps, start, end, c),
                Identified::Token => beginning!(tokens, apps, start, end, c),
                Identified::Transcript => beginning!(transcripts, apps, start, end, c),
                Identified::Allowance => beginning!(allowances, apps, start, end, c),
                Identified::Comparison => beginning!(comparisons, apps, start, end, c),
            };
            match found.as_slice() {
                [] => Err(StoreError::Missing { what: what.name(), name: beginning }),
                [first, _] if *first != beginning => Err(StoreError::Ambiguous { what: what.name(), beginning }),
                [first, ..] => Ok(first.clone()),
            }
        })
        .await
    }
}
