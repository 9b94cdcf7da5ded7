//! Routes in full: orders, weights, conditions, breakers, and what is tried
//! without sending.

use dispatcher_core::{BreakerState, Cause, Conditions, Leg, Order, Route, Work};
use dispatcher_gateway::{GatewayError, HealthScope, PreviewedRequest};

use crate::support::*;

const TEXT: &str = "The ferry to Gullsay leaves from the south pier in ten minutes.";

/// The engines in the places in which they would be tried, and why others are not.
async fn previewed(fixture: &TestGateway, name: &str, app: Option<&str>) -> (Vec<String>, Vec<String>) {
    let given = PreviewedRequest::Synthesis(Box::new(say(TEXT, name)));
    let preview = fixture.gateway.preview_route(&fixture.caller, name, app, given).await.unwrap();
    let mut placed: Vec<_> = preview.legs.iter().filter_map(|leg| Some((leg.place?, leg.engine.clone()))).collect();
    placed.sort();
    let passed = preview.legs.iter().filter_map(|leg| leg.passed_over.clone()).collect();
    (placed.into_iter().map(|(_, engine)| engine).collect(), passed)
}

async fn spoken_by(fixture: &TestGateway, name: &str) -> String {
    let utterance = fixture.speak(say(TEXT, name)).await;
    let engine = utterance.engine.clone();
    collect(utterance.body).await.unwrap();
    engine
}

#[tokio::test]
async fn the_cheapest_leg_goes_first_and_the_preview_says_so() {
    let fixture = TestGateway::open().await;
    let legs = vec![leg("heron", Some("pellin")), leg("tape", None)];
    let put = |order| {
        let route = Route { order, ..route("saver", Work::Synthesis, legs.clone()) };
        fixture.gateway.put_route(route, "test")
    };
    put(Order::Listed).await.unwrap();
    assert_eq!(spoken_by(&fixture, "saver").await, "heron");
    put(Order::Cheapest).await.unwrap();
    // The tape is free.
    assert_eq!(previewed(&fixture, "saver", None).await.0, ["tape", "heron"]);
    assert_eq!(spoken_by(&fixture, "saver").await, "tape");
}

#[tokio::test]
async fn the_fastest_leg_is_the_one_that_was_measured_so() {
    let fixture = TestGateway::open().await;
    let legs = vec![leg("heron", Some("pellin")), leg("tape", None)];
    fixture.gateway.put_route(route("pier-tape", Work::Synthesis, vec![leg("tape", None)]), "test").await.unwrap();
    let swift = Route { order: Order::Fastest, ..route("swift", Work::Synthesis, legs) };
    fixture.gateway.put_route(swift, "test").await.unwrap();
    assert_eq!(previewed(&fixture, "swift", None).await.0, ["heron", "tape"], "nothing is known yet");
    for _ in 0..20 {
        assert_eq!(spoken_by(&fixture, "pier-tape").await, "tape");
    }
    assert_eq!(previewed(&fixture, "swift", None).await.0, ["tape", "heron"], "what is measured goes first");
    let measured = fixture.gateway.health(HealthScope::Voice, 1).await.unwrap();
    let tape = measured.iter().find(|one| one.name == "tape/reel").expect("measured");
    assert_eq!((tape.calls, tape.failures, tape.fallbacks), (20, 0, 0));
    let route = fixture.gateway.health(HealthScope::Route, 1).await.unwrap();
    assert_eq!((route[0].name.as_str(), route[0].calls), ("pier-tape", 20));
    assert!(route[0].first.is_some() && tape.first.unwrap().median <= tape.first.unwrap().p99);
}

#[tokio::test]
async fn legs_with_weights_share_the_calls() {
    let fixture = TestGateway::open().await;
    let weighted = |engine, weight| Leg { weight, ..leg(engine, None) };
    let legs = vec![weighted("heron", Some(1)), weighted("tape", Some(1))];
    fixture.gateway.put_route(route("halves", Work::Synthesis, legs), "test").await.unwrap();
    let mut by_heron = 0;
    for _ in 0..40 {
        by_heron += usize::from(spoken_by(&fixture, "halves").await == "heron");
    }
    // Beyond these bounds it is with a chance of one in 50 million.
    assert!((4..=36).contains(&by_heron), "{by_heron} of 40");
}

#[tokio::test]
async fn a_leg_for_other_apps_or_hours_is_passed_over_and_it_is_told_why() {
    let fixture = TestGateway::open().await;
    let own = |engine, conditions| Leg { conditions, ..leg(engine, None) };
    let apps = |name: &str| Conditions { apps: vec![name.into()], ..Conditions::default() };
    let mine = fixture.caller.app.name.clone();
    let legs = vec![own("heron", apps("helpline")), own("tape", apps(&mine))];
    fixture.gateway.put_route(route("desk", Work::Synthesis, legs), "test").await.unwrap();
    let (tried, why) = previewed(&fixture, "desk", None).await;
    assert_eq!((tried, why), (vec!["tape".to_owned()], vec![format!("it is for helpline, not for {mine}")]));
    assert_eq!(spoken_by(&fixture, "desk").await, "tape");
    let formats = Conditions { formats: vec!["opus".into()], ..Conditions::default() };
    let only = route("opus-only", Work::Synthesis, vec![own("heron", formats)]);
    fixture.gateway.put_route(only, "test").await.unwrap();
    let Err(GatewayError::Plan(fault)) = fixture.gateway.speak(&fixture.caller, say(TEXT, "opus-only")).await else {
        panic!("a format that no leg is for");
    };
    assert!(
        fault.to_string().starts_with("no leg of the route 'opus-only' may be used; leg 1: it is for opus"),
        "{fault}"
    );
}

#[tokio::test]
async fn an_engine_that_fails_again_and_again_is_left_alone_until_it_works() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"expired"}"#).await;
    let calls = || async { delivered(&fixture.heron).await["calls"].as_u64().unwrap() };
    for _ in 0..5 {
        assert_eq!(spoken_by(&fixture, "pier").await, "tape");
    }
    let view = fixture.gateway.breakers().remove(0);
    assert_eq!(
        (view.engine.as_str(), view.state, view.cause),
        ("heron", BreakerState::Open, Some(Cause::Unauthorized))
    );
    let before = calls().await;
    let utterance = fixture.speak(say(TEXT, "pier")).await;
    assert_eq!((utterance.fallbacks[0].cause, utterance.fallbacks.len()), (Cause::BreakerOpen, 1));
    let told = "heron was skipped: breaker-open (not called after repeated failures (unauthorized); tried again in ";
    assert!(utterance.warnings[0].starts_with(told), "{:?}", utterance.warnings);
    let id = utterance.dispatch.clone();
    collect(utterance.body).await.unwrap();
    let (_, attempts, _) = fixture.dispatch(&id).await;
    assert_eq!(attempts.iter().map(|one| one.engine.as_str()).collect::<Vec<_>>(), ["tape"], "no call, no attempt");
    assert_eq!(calls().await, before, "the engine was not called");
    let (tried, why) = previewed(&fixture, "pier", None).await;
    assert!(tried == ["tape"] && why[0].starts_with("not called after repeated failures"), "{tried:?} {why:?}");
    let measured = fixture.gateway.health(HealthScope::Engine, 1).await.unwrap();
    let told: Vec<_> = measured.iter().map(|one| (one.name.as_str(), one.calls, one.failures, one.fallbacks)).collect();
    assert_eq!(told, [("heron", 5, 5, 0), ("tape", 6, 0, 6)]);

    // Nobody else is left: the caller is told at once when to come back.
    let Err(GatewayError::AllFailed { attempts, .. }) =
        fixture.gateway.speak(&fixture.caller, say(TEXT, "heron/pellin")).await
    else {
        panic!("an engine behind an open breaker spoke");
    };
    assert_eq!((attempts.len(), attempts[0].cause), (1, Cause::BreakerOpen));
    assert!(attempts[0].retry_after.is_some_and(|after| after.as_secs() <= 5), "{attempts:?}");
    weather(&fixture.heron, "").await;
    fixture.gateway.reset_breakers("heron", "test").await.unwrap();
    assert_eq!(spoken_by(&fixture, "pier").await, "heron");
    assert!(fixture.gateway.reset_breakers("gannet", "test").await.is_err());
}
