//! What was measured, hour by hour.

use dispatcher_core::Work;
use dispatcher_store::{HealthHour, HealthScope};

use crate::support::store;

fn hour(scope: HealthScope, name: &str, hour: i64, calls: i64) -> HealthHour {
    let (first, total) = (vec![1, 2], vec![3]);
    HealthHour { scope, name: name.into(), work: Work::Synthesis, hour, calls, failures: 1, fallbacks: 2, first, total }
}

#[tokio::test]
async fn hours_are_replaced_kept_by_kind_and_removed_when_they_are_old() {
    let (_folder, store) = store();
    let engine = |name: &str, at, calls| hour(HealthScope::Engine, name, at, calls);
    let route = hour(HealthScope::Route, "quayside", 11, 4);
    let hours = vec![engine("heron", 10, 1), engine("heron", 11, 2), engine("avocet", 11, 3), route.clone()];
    store.put_health(hours, 0).await.unwrap();
    store.put_health(vec![engine("heron", 11, 7)], 0).await.unwrap();
    let read = async |scope, since| {
        let rows = store.fold_health(scope, since, |rows: &mut Vec<HealthHour>, row| rows.push(row)).await.unwrap();
        rows.into_iter().map(|row| (row.name, row.hour, row.calls)).collect::<Vec<_>>()
    };
    let told = |name: &str, at, calls| (name.to_owned(), at, calls);
    let all = [told("avocet", 11, 3), told("heron", 10, 1), told("heron", 11, 7)];
    assert_eq!(read(HealthScope::Engine, 0).await, all, "by name, the oldest first");
    assert_eq!(read(HealthScope::Engine, 11).await, [all[0].clone(), all[2].clone()]);
    assert_eq!(read(HealthScope::Voice, 0).await, []);
    store.put_health(vec![engine("heron", 12, 5)], 11).await.unwrap();
    let left = store.health_since(0).await.unwrap();
    assert_eq!(left.iter().map(|row| row.hour).collect::<Vec<_>>(), [11, 11, 11, 12], "the hour before is gone");
    assert!(left.contains(&route), "times are kept as they were");
}
