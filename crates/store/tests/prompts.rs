//! Prompt sets as the gateway keeps them.

use crate::support::store;
use dispatcher_store::{Approval, DocumentVersion, NewVersion, Store, StoreError, StoredPromptFile, VersionedKind};

fn set(app: &str, document: &str) -> NewVersion {
    let new = NewVersion::by("tess", VersionedKind::PromptSet, "gates", document.into());
    NewVersion { app: Some(app.into()), ..new }
}

async fn put(store: &Store, new: NewVersion) -> Result<i64, StoreError> {
    store.put_version(new, 1).await
}

/// Whose it is, and its table.
fn told(row: &DocumentVersion) -> (Option<&str>, &str) {
    (row.app.as_deref(), row.document.as_str())
}

fn file(prompt: &str, format: &str, sound: &str) -> StoredPromptFile {
    StoredPromptFile {
        prompt_set: "gates".into(),
        prompt: prompt.into(),
        format: format.into(),
        fingerprint: sound.into(),
        file: format!("{prompt}.{format}"),
        media_type: "audio/mpeg".into(),
        bytes: 9,
        audio_ms: 3,
        dispatch: "d1".into(),
        made_at: 2,
        approved_by: None,
        approved_at: None,
    }
}

#[tokio::test]
async fn a_changed_table_keeps_its_files_and_stays_its_apps() {
    let (_folder, store) = store();
    put(&store, set("quay", "one")).await.unwrap();
    store.put_prompt_file(file("open", "mp3", "a")).await.unwrap();
    put(&store, set("quay", "two")).await.unwrap();
    let (row, files) = store.prompt_set("gates".into()).await.unwrap();
    assert_eq!((told(&row), files), ((Some("quay"), "two"), vec![file("open", "mp3", "a")]));
    let taken = put(&store, set("barge", "three")).await.unwrap_err();
    assert!(matches!(taken, StoreError::Taken { .. }), "another app's name is taken: {taken}");
    let sets = store.in_force(VersionedKind::PromptSet).await.unwrap();
    assert_eq!(sets.iter().map(told).collect::<Vec<_>>(), [(Some("quay"), "two")]);
}

#[tokio::test]
async fn an_app_that_changes_its_set_again_and_again_fills_nothing() {
    let (_folder, store) = store();
    for n in 1..=50 {
        assert_eq!(put(&store, set("quay", &format!("table {n}"))).await.unwrap(), n);
    }
    let versions = async || store.versions(VersionedKind::PromptSet, "gates".into()).await.unwrap();
    let kept: Vec<i64> = versions().await.iter().map(|row| row.version).collect();
    assert_eq!((kept.len(), kept[0], kept[19]), (20, 50, 31), "the last twenty");
    assert_eq!(store.prompt_set("gates".into()).await.unwrap().0.document, "table 50");
    store.remove_prompt_set("gates".into(), "tess".into(), 2).await.unwrap();
    assert!(versions().await.is_empty(), "nothing stays of what an app removed");
    assert!(store.remove_prompt_set("gates".into(), "tess".into(), 3).await.is_err());
    assert_eq!(put(&store, set("barge", "another")).await.unwrap(), 1, "and the name is free");
}

#[tokio::test]
async fn what_is_made_again_is_to_be_heard_again() {
    let (_folder, store) = store();
    put(&store, set("quay", "one")).await.unwrap();
    store.put_prompt_file(file("open", "mp3", "a")).await.unwrap();
    let key = |prompt: &str| ("gates".to_owned(), prompt.to_owned(), "mp3".to_owned());
    let approved = async || {
        let files = store.prompt_set("gates".into()).await.unwrap().1;
        files.into_iter().map(|one| (one.approved_by, one.approved_at)).collect::<Vec<_>>()
    };
    store.approve_prompt(key("open"), "tess".into(), Approval::Given, 7).await.unwrap();
    assert_eq!(approved().await, [(Some("tess".into()), Some(7))]);
    store.approve_prompt(key("open"), "tess".into(), Approval::Withdrawn, 8).await.unwrap();
    assert_eq!(approved().await, [(None, None)], "it can be taken back");
    store.approve_prompt(key("open"), "tess".into(), Approval::Given, 9).await.unwrap();
    store.put_prompt_file(file("open", "mp3", "b")).await.unwrap();
    assert_eq!(approved().await, [(None, None)], "one file in place of the other");
    let missing = store.approve_prompt(key("shut"), "tess".into(), Approval::Given, 10).await.unwrap_err();
    assert!(matches!(missing, StoreError::Missing { .. }), "{missing}");
    store.remove_prompt_set("gates".into(), "tess".into(), 11).await.unwrap();
    assert!(store.prompt_set("gates".into()).await.is_err());
    put(&store, set("quay", "one")).await.unwrap();
    assert_eq!(approved().await, [], "its files went with it");
    let actions: Vec<String> = store.audit(20).await.unwrap().into_iter().map(|row| row.action).collect();
    assert_eq!(actions.iter().filter(|action| action.as_str() == "prompts.approve").count(), 2, "{actions:?}");
}
