//! Apps, their keys, people and their sessions.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

mod support;

use dispatcher_store::{AccessKey, App, Store, StoreError};
use support::{app, store};

fn key(id: &str, app: &str) -> AccessKey {
    AccessKey {
        id: id.into(),
        app: app.into(),
        operator: 0,
        hash: format!("hash of {id}"),
        hint: "ab12".into(),
        label: "gate screens".into(),
        created_at: 1,
        last_used_at: None,
        revoked_at: None,
    }
}

#[tokio::test]
async fn an_app_has_one_name_and_keeps_what_is_settled_for_it() {
    let (folder, store) = store();
    store.add_app(app("quay"), "ada".into()).await.unwrap();
    let twice = store.add_app(app("quay"), "ada".into()).await.unwrap_err();
    assert!(matches!(&twice, StoreError::Taken { what: "app", name } if name == "quay"), "{twice}");
    let settled = App {
        title: "Quay announcer".into(),
        rehearsal: 1,
        default_voice: Some("heron/marin".into()),
        default_recognition: Some("captions".into()),
        default_format: Some("phone".into()),
        custom_voices: Some("heron/own-one\nheron/own-two".into()),
        ..app("quay")
    };
    store.change_app(settled.clone(), "ben".into(), 2).await.unwrap();
    let missing = store.change_app(app("none"), "ben".into(), 3).await.unwrap_err();
    assert_eq!(missing.to_string(), "there is no app 'none'");
    drop(store);
    let store = Store::open(&folder.path().join("records.db")).unwrap();
    let read = store.app("quay".into()).await.unwrap();
    assert_eq!(format!("{read:?}"), format!("{settled:?}"));
    // What is taken away is gone, and not left as it was.
    store.change_app(App { title: "Quay".into(), ..app("quay") }, "ben".into(), 4).await.unwrap();
    let read = store.app("quay".into()).await.unwrap();
    assert_eq!((read.rehearsal, read.default_voice, read.default_format, read.custom_voices), (0, None, None, None));
    assert_eq!(store.apps().await.unwrap().len(), 1);
}

#[tokio::test]
async fn a_key_speaks_for_its_app_until_it_is_revoked() {
    let (_folder, store) = store();
    for name in ["quay", "help"] {
        store.add_app(app(name), "ada".into()).await.unwrap();
    }
    store.add_key(key("k1", "quay"), "ada".into()).await.unwrap();
    store.add_key(key("k2", "quay"), "ada".into()).await.unwrap();
    assert!(matches!(store.add_key(key("k3", "none"), "ada".into()).await, Err(StoreError::Missing { .. })));
    let again = store.add_key(AccessKey { hash: "hash of k1".into(), ..key("k4", "help") }, "ada".into()).await;
    assert!(again.is_err(), "no two keys have one hash");
    let grant = store.grant("hash of k1".into()).await.unwrap().unwrap();
    assert_eq!((&*grant.key.id, &*grant.app.name), ("k1", "quay"));
    assert!(store.grant("hash of k9".into()).await.unwrap().is_none());
    // Nobody revokes another app's key by guessing its id.
    assert!(store.revoke_key("help".into(), "k1".into(), "ada".into(), 5).await.is_err());
    store.revoke_key("quay".into(), "k1".into(), "ada".into(), 5).await.unwrap();
    assert!(store.grant("hash of k1".into()).await.unwrap().is_none());
    assert!(store.grant("hash of k2".into()).await.unwrap().is_some(), "the other goes on");
    let again = store.revoke_key("quay".into(), "k1".into(), "ada".into(), 6).await;
    assert!(again.is_err(), "it keeps the time at which it was revoked");
    store.note_key_use("k2".into(), 77);
    // Written one behind the other: once this is on the disk, that is too.
    store.add_app(app("late"), "ada".into()).await.unwrap();
    let keys = store.keys("quay".into()).await.unwrap();
    let told: Vec<_> = keys.iter().map(|key| (&*key.id, key.last_used_at, key.revoked_at)).collect();
    assert_eq!(told, [("k1", None, Some(5)), ("k2", Some(77), None)]);
}

#[tokio::test]
async fn a_session_ends_when_it_is_over_or_ended_and_old_ones_are_swept() {
    let (_folder, store) = store();
    assert!(!store.has_people().await.unwrap(), "a fresh service has nobody who signs in");
    store.put_person("ada".into(), "one".into(), 1).await.unwrap();
    store.put_person("ada".into(), "two".into(), 2).await.unwrap();
    assert!(store.has_people().await.unwrap());
    assert_eq!(store.password_hash("ada".into()).await.unwrap().as_deref(), Some("two"));
    assert_eq!(store.password_hash("ben".into()).await.unwrap(), None);
    store.add_session("s1".into(), "ada".into(), 10, 100).await.unwrap();
    store.add_session("s2".into(), "ada".into(), 10, 200).await.unwrap();
    let whose = |hash: &'static str, at| store.session(hash.into(), at);
    assert_eq!(whose("s1", 99).await.unwrap().as_deref(), Some("ada"));
    assert_eq!(whose("s1", 100).await.unwrap(), None, "to the moment");
    assert_eq!(whose("s2", 100).await.unwrap().as_deref(), Some("ada"));
    store.end_session("s2".into()).await.unwrap();
    assert_eq!(whose("s2", 11).await.unwrap(), None);
    // A new one sweeps out what is over.
    store.add_session("s3".into(), "ada".into(), 150, 300).await.unwrap();
    assert_eq!(whose("s1", 11).await.unwrap(), None, "it is not only over, it is gone");
}
