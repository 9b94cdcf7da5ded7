//! Apps, their keys, people and their sessions.

use crate::support::{app, store};
use dispatcher_store::{AccessKey, App, PersonChange, PersonRole, Session, Store, StoreError};

fn key(id: &str, app: &str) -> AccessKey {
    AccessKey {
        id: id.into(),
        app: app.into(),
        operator: false,
        hash: format!("hash of {id}"),
        hint: "ab12".into(),
        label: "gate screens".into(),
        created_at: 1,
        last_used_at: None,
        revoked_at: None,
        per_minute: None,
        at_once: None,
        expires_at: None,
        calls: None,
        routes: None,
        engines: None,
        voices: None,
        networks: None,
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
        rehearsal: true,
        default_voice: Some("heron/pellin".into()),
        default_recognition: Some("captions".into()),
        default_format: Some("phone".into()),
        custom_voices: Some("heron/own-one\nheron/own-two".into()),
        site: Some(dispatcher_core::Site::Local),
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
    assert_eq!(
        (read.rehearsal, read.default_voice, read.default_format, read.custom_voices),
        (false, None, None, None)
    );
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
    store.put_person("ada".into(), password("one"), None, "host".into(), 1).await.unwrap();
    store.put_person("ada".into(), password("two"), None, "host".into(), 2).await.unwrap();
    assert!(store.has_people().await.unwrap());
    assert_eq!(store.password_hash("ada".into()).await.unwrap().as_deref(), Some("two"));
    assert_eq!(store.password_hash("ben".into()).await.unwrap(), None);
    store.add_session(session("s1", "ada", None, (10, 100))).await.unwrap();
    store.add_session(session("s2", "ada", None, (10, 200))).await.unwrap();
    assert_eq!(whose(&store, "s1", 99).await.as_deref(), Some("ada"));
    assert_eq!(whose(&store, "s1", 100).await, None, "to the moment");
    assert_eq!(whose(&store, "s2", 100).await.as_deref(), Some("ada"));
    store.end_session("s2".into()).await.unwrap();
    assert_eq!(whose(&store, "s2", 11).await, None);
    // A new one sweeps out what is over.
    store.add_session(session("s3", "ada", None, (150, 300))).await.unwrap();
    assert_eq!(whose(&store, "s1", 11).await, None, "it is not only over, it is gone");
}

fn password(hash: &str) -> PersonChange {
    PersonChange { password_hash: Some(hash.into()), role: None }
}

#[tokio::test]
async fn a_person_keeps_what_a_change_does_not_name() {
    let (_folder, store) = store();
    let put = async |name: &str, change| store.put_person(name.into(), change, None, "host".into(), 1).await;
    let role = |role, apps: &[&str]| Some((role, apps.iter().map(|app| (*app).to_owned()).collect()));
    assert!(put("ada", PersonChange::default()).await.is_err(), "a new person has a password");
    put("ada", password("one")).await.unwrap();
    let ada = async || store.person("ada".into()).await.unwrap().expect("ada");
    assert_eq!((ada().await.role, ada().await.apps), (PersonRole::Operator, None));
    let owner = PersonChange { password_hash: None, role: role(PersonRole::AppOwner, &["quay", "kiosk"]) };
    put("ada", owner).await.unwrap();
    assert_eq!(store.password_hash("ada".into()).await.unwrap().as_deref(), Some("one"));
    put("ada", password("two")).await.unwrap();
    assert_eq!((ada().await.role, ada().await.apps.as_deref()), (PersonRole::AppOwner, Some("quay\nkiosk")));
    put("ada", PersonChange { password_hash: None, role: role(PersonRole::Auditor, &[]) }).await.unwrap();
    assert_eq!((ada().await.role, ada().await.apps), (PersonRole::Auditor, None));
    let audit = store.audit(10).await.unwrap();
    assert_eq!((&*audit[0].action, &*audit[0].subject), ("person.put", "ada, auditor"));
}

fn session(hash: &str, person: &str, key: Option<&str>, (created_at, expires_at): (i64, i64)) -> Session {
    Session { hash: hash.into(), person: person.into(), created_at, expires_at, key: key.map(str::to_owned) }
}

async fn whose(store: &Store, hash: &str, at: i64) -> Option<String> {
    store.session(hash.into(), at).await.unwrap().map(|session| session.person)
}

#[tokio::test]
async fn a_session_ends_with_the_key_or_the_person_that_began_it() {
    let (_folder, store) = store();
    store.add_app(app("console"), "host".into()).await.unwrap();
    for id in ["k1", "k2"] {
        store.add_key(key(id, "console"), "host".into()).await.unwrap();
        store.add_session(session(id, &format!("key {id}"), Some(id), (1, 99))).await.unwrap();
    }
    for name in ["ada", "ben"] {
        store.put_person(name.into(), password("hash"), None, "host".into(), 1).await.unwrap();
        for number in ["one", "two"] {
            store.add_session(session(&format!("{name} {number}"), name, None, (1, 99))).await.unwrap();
        }
    }
    store.revoke_key("console".into(), "k1".into(), "ada".into(), 2).await.unwrap();
    assert_eq!(whose(&store, "k1", 3).await, None, "its key is revoked");
    assert_eq!(whose(&store, "k2", 3).await.as_deref(), Some("key k2"), "another key's goes on");
    // A changed password ends the others, and not the one that changed it.
    store.put_person("ada".into(), password("new"), Some("ada one".into()), "ada".into(), 4).await.unwrap();
    assert_eq!(whose(&store, "ada one", 5).await.as_deref(), Some("ada"));
    assert_eq!(whose(&store, "ada two", 5).await, None);
    assert_eq!(whose(&store, "ben two", 5).await.as_deref(), Some("ben"), "another person's go on");
    let people = store.people().await.unwrap();
    assert_eq!(
        people.iter().map(|person| (&*person.name, person.changed_at)).collect::<Vec<_>>(),
        [("ada", 4), ("ben", 1)]
    );
    store.remove_person("ben".into(), "ada".into(), 6).await.unwrap();
    assert_eq!(whose(&store, "ben one", 7).await, None);
    assert!(store.remove_person("ben".into(), "ada".into(), 8).await.is_err(), "there is nobody of that name");
    let audit = store.audit(10).await.unwrap();
    let told: Vec<_> = audit.iter().map(|row| (&*row.who, &*row.action, &*row.subject)).take(2).collect();
    assert_eq!(told, [("ada", "person.remove", "ben"), ("ada", "person.put", "ada, operator")], "who did it");
}
