//! Search among a hundred thousand voices, in the core.
#![allow(missing_docs, reason = "made by a macro")]

use criterion::{Criterion, criterion_group, criterion_main};
use dispatcher_benches::catalogue::{queries, sheets};
use dispatcher_core::VoiceIndex;

fn search(c: &mut Criterion) {
    let index = VoiceIndex::new(&sheets(), "2026-11-30");
    let mut group = c.benchmark_group("search among 100,000 voices");
    for (name, query) in queries() {
        group.bench_function(name, |b| b.iter(|| index.find(std::hint::black_box(&query))));
    }
    group.finish();
}

criterion_group! {
    name = benches;
    config = Criterion::default().sample_size(20).measurement_time(std::time::Duration::from_secs(1)).warm_up_time(std::time::Duration::from_millis(200));
    targets = search
}
criterion_main!(benches);
