//! Documents that are kept version by version, and what is in force.

use crate::support::store;
use dispatcher_store::{DocumentVersion, NewVersion, Store, StoreError, VersionOrigin, VersionedKind};

fn origin(text: &str) -> VersionOrigin {
    match text.strip_prefix("by ") {
        Some(who) => VersionOrigin::Person(who.into()),
        None => VersionOrigin::File(text.into()),
    }
}

async fn sheet(store: &Store, document: &str, from: &str) -> i64 {
    let (kind, name, document) = (VersionedKind::Sheet, "heron".into(), document.into());
    let new = NewVersion { kind, name, app: None, always: false, document, origin: origin(from) };
    store.put_version(new, 1).await.unwrap()
}

/// Number and document of each.
fn told(versions: Vec<DocumentVersion>) -> Vec<(i64, String)> {
    versions.into_iter().map(|version| (version.version, version.document)).collect()
}

async fn in_force(store: &Store) -> Vec<(i64, String)> {
    told(store.in_force(VersionedKind::Sheet).await.unwrap())
}

#[tokio::test]
async fn a_file_that_did_not_change_does_not_undo_what_a_person_put_in() {
    let (_folder, store) = store();
    assert_eq!(sheet(&store, "a", "heron.toml").await, 1);
    assert_eq!(sheet(&store, "b", "by ada").await, 2);
    // The service starts again, twice.
    assert_eq!(sheet(&store, "a", "heron.toml").await, 2);
    assert_eq!(sheet(&store, "a", "heron.toml").await, 2);
    assert_eq!(in_force(&store).await, [(2, "b".to_owned())]);
    // Only a file that says something new counts.
    assert_eq!(sheet(&store, "c", "heron.toml").await, 3);
    assert_eq!(in_force(&store).await, [(3, "c".to_owned())]);
    let versions = store.versions(VersionedKind::Sheet, "heron".into()).await.unwrap();
    let told: Vec<_> = versions.iter().map(|row| (row.version, &*row.document, row.origin.to_string())).collect();
    let expected = [(3, "c", "heron.toml"), (2, "b", "by ada"), (1, "a", "heron.toml")];
    assert_eq!(told, expected.map(|(version, document, origin)| (version, document, origin.to_owned())));
    let who: Vec<String> = store.audit(9).await.unwrap().into_iter().map(|entry| entry.who).collect();
    assert_eq!(who, ["heron.toml", "ada", "heron.toml"], "one entry for each version, by its own name");
}

#[tokio::test]
async fn what_a_person_puts_back_in_is_in_force_again() {
    let (_folder, store) = store();
    sheet(&store, "a", "by ada").await;
    sheet(&store, "b", "by ben").await;
    assert_eq!(sheet(&store, "a", "by ada").await, 3, "as she had it, and not as it is now");
    assert_eq!(in_force(&store).await, [(3, "a".to_owned())]);
    assert_eq!(sheet(&store, "a", "by ben").await, 3, "that is in force already");
}

#[tokio::test]
async fn an_engine_that_was_retired_stays_so_until_a_person_brings_it_back() {
    let (_folder, store) = store();
    let retire = |name: &str| store.retire(VersionedKind::Sheet, name.into(), "ada".into(), 2);
    sheet(&store, "a", "heron.toml").await;
    sheet(&store, "b", "by ada").await;
    retire("heron").await.unwrap();
    assert!(in_force(&store).await.is_empty());
    sheet(&store, "a", "heron.toml").await;
    assert!(in_force(&store).await.is_empty(), "the file is as it was when the engine was retired");
    // To the letter as before: it was asked for all the same.
    assert_eq!(sheet(&store, "b", "by ada").await, 3);
    assert_eq!(in_force(&store).await, [(3, "b".to_owned())]);
    let missing = retire("gull").await.unwrap_err();
    assert!(matches!(missing, StoreError::Missing { what: "engine", name } if name == "gull"));
}

#[tokio::test]
async fn each_kind_has_names_of_its_own_of_which_the_newest_version_counts() {
    let (_folder, store) = store();
    let put = |kind, name: &str, document: &str, by: &str, at| {
        store.put_version(NewVersion::by(by, kind, name, document.into()), at)
    };
    let (route, preset) = (VersionedKind::Route, VersionedKind::Preset);
    for (document, version) in [("one", 1), ("two", 2)] {
        assert_eq!(put(route, "gate", document, "ada", version).await.unwrap(), version);
        assert_eq!(put(preset, "gate", document, "ada", version).await.unwrap(), version);
    }
    put(route, "captions", "else", "ada", 3).await.unwrap();
    let routes = store.in_force(route).await.unwrap();
    let named: Vec<_> = routes.iter().map(|row| (&*row.name, row.version, &*row.document)).collect();
    assert_eq!(named, [("captions", 1, "else"), ("gate", 2, "two")]);
    let retire = |at| store.retire(preset, "gate".into(), "ada".into(), at);
    retire(4).await.unwrap();
    assert!(store.in_force(preset).await.unwrap().is_empty(), "no earlier version comes back");
    assert!(store.version_in_force(preset, "gate".into()).await.is_err());
    assert_eq!(store.version_in_force(route, "gate".into()).await.unwrap().document, "two", "another kind");
    assert!(retire(5).await.is_err(), "it is retired already");
    assert_eq!(put(preset, "gate", "three", "ben", 6).await.unwrap(), 3);
    assert_eq!(told(store.in_force(preset).await.unwrap()), [(3, "three".to_owned())]);
    let log: Vec<String> =
        store.audit(3).await.unwrap().iter().map(|it| format!("{} {} {}", it.who, it.action, it.subject)).collect();
    assert_eq!(log, ["ben preset.put gate version 3", "ada preset.retire gate", "ada route.put captions version 1"]);
}

#[tokio::test]
async fn a_lexicon_that_holds_for_more_or_others_is_a_new_version() {
    let (_folder, store) = store();
    let lexicon = |document: &str, app: Option<&str>, always| NewVersion {
        app: app.map(str::to_owned),
        always,
        ..NewVersion::by("tess", VersionedKind::Lexicon, "harbour", document.into())
    };
    let mut versions = Vec::new();
    for new in [
        lexicon("one", Some("helpline"), true),
        lexicon("one", Some("helpline"), true),
        lexicon("one", Some("helpline"), false),
        lexicon("one", None, false),
        lexicon("two", None, false),
    ] {
        versions.push(store.put_version(new, 1).await.unwrap());
    }
    assert_eq!(versions, [1, 1, 2, 3, 4]);
    let newest = store.version_in_force(VersionedKind::Lexicon, "harbour".into()).await.unwrap();
    assert_eq!((newest.app, newest.always, newest.document.as_str()), (None, false, "two"));
    let first = store.versions(VersionedKind::Lexicon, "harbour".into()).await.unwrap().pop().unwrap();
    assert_eq!((first.app.as_deref(), first.always), (Some("helpline"), true));
}
