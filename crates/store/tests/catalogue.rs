//! Lists of voices, marks and kept sound, as the gateway keeps them.

use crate::support::store;
use dispatcher_store::{CatalogueChange, ChangeKind, Store, StoredCatalogue};

fn list(document: &str, at: i64) -> StoredCatalogue {
    StoredCatalogue {
        engine: "heron".into(),
        document: document.into(),
        read_at: Some(at),
        tried_at: at,
        problem: None,
    }
}

fn change(voice: &str, at: i64) -> CatalogueChange {
    CatalogueChange { engine: "heron".into(), at, voice: voice.into(), kind: ChangeKind::Added, detail: String::new() }
}

#[tokio::test]
async fn the_last_good_list_outlives_a_look_that_failed() {
    let (folder, store) = store();
    store.put_catalogue(list("[1]", 10), vec![change("pellin", 10)]).await.unwrap();
    store.note_catalogue_problem("heron".into(), "unavailable".into(), 20).await.unwrap();
    store.note_catalogue_problem("curlew".into(), "unauthorized".into(), 21).await.unwrap();
    drop(store);
    let store = Store::open(&folder.path().join("records.db")).unwrap();
    let all = store.catalogues().await.unwrap();
    let told: Vec<_> =
        all.iter().map(|it| (&*it.engine, &*it.document, it.read_at, it.tried_at, it.problem.as_deref())).collect();
    let never = ("curlew", "", None, 21, Some("unauthorized"));
    assert_eq!(told, [never, ("heron", "[1]", Some(10), 20, Some("unavailable"))]);
    store.put_catalogue(list("[2]", 30), Vec::new()).await.unwrap();
    let ages = store.catalogue_ages().await.unwrap();
    let heron = ages.iter().find(|it| it.engine == "heron").unwrap();
    assert_eq!((heron.read_at, heron.tried_at, heron.problem.as_deref()), (Some(30), 30, None), "the fault is over");
}

#[tokio::test]
async fn changes_come_newest_first_and_two_thousand_are_kept() {
    let (_folder, store) = store();
    let other = CatalogueChange { engine: "curlew".into(), ..change("moor", 1) };
    store.put_catalogue(StoredCatalogue { engine: "curlew".into(), ..list("[]", 1) }, vec![other]).await.unwrap();
    for round in 0..5 {
        let changes = (0..500).map(|at| change(&format!("v{}", round * 500 + at), round)).collect();
        store.put_catalogue(list("[]", round), changes).await.unwrap();
    }
    let kept = store.catalogue_changes("heron".into(), 5_000).await.unwrap();
    assert_eq!((kept.len(), &*kept[0].voice, &*kept[1_999].voice), (2_000, "v2499", "v500"));
    assert_eq!(store.catalogue_changes("heron".into(), 3).await.unwrap().len(), 3);
    assert_eq!(store.catalogue_changes("curlew".into(), 9).await.unwrap().len(), 1, "another engine's stay");
}

#[tokio::test]
async fn a_voice_is_marked_once_and_the_mark_can_be_taken_away() {
    let (_folder, store) = store();
    for (voice, by) in [("heron/pellin", "ada"), ("heron/pellin", "ben"), ("flite/slt", "ada")] {
        store.add_favourite(voice.into(), by.into(), 5).await.unwrap();
    }
    let marked = store.favourites().await.unwrap();
    let told: Vec<_> = marked.iter().map(|it| (&*it.voice, &*it.by)).collect();
    assert_eq!(told, [("flite/slt", "ada"), ("heron/pellin", "ada")], "whose mark was first");
    store.remove_favourite("heron/pellin".into(), "ben".into(), 6).await.unwrap();
    store.remove_favourite("heron/never".into(), "ben".into(), 7).await.unwrap();
    assert_eq!(store.favourites().await.unwrap().len(), 1);
    let log = store.audit(2).await.unwrap();
    assert_eq!((&*log[1].who, &*log[1].action, &*log[1].subject), ("ben", "favourite.remove", "heron/pellin"));
}
