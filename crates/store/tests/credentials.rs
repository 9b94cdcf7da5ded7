//! Credentials: versions, their states, and what is erased.

use crate::support::store;
use dispatcher_store::{CredentialState, SealedCredential, Store, StoreError};

async fn credential(store: &Store, secret: &'static [u8]) -> i64 {
    let seal = move |version| {
        Ok(SealedCredential {
            name: "heron".into(),
            version,
            engine: "heron".into(),
            state: CredentialState::Pending,
            cause: None,
            part_names: "token".into(),
            hosts: "127.0.0.1".into(),
            wrapped_key: vec![1; 48],
            ciphertext: secret.to_vec(),
            created_by: "ada".into(),
            created_at: 1,
            last_used_at: None,
            ends_at: None,
        })
    };
    store.put_credential("heron".into(), "ada".into(), 1, seal).await.unwrap().version
}

async fn states(store: &Store) -> Vec<(i64, CredentialState, Option<String>)> {
    store.credentials().await.unwrap().into_iter().map(|row| (row.version, row.state, row.cause)).collect()
}

fn state(version: i64, state: CredentialState, cause: Option<&str>) -> (i64, CredentialState, Option<String>) {
    (version, state, cause.map(str::to_owned))
}

#[tokio::test]
async fn one_version_of_a_credential_is_in_force_and_use_tells_how_it_fares() {
    let (_folder, store) = store();
    let first = credential(&store, b"first").await;
    store.activate_credential("heron".into(), first, "ada".into(), 2).await.unwrap();
    let second = credential(&store, b"second").await;
    store
        .hold_credential("heron".into(), second, CredentialState::Pending, Some("not live yet".into()), 3)
        .await
        .unwrap();
    assert_eq!(
        states(&store).await,
        [state(2, CredentialState::Pending, Some("not live yet")), state(1, CredentialState::Active, None)]
    );
    // What is used is the first as long as the second waits; use of one that waits changes nothing.
    store.note_credential_use("heron".into(), first, Some("unauthorized".into()), 4).await.unwrap();
    store.note_credential_use("heron".into(), second, None, 4).await.unwrap();
    assert_eq!(
        states(&store).await,
        [
            state(2, CredentialState::Pending, Some("not live yet")),
            state(1, CredentialState::Refused, Some("unauthorized"))
        ]
    );
    store.note_credential_use("heron".into(), first, None, 5).await.unwrap();
    assert_eq!(states(&store).await[1], state(1, CredentialState::Active, None), "it is taken again");
    store.activate_credential("heron".into(), second, "ada".into(), 6).await.unwrap();
    assert_eq!(
        states(&store).await,
        [state(2, CredentialState::Active, None), state(1, CredentialState::Superseded, None)]
    );
    store.note_credential_use("heron".into(), first, Some("unauthorized".into()), 7).await.unwrap();
    assert_eq!(
        states(&store).await[1],
        state(1, CredentialState::Superseded, None),
        "a call that ends late does not bring it back"
    );
}

#[tokio::test]
async fn a_call_that_ends_late_never_puts_an_older_version_into_force() {
    use CredentialState::{Active, Pending, Superseded, Unproven};
    let (_folder, store) = store();
    for _ in 0..4 {
        credential(&store, b"sealed").await;
    }
    let activate = async |version| store.activate_credential("heron".into(), version, "ada".into(), 2).await.unwrap();
    store.hold_credential("heron".into(), 3, Unproven, None, 2).await.unwrap();
    // The second proves itself while the third has not been called yet.
    assert_eq!(activate(2).await, Active);
    let now = [state(4, Pending, None), state(3, Unproven, None), state(2, Active, None), state(1, Superseded, None)];
    assert_eq!(states(&store).await, now, "newer versions keep their chance");
    assert_eq!(activate(3).await, Active);
    // Calls with the first and the second, which began before, end now.
    assert_eq!(activate(2).await, Superseded);
    store.hold_credential("heron".into(), 1, CredentialState::Refused, Some("unauthorized".into()), 3).await.unwrap();
    let now = [state(4, Pending, None), state(3, Active, None), state(2, Superseded, None), state(1, Superseded, None)];
    assert_eq!(states(&store).await, now);
}

#[tokio::test]
async fn a_revoked_credential_leaves_no_secret_in_the_file_and_never_comes_back() {
    let (folder, store) = store();
    let first = credential(&store, b"sealed-bytes-of-the-first").await;
    let second = credential(&store, b"sealed-bytes-of-the-second").await;
    store.activate_credential("heron".into(), second, "ada".into(), 2).await.unwrap();
    store.bind_credential("heron".into(), "10.0.0.9".into(), "ada".into(), 3).await.unwrap();
    assert!(store.credentials().await.unwrap().iter().all(|row| row.hosts == "10.0.0.9"));
    store.revoke_credential("heron".into(), "ada".into(), 4).await.unwrap();
    store.activate_credential("heron".into(), first, "ada".into(), 5).await.unwrap();
    store.rewrap_credential("heron".into(), second, vec![7; 48]).await.unwrap();
    for row in store.credentials().await.unwrap() {
        assert_eq!((row.state, row.wrapped_key.len(), row.ciphertext.len()), (CredentialState::Revoked, 0, 0));
    }
    let again = store.revoke_credential("heron".into(), "ada".into(), 6).await.unwrap_err();
    assert!(matches!(again, StoreError::Missing { what: "credential", .. }), "{again}");
    assert_eq!(credential(&store, b"third").await, 3, "its numbers are not used again");
    drop(store);
    // The last to close the file takes in what was written ahead of it.
    let left = || -> Vec<_> {
        let files = std::fs::read_dir(folder.path()).unwrap().map(|file| file.unwrap().path());
        let sealed = |bytes: Vec<u8>| bytes.windows(12).any(|window| window == b"sealed-bytes");
        files.filter(|path| std::fs::read(path).is_ok_and(sealed)).collect()
    };
    for _ in 0..100 {
        if left().is_empty() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert!(left().is_empty(), "{:?} still have what was sealed", left());
}
