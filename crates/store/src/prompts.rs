//! Files that were made of prompt sets.

use diesel::prelude::*;

use crate::audit::note;
use crate::models::StoredPromptFile;
use crate::schema::prompt_files;
use crate::versions::{in_force, retire};
use crate::{DocumentVersion, Durability, Store, StoreError, VersionedKind};

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

    /// Retires a prompt set, and removes the records of its files.
    pub async fn remove_prompt_set(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            retire(c, VersionedKind::PromptSet, &name, &by, at)?;
            diesel::delete(prompt_files::table.filter(prompt_files::prompt_set.eq(&name))).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
