//! Prompt sets, and the files that were made of them.

use diesel::prelude::*;

use crate::models::{PromptFileRow, PromptSetRow};
use crate::records::note;
use crate::schema::{prompt_files, prompt_sets};
use crate::{Durability, Store, StoreError};

impl Store {
    /// Keeps a prompt set, or the rows of one that is there; whose it is stays.
    ///
    /// # Errors
    /// When another app has one of this name, or the records cannot be written;
    /// so with all of these.
    pub async fn put_prompt_set(&self, row: PromptSetRow) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let app: Option<String> =
                prompt_sets::table.find(&row.name).select(prompt_sets::app).first(c).optional()?;
            if app.is_some_and(|app| app != row.app) {
                return Err(StoreError::Taken { what: "prompt set", name: row.name });
            }
            note(c, row.changed_at, &row.changed_by, "prompts.put", &row.name)?;
            let changed = (
                prompt_sets::document.eq(&row.document),
                prompt_sets::changed_by.eq(&row.changed_by),
                prompt_sets::changed_at.eq(row.changed_at),
            );
            let insert = diesel::insert_into(prompt_sets::table).values(&row);
            insert.on_conflict(prompt_sets::name).do_update().set(changed).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Prompt sets of an app, or all; by name.
    pub async fn prompt_sets(&self, app: Option<String>) -> Result<Vec<PromptSetRow>, StoreError> {
        self.read(move |c| {
            let mut query =
                prompt_sets::table.order(prompt_sets::name.asc()).select(PromptSetRow::as_select()).into_boxed();
            if let Some(app) = app {
                query = query.filter(prompt_sets::app.eq(app));
            }
            Ok(query.load(c)?)
        })
        .await
    }

    /// One prompt set with its files.
    pub async fn prompt_set(&self, name: String) -> Result<(PromptSetRow, Vec<PromptFileRow>), StoreError> {
        self.read(move |c| {
            let found = prompt_sets::table.find(&name).select(PromptSetRow::as_select()).first(c).optional()?;
            let Some(row) = found else { return Err(StoreError::Missing { what: "prompt set", name }) };
            let files = prompt_files::table
                .filter(prompt_files::prompt_set.eq(&name))
                .order((prompt_files::prompt.asc(), prompt_files::format.asc()))
                .select(PromptFileRow::as_select())
                .load(c)?;
            Ok((row, files))
        })
        .await
    }

    /// Records a file in place of the one that was there.
    pub async fn put_prompt_file(&self, row: PromptFileRow) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::replace_into(prompt_files::table).values(&row).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Says that somebody has heard a file and found it good, or takes that back.
    pub async fn approve_prompt(
        &self,
        (set, prompt, format): (String, String, String),
        by: String,
        good: bool,
        at: i64,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let who = good.then_some(&by);
            let found = prompt_files::table.find((&set, &prompt, &format));
            let changed = (prompt_files::approved_by.eq(who), prompt_files::approved_at.eq(good.then_some(at)));
            if diesel::update(found).set(changed).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "file of the prompt", name: prompt });
            }
            let action = if good { "prompts.approve" } else { "prompts.disapprove" };
            note(c, at, &by, action, &format!("{set}/{prompt} {format}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Removes a prompt set with the records of its files.
    pub async fn remove_prompt_set(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if diesel::delete(prompt_sets::table.find(&name)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "prompt set", name });
            }
            note(c, at, &by, "prompts.remove", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
