//! More requests than can be served: those that are let in are as quick as
//! ever, the others are refused at once, and all is well once they are gone.

use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::BINARY;
use dispatcher_e2e::{Service, gannet_sheet, header, slow_engine};
use futures::StreamExt as _;
use serde_json::json;
use tokio::io::AsyncWriteExt as _;

/// One request: its status, and how long it took.
async fn ask(service: &Service) -> (u16, Duration) {
    let begun = Instant::now();
    let response = service.speak(json!({"text": "Ahoy", "voice": "gannet/ada"}), "audio/wav").await;
    let (status, again) = (response.status().as_u16(), header(&response, "retry-after"));
    assert!(status == 200 || again.parse::<u64>().is_ok_and(|seconds| seconds >= 1), "{status} '{again}'");
    let _ = response.bytes().await;
    (status, begun.elapsed())
}

/// Requests at even intervals, whatever becomes of those before.
async fn at_rate(service: &Arc<Service>, each: Duration, lasting: Duration) -> Vec<(u16, Duration)> {
    let (mut calls, mut next) = (Vec::new(), tokio::time::Instant::now());
    let end = next + lasting;
    while next < end {
        tokio::time::sleep_until(next).await;
        let service = service.clone();
        calls.push(tokio::spawn(async move { ask(&service).await }));
        next += each;
    }
    futures::future::join_all(calls).await.into_iter().map(|call| call.unwrap()).collect()
}

/// The time that a share of the calls, in hundredths, are within.
fn percentile(mut times: Vec<Duration>, hundredths: usize) -> Duration {
    times.sort();
    times[(times.len() * hundredths).div_ceil(100) - 1]
}

/// Which share of the calls is held to the goal: 99 in 100 on a machine with
/// nothing else to do (`make soak`), half of them beside other tests.
fn share_held() -> usize {
    if std::env::var_os("ALONE").is_some() { 99 } else { 50 }
}

fn of(status: u16, outcomes: &[(u16, Duration)]) -> Vec<Duration> {
    outcomes.iter().filter(|(own, _)| *own == status).map(|(_, time)| *time).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn at_four_times_what_an_engine_takes_calls_are_quick_or_refused_at_once() {
    // Four at once of 400 ms: ten calls a second.
    let url = slow_engine(Duration::from_millis(400)).await;
    let service = Arc::new(Service::start(BINARY, &[("gannet", gannet_sheet(&url, 4))]).await);
    let second = Duration::from_secs(1);
    let calm = at_rate(&service, second / 5, second * 4).await;
    let unloaded = percentile(of(200, &calm), share_held());
    assert_eq!(of(200, &calm).len(), calm.len(), "{calm:?}");
    let storm = at_rate(&service, second / 40, second * 6).await;
    let (served, refused) = (of(200, &storm), of(429, &storm));
    assert_eq!(served.len() + refused.len(), storm.len(), "{storm:?}");
    // 60 of 240 in six seconds, and those that begin and end beside them.
    assert!((30..=75).contains(&served.len()), "{} were served", served.len());
    let loaded = percentile(served, share_held());
    assert!(loaded < 2 * unloaded + Duration::from_millis(150), "{loaded:?} of {unloaded:?} unloaded");
    let at_once = percentile(refused, share_held());
    assert!(at_once < unloaded, "refused after {at_once:?}");
    let after = at_rate(&service, second / 5, second * 2).await;
    assert_eq!(of(200, &after).len(), after.len(), "it recovers by itself: {after:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_thousand_slow_heads_and_a_thousand_idle_connections_stop_nobody() {
    let url = slow_engine(Duration::from_millis(20)).await;
    let service = Arc::new(Service::start(BINARY, &[("gannet", gannet_sheet(&url, 50))]).await);
    let host = service.url.trim_start_matches("http://").to_owned();
    let connect = |slow: bool| {
        let host = host.clone();
        async move {
            let mut stream = tokio::net::TcpStream::connect(&host).await.ok()?;
            if slow {
                stream.write_all(b"POST /api/v1/utterances HTTP/1.1\r\nHost: x\r\nX-Slow: ").await.ok()?;
            }
            Some(stream)
        }
    };
    let open = futures::stream::iter((0..2_000).map(|number| connect(number % 2 == 0)));
    let mut held: Vec<_> = open.buffer_unordered(100).collect().await;
    let slow = held.iter().filter(|stream| stream.is_some()).count();
    assert!(slow >= 1_900, "{slow} connections are open");
    // Heads that go on, a byte at a time.
    for stream in held.iter_mut().step_by(2).flatten() {
        let _ = stream.write_all(b"a").await;
    }
    let times: Vec<_> = at_rate(&service, Duration::from_millis(50), Duration::from_secs(2)).await;
    assert_eq!(of(200, &times).len(), times.len(), "{times:?}");
    assert!(percentile(of(200, &times), share_held()) < Duration::from_secs(2), "{times:?}");
}
