//! Kept audio, and what goes when there is no room.

use dispatcher_store::StoredRecall;

use crate::support::store;

fn recalled(sound: &str, content: &str, bytes: i64, at: i64) -> StoredRecall {
    StoredRecall {
        fingerprint: sound.into(),
        app: String::new(),
        content: content.into(),
        media_type: "audio/mpeg".into(),
        bytes,
        audio_ms: 900,
        engine: "heron".into(),
        voice: "pellin".into(),
        made_at: at,
        used_at: at,
        end_user: None,
    }
}

#[tokio::test]
async fn the_clip_that_was_not_used_longest_goes_first_and_shared_content_stays() {
    let (_folder, store) = store();
    for (sound, content, at) in [("s1", "c1", 1), ("s2", "c2", 2), ("s3", "c1", 3)] {
        assert!(store.put_recalled(recalled(sound, content, 40, at), 120).await.unwrap().is_empty());
    }
    // Looked up, so that another is the oldest.
    assert_eq!(store.recalled("s1".into(), String::new(), 4).await.unwrap().unwrap().content, "c1");
    assert!(store.recalled("none".into(), String::new(), 4).await.unwrap().is_none());
    assert_eq!(store.put_recalled(recalled("s4", "c4", 40, 5), 120).await.unwrap(), ["c2"]);
    assert!(store.recalled("s2".into(), String::new(), 6).await.unwrap().is_none());
    // The other sound of this content is still wanted.
    assert!(store.put_recalled(recalled("s5", "c5", 40, 7), 120).await.unwrap().is_empty(), "c1 is needed by s1");
    assert!(store.recalled("s3".into(), String::new(), 8).await.unwrap().is_none());
    // One that fits nowhere is kept alone: it was just asked for.
    let mut gone = store.put_recalled(recalled("s6", "c6", 500, 9), 120).await.unwrap();
    gone.sort();
    assert_eq!(gone, ["c1", "c4", "c5"]);
    assert_eq!(store.recalled("s6".into(), String::new(), 10).await.unwrap().unwrap().bytes, 500);
}

#[tokio::test]
async fn what_an_app_keeps_for_itself_is_found_by_it_alone() {
    let (_folder, store) = store();
    let own = |app: &str, content: &str| StoredRecall { app: app.into(), ..recalled("s1", content, 40, 1) };
    store.put_recalled(own("quay", "c1"), 1_000).await.unwrap();
    store.put_recalled(own("", "c2"), 1_000).await.unwrap();
    let content = async |app: &str| {
        let found = store.recalled("s1".into(), app.into(), 2).await.unwrap();
        found.map(|found| found.content)
    };
    assert_eq!(content("quay").await.as_deref(), Some("c1"));
    assert_eq!(content("").await.as_deref(), Some("c2"));
    assert_eq!(content("helpline").await, None);
    // What replaces it leaves the old content behind.
    assert_eq!(store.put_recalled(own("quay", "c3"), 1_000).await.unwrap(), ["c1"]);
    assert_eq!(content("quay").await.as_deref(), Some("c3"));
}
