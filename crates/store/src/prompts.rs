//! Files that were made of prompt sets.

use diesel::prelude::*;

use crate::audit::note;
use crate::models::StoredPromptFile;
use crate::schema::{prompt_files, versions};
use crate::versions::in_force;
use crate::{DocumentVersion, Durability, Store, StoreError, VersionedKind};

/// What somebody who has heard a file says of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Approval {
    /// It is good.
    Given,
    /// It is not, or not any more.
    Withdrawn,
}

impl Store {
    /// A prompt set with its files.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where there is none of the name; so with all of these.
    pub async fn prompt_set(&self, name: String) -> Result<(DocumentVersion, Vec<StoredPromptFile>), StoreError> {
        self.read(move |c| {
            let files = prompt_files::table
                .filter(prompt_files::prompt_set.eq(&name))
                .order((prompt_files::prompt.asc(), prompt_files::format.asc()))
                .select(StoredPromptFile::as_select())
                .load(c)?;
            Ok((in_force(c, VersionedKind::PromptSet, name)?, files))
        })
        .await
    }

    /// Records a file in place of the one that was there.
    pub async fn put_prompt_file(&self, row: StoredPromptFile) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::replace_into(prompt_files::table).values(&row).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Writes what somebody says of a file.
    pub async fn approve_prompt(
        &self,
        (set, prompt, format): (String, String, String),
        by: String,
        approval: Approval,
        at: i64,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let given = (approval == Approval::Given).then_some((&by, at));
            let found = prompt_files::table.find((&set, &prompt, &format));
            let changed = (
                prompt_files::approved_by.eq(given.map(|(by, _)| by)),
                prompt_files::approved_at.eq(given.map(|(_, at)| at)),
            );
            if diesel::update(found).set(changed).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "file of the prompt", name: prompt });
            }
            let action = match approval {
                Approval::Given => "prompts.approve",
                Approval::Withdrawn => "prompts.disapprove",
            };
            note(c, at, &by, action, &format!("{set}/{prompt} {format}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Removes a prompt set with the records of its files.
    pub async fn remove_prompt_set(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let kind = VersionedKind::PromptSet;
            let set = versions::table.filter(versions::kind.eq(kind)).filter(versions::name.eq(&name));
            if diesel::delete(set).execute(c)? == 0 {
                return Err(StoreError::Missing { what: kind.what(), name });
            }
            diesel::delete(prompt_files::table.filter(prompt_files::prompt_set.eq(&name))).execute(c)?;
            note(c, at, &by, kind.actions().1, &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
