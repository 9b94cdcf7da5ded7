//! Tests of `limiter.rs`.

use super::*;

fn limiter(per_minute: Option<u32>, burst: Option<u32>, at_once: Option<u32>) -> Arc<Limiter> {
    Arc::new(Limiter::new(Pace { per_minute, burst, at_once }))
}

#[tokio::test(start_paused = true)]
async fn calls_are_spread_evenly_and_never_closer_than_the_limit() {
    let limiter = limiter(Some(6_000), None, None);
    let begun = Instant::now();
    let mut times = Vec::new();
    for _ in 0..40 {
        drop(limiter.enter("a", Priority::Interactive).await);
        times.push(begun.elapsed());
    }
    // 100 calls a second: the fortieth after 39 intervals of 10.6 ms.
    let last = times[39].as_secs_f64();
    assert!((0.395..0.490).contains(&last), "{last}");
    assert!(times.windows(11).all(|w| (w[10] - w[0]).as_secs_f64() > 0.097), "{times:?}");
}

#[tokio::test(start_paused = true)]
async fn a_burst_goes_at_once_after_a_pause() {
    let limiter = limiter(Some(600), Some(5), None);
    let begun = Instant::now();
    for _ in 0..5 {
        drop(limiter.enter("a", Priority::Interactive).await);
    }
    assert!(begun.elapsed() < Duration::from_millis(60), "{:?}", begun.elapsed());
    drop(limiter.enter("a", Priority::Interactive).await);
    assert!(begun.elapsed() > Duration::from_millis(90), "{:?}", begun.elapsed());
}

/// Fifty callers for half a minute, each with calls of its own duration.
#[tokio::test(start_paused = true)]
async fn a_limit_is_used_up_and_never_run_into() {
    let limiter = limiter(Some(1_200), None, Some(8));
    let begun = Instant::now();
    let calls = Arc::new(Mutex::new(Vec::new()));
    let callers: Vec<_> = (0..50)
        .map(|caller: u64| {
            let (limiter, calls) = (limiter.clone(), calls.clone());
            tokio::spawn(async move {
                while begun.elapsed() < Duration::from_secs(30) {
                    let permit = limiter.enter("ferries", Priority::Interactive).await;
                    let start = begun.elapsed();
                    tokio::time::sleep(Duration::from_millis(120 + 23 * (caller % 10))).await;
                    calls.lock().push((start, begun.elapsed()));
                    drop(permit);
                }
            })
        })
        .collect();
    for caller in callers {
        caller.await.expect("served");
    }
    let calls = calls.lock();
    for second in [2, 8, 14, 20] {
        let window = Duration::from_secs(second)..Duration::from_secs(second + 6);
        let made = calls.iter().filter(|(start, _)| window.contains(start)).count();
        assert!((108..=120).contains(&made), "{made} of 120 calls in six seconds");
    }
    let running = |at: &Duration| calls.iter().filter(|(start, end)| start <= at && at < end).count();
    let most = calls.iter().map(|(start, _)| running(start)).max();
    assert!(most.is_some_and(|most| most <= 8), "{most:?} at once");
}

fn full(retry_after: Option<u64>) -> EngineError {
    let retry_after = retry_after.map(Duration::from_millis);
    EngineError { cause: Cause::Throttled, detail: "full".into(), retry_after }
}

#[tokio::test(start_paused = true)]
async fn a_full_engine_is_left_alone_by_all_and_asked_again() {
    let limiter = limiter(Some(60_000), None, Some(4));
    let held = limiter.enter("a", Priority::Interactive).await;
    let begun = Instant::now();
    let error = full(Some(80));
    let first = async { (held.wait_again(&error, 0).await, begun.elapsed()) };
    let ((again, ready), entered) = tokio::join!(first, async {
        tokio::time::sleep(Duration::from_millis(5)).await;
        assert_eq!(limiter.load().left, 0);
        drop(limiter.enter("b", Priority::Interactive).await);
        begun.elapsed()
    });
    assert!(again && ready >= Duration::from_millis(80), "{ready:?}");
    assert!(entered > ready, "the others waited too, and came behind: {entered:?} {ready:?}");
}

#[tokio::test(start_paused = true)]
async fn the_next_leg_has_its_chance_where_waiting_is_long_or_in_vain() {
    let limiter = limiter(Some(60_000), None, None);
    let held = limiter.enter("a", Priority::Interactive).await;
    let begun = Instant::now();
    assert!(!held.wait_again(&full(Some(5_000)), 0).await, "five seconds are not waited");
    assert!(!held.wait_again(&full(None), AGAIN).await, "it was asked often enough");
    let other = EngineError { cause: Cause::Unavailable, ..full(None) };
    assert!(!held.wait_again(&other, 0).await, "it is not full, it is down");
    let free = Permit(None, Priority::Interactive, Instant::now());
    assert!(!free.wait_again(&full(None), 0).await, "no limits are known");
    assert!(begun.elapsed() < Duration::from_millis(50), "nothing was waited for: {:?}", begun.elapsed());
}

#[tokio::test(start_paused = true)]
async fn what_is_left_is_told() {
    let limiter = limiter(Some(600), Some(5), Some(4));
    assert_eq!(limiter.load(), Load { running: 0, waiting: 0, left: 4 });
    let held = limiter.enter("a", Priority::Interactive).await;
    drop(limiter.enter("a", Priority::Interactive).await);
    tokio::time::sleep(AFTERGLOW * 3).await;
    assert_eq!(limiter.load(), Load { running: 1, waiting: 0, left: 3 }, "three of the room, and of the burst");
    drop(limiter.enter("a", Priority::Interactive).await);
    assert!(limiter.load().left <= 2, "the burst is nearly used up: {:?}", limiter.load());
    drop(held);
}

#[tokio::test(start_paused = true)]
async fn no_more_at_once_than_the_limit_and_apps_take_turns() {
    let limiter = limiter(None, None, Some(1));
    let first = limiter.enter("greedy", Priority::Interactive).await;
    let order = Arc::new(Mutex::new(Vec::new()));
    let mut tasks = Vec::new();
    for (number, app) in ["greedy", "greedy", "greedy", "modest"].into_iter().enumerate() {
        let (waits, order) = (limiter.clone(), order.clone());
        tasks.push(tokio::spawn(async move {
            let _permit = waits.enter(app, Priority::Interactive).await;
            order.lock().push(app);
        }));
        while limiter.queue() < number + 1 {
            tokio::task::yield_now().await;
        }
    }
    // One who leaves takes nobody's turn.
    let left = tokio::time::timeout(Duration::from_millis(5), limiter.enter("left", Priority::Interactive));
    assert!(left.await.is_err());
    drop(first);
    for task in tasks {
        task.await.expect("a turn");
    }
    assert_eq!(*order.lock(), ["greedy", "modest", "greedy", "greedy"]);
}

/// Lets calls wait at a gate.
async fn queue_up(limiter: &Arc<Limiter>, app: &'static str, calls: usize) -> Vec<tokio::task::JoinHandle<Permit>> {
    let before = limiter.queue();
    let tasks = (0..calls).map(|_| {
        let waits = limiter.clone();
        tokio::spawn(async move { waits.enter(app, Priority::Interactive).await })
    });
    let tasks = tasks.collect();
    while limiter.queue() < before + calls {
        tokio::task::yield_now().await;
    }
    tasks
}

#[tokio::test(start_paused = true)]
async fn so_many_calls_of_an_app_may_wait_and_so_many_of_all() {
    let limiter = limiter(None, None, Some(400));
    let mut held = Vec::new();
    for _ in 0..400 {
        held.push(limiter.enter("greedy", Priority::Interactive).await);
    }
    let mut waiting = queue_up(&limiter, "greedy", WAITING_OF_APP - 1).await;
    assert_eq!(limiter.crowded("greedy"), None, "one more may");
    waiting.extend(queue_up(&limiter, "greedy", 1).await);
    assert_eq!(limiter.crowded("greedy"), Some(Duration::from_secs(1)));
    assert_eq!(limiter.crowded("modest"), None, "another app's calls take turns with it");
    for app in ["b", "c", "d"] {
        waiting.extend(queue_up(&limiter, app, WAITING_OF_APP).await);
    }
    assert!(limiter.crowded("modest").is_some(), "there is an end for all together");
    waiting.iter().for_each(tokio::task::JoinHandle::abort);
}

#[tokio::test(start_paused = true)]
async fn a_call_that_would_wait_longer_than_calls_take_is_refused_with_the_time() {
    let slow = limiter(None, None, Some(1));
    let held = slow.enter("a", Priority::Interactive).await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    drop(held);
    tokio::time::sleep(AFTERGLOW * 2).await;
    let _held = slow.enter("a", Priority::Interactive).await;
    assert_eq!(slow.crowded("a"), None, "as long as the call before it");
    let waiting = queue_up(&slow, "a", 1).await;
    let wait = slow.crowded("a").expect("6 s").as_secs_f64();
    assert!((5.9..6.1).contains(&wait), "{wait}");
    let paced = limiter(Some(60), None, None);
    let first = paced.enter("a", Priority::Interactive).await;
    let next = queue_up(&paced, "a", 1).await;
    assert_eq!(paced.crowded("a"), None, "two intervals");
    let others = queue_up(&paced, "a", 1).await;
    assert_eq!(paced.crowded("a").expect("three").as_secs(), 3);
    drop(first);
    [waiting, next, others].iter().flatten().for_each(tokio::task::JoinHandle::abort);
}

#[tokio::test(start_paused = true)]
async fn jobs_go_behind_calls_and_leave_them_room() {
    let limiter = limiter(None, None, Some(3));
    let first = limiter.enter("book", Priority::Batch).await;
    let second = limiter.enter("book", Priority::Batch).await;
    let third = tokio::time::timeout(Duration::from_millis(5), limiter.enter("book", Priority::Batch));
    assert!(third.await.is_err(), "the last room is for calls");
    let call = tokio::time::timeout(Duration::from_millis(5), limiter.enter("desk", Priority::Interactive));
    let call = call.await.expect("a call goes in at once");
    let order = Arc::new(Mutex::new(Vec::new()));
    let mut tasks = Vec::new();
    for (number, priority) in [Priority::Batch, Priority::Interactive].into_iter().enumerate() {
        let (waits, order) = (limiter.clone(), order.clone());
        tasks.push(tokio::spawn(async move {
            let _permit = waits.enter("a", priority).await;
            order.lock().push(priority);
        }));
        while limiter.queue() < number + 1 {
            tokio::task::yield_now().await;
        }
    }
    drop((first, second, call));
    for task in tasks {
        task.await.expect("a turn");
    }
    assert_eq!(*order.lock(), [Priority::Interactive, Priority::Batch]);
}

#[tokio::test(start_paused = true)]
async fn of_a_burst_jobs_leave_the_last_call() {
    let limiter = limiter(Some(600), Some(3), None);
    for _ in 0..2 {
        drop(limiter.enter("book", Priority::Batch).await);
    }
    let third = tokio::time::timeout(Duration::from_millis(30), limiter.enter("book", Priority::Batch));
    assert!(third.await.is_err());
    let call = tokio::time::timeout(Duration::from_millis(30), limiter.enter("desk", Priority::Interactive));
    assert!(call.await.is_ok());
}
