//! A script of a megabyte, read and lowered, against bare XML events over the
//! same bytes.
#![allow(missing_docs, reason = "made by a macro")]
#![allow(clippy::print_stdout, reason = "what is measured is printed")]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use dispatcher_markup::{Choices, Policy, lower, read_ssml};
use quick_xml::Reader;
use quick_xml::events::Event;

/// An engine that takes no markup and has one voice.
struct Plain;

impl Choices for Plain {}

fn script() -> String {
    let mut script = String::from("<speak version=\"1.1\" xml:lang=\"en-GB\">\n");
    let mut number = 0;
    while script.len() < 1 << 20 {
        number += 1;
        script += &format!(
            "  <p><s>Round {number}: the mate counts the life jackets at door {} &amp; signs for them.</s>\n    \
             <s>Stand clear of the <emphasis>ramp</emphasis><break time=\"300ms\"/> and mind the \
             <sub alias=\"lifeboat\">LB</sub>, which leaves at <say-as interpret-as=\"time\">06:15</say-as>.</s></p>\n",
            number % 12 + 1
        );
    }
    script + "</speak>\n"
}

/// Every event, and every attribute of it.
fn bare(script: &str) -> usize {
    let mut reader = Reader::from_str(script);
    let mut count = 0;
    loop {
        match reader.read_event() {
            Ok(Event::Eof) | Err(_) => return count,
            Ok(Event::Start(tag) | Event::Empty(tag)) => count += 1 + tag.attributes().flatten().count(),
            Ok(_) => count += 1,
        }
    }
}

fn markup(c: &mut Criterion) {
    let script = script();
    let mut group = c.benchmark_group("a script of 1 MB");
    group.throughput(Throughput::Bytes(script.len() as u64));
    group.bench_function("bare events", |b| b.iter(|| bare(std::hint::black_box(&script))));
    group.bench_function("read", |b| b.iter(|| read_ssml(std::hint::black_box(&script)).is_ok()));
    group.bench_function("read and lowered", |b| {
        b.iter(|| {
            read_ssml(std::hint::black_box(&script)).map(|read| lower(&read, None, Policy::Adapt, &Plain).pieces.len())
        })
    });
    group.finish();
    ratios(&script);
}

/// The best of many runs each, taken in turns, so that a machine that is
/// slower for a while is so for all of them.
fn ratios(script: &str) {
    let mut best = [f64::INFINITY; 3];
    for _ in 0..150 {
        let mut time = |at: usize, run: &dyn Fn() -> usize| {
            let begun = std::time::Instant::now();
            std::hint::black_box(run());
            best[at] = f64::min(best[at], begun.elapsed().as_secs_f64());
        };
        time(0, &|| bare(script));
        time(1, &|| read_ssml(script).is_ok().into());
        time(2, &|| read_ssml(script).map_or(0, |read| lower(&read, None, Policy::Adapt, &Plain).pieces.len()));
    }
    let [bare, read, lowered] = best;
    println!("against bare events, best of 150: read {:.2}, read and lowered {:.2}", read / bare, lowered / bare);
}

criterion_group! {
    name = benches;
    config = Criterion::default().sample_size(20).measurement_time(std::time::Duration::from_secs(3)).warm_up_time(std::time::Duration::from_millis(500));
    targets = markup
}
criterion_main!(benches);
