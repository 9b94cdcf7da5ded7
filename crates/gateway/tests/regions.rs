//! Regions: where an engine that can be called in several is called, and
//! requests that are bound to one.

use std::collections::BTreeMap;

use dispatcher_core::{Conditions, Leg, PlanError, Site, Work};
use dispatcher_gateway::{Caller, GatewayError, SynthesisRequest};
use dispatcher_standins::{StandIn, start_bittern};

use crate::support::*;

const BITTERN: &str = include_str!("../../../demo/sheets/bittern.toml");

/// A gateway with bittern, whose user is at one shore or at both; its
/// credential names the northern one.
async fn with_bittern(shore: &str) -> (TestGateway, StandIn) {
    let bittern = start_bittern(0, "ferry", "gate-52", shore).await.unwrap();
    // Its voices are not listed: who lists them would have to be at that shore.
    let voices = "[[synthesis.voices]]\nid = \"rushes\"\nname = \"Rushes\"\nlanguages = [\"en-GB\"]\n";
    let (before, behind) = BITTERN.split_once("[catalogue]").unwrap();
    let formats = behind.find("[synthesis.formats]").unwrap();
    let sheet = format!("{before}{}\n{voices}", &behind[formats..]);
    let engine = load(&sheet, "bittern.toml", Some(&bittern.url()));
    let fixture = TestGateway::open_with(|registry, _| registry.add(engine)).await;
    let parts = [("user", "ferry"), ("password", "gate-52"), ("shore", "north")];
    let parts = parts.map(|(name, value)| (name.to_owned(), value.to_owned().into()));
    fixture.gateway.add_credential("bittern", None, BTreeMap::from(parts), "test").await.unwrap();
    (fixture, bittern)
}

fn asking(region: Option<&str>, voice: &str) -> SynthesisRequest {
    SynthesisRequest { region: region.map(str::to_owned), ..say(TEXT, voice) }
}

#[tokio::test]
async fn a_request_is_called_in_the_region_that_it_asks_for() {
    // The user is at the southern shore alone: a call at the other is refused.
    let (fixture, bittern) = with_bittern("south").await;
    let Err(GatewayError::AllFailed { attempts, .. }) =
        fixture.gateway.speak(&fixture.caller, asking(None, "bittern/rushes")).await
    else {
        panic!("the credential's own region is the northern one")
    };
    assert_eq!(attempts[0].cause.name(), "wrong-region");
    fixture.gateway.reset_breakers("bittern", "test").await.unwrap();
    let utterance = fixture.speak(asking(Some("south"), "bittern/rushes")).await;
    let id = utterance.dispatch.clone();
    assert_eq!(texts(&listen(utterance).await.1), [TEXT]);
    let (_, attempts, _) = fixture.dispatch(&id).await;
    assert_eq!(attempts[0].credential.as_deref(), Some("bittern version 1 in south"));
    let seen = delivered(&bittern).await;
    assert_eq!((&seen["calls"], &seen["refused"]), (&2.into(), &1.into()), "one call at each shore");
}

#[tokio::test]
async fn each_region_has_a_breaker_of_its_own() {
    let (fixture, _bittern) = with_bittern("south").await;
    for _ in 0..5 {
        assert!(fixture.gateway.speak(&fixture.caller, asking(Some("north"), "bittern/rushes")).await.is_err());
    }
    let open: Vec<_> =
        fixture.gateway.breakers().into_iter().map(|view| (view.credential, view.state.name())).collect();
    assert_eq!(open, [(Some("bittern version 1 in north".into()), "open")]);
    let utterance = fixture.speak(asking(Some("south"), "bittern/rushes")).await;
    collect(utterance.body).await.unwrap();
}

#[tokio::test]
async fn what_is_bound_to_a_region_never_leaves_it_whatever_fails() {
    let (fixture, bittern) = with_bittern("both").await;
    let legs = vec![leg("bittern", Some("rushes")), leg("heron", Some("pellin"))];
    fixture.gateway.put_route(route("shore", Work::Synthesis, legs), "test").await.unwrap();
    let mut app = fixture.caller.app.clone();
    app.region = Some("south".into());
    let bound = Caller { app, ..fixture.caller.clone() };
    for forecast in ["down", "throttled", "reset", "garbage", "wrong-type", "bad-base64", "expired", "unpaid"] {
        weather(&bittern, &format!(r#"{{"weather":"{forecast}"}}"#)).await;
        match fixture.gateway.speak(&bound, asking(None, "shore")).await {
            Ok(utterance) => assert!(collect(utterance.body).await.is_err(), "{forecast}: half an answer called whole"),
            Err(GatewayError::AllFailed { attempts, .. }) => {
                assert!(attempts.iter().all(|attempt| attempt.engine == "bittern"), "{forecast}: {attempts:?}");
            }
            Err(other) => panic!("{forecast}: {other}"),
        }
        fixture.gateway.reset_breakers("bittern", "test").await.unwrap();
    }
    assert_eq!(delivered(&fixture.heron).await["calls"], 0, "heron does not say in which regions it can be called");
    weather(&bittern, "").await;
    // What runs on this machine is in every region.
    let tape = fixture.gateway.speak(&bound, asking(None, "tape/reel")).await.unwrap();
    collect(tape.body).await.unwrap();
    let elsewhere = fixture.gateway.speak(&bound, asking(Some("north"), "shore")).await;
    assert!(matches!(elsewhere, Err(GatewayError::Plan(PlanError::OutOfBounds { .. }))), "a request lifts no bounds");
}

#[tokio::test]
async fn what_is_bound_to_this_machine_never_leaves_it_whatever_fails() {
    let fixture = TestGateway::open().await;
    let local = |engine: &str| Leg {
        conditions: Conditions { site: Some(Site::Local), ..Conditions::default() },
        ..leg(engine, None)
    };
    let legs = vec![local("tape"), local("heron")];
    fixture.gateway.put_route(route("private", Work::Synthesis, legs), "test").await.unwrap();
    let mut app = fixture.caller.app.clone();
    app.site = Some(Site::Local);
    let bound = Caller { app, ..fixture.caller.clone() };
    let tape = fixture.folder.path().join("tape.wav");
    let whole = std::fs::read(&tape).unwrap();
    for (fault, content) in [
        ("gone", None),
        ("cut off", Some(&whole[..whole.len() / 2])),
        ("no audio", Some(&b"noise"[..])),
        ("empty", Some(&[])),
    ] {
        match content {
            Some(content) => std::fs::write(&tape, content).unwrap(),
            None => std::fs::remove_file(&tape).unwrap(),
        }
        for (caller, voice) in [(&fixture.caller, "private"), (&bound, "pier"), (&bound, "private")] {
            if let Ok(utterance) = fixture.gateway.speak(caller, say(TEXT, voice)).await {
                assert_eq!(utterance.engine, "tape", "{fault}, {voice}");
                let _ = collect(utterance.body).await;
            }
            fixture.gateway.reset_breakers("tape", "test").await.unwrap();
        }
    }
    assert_eq!(delivered(&fixture.heron).await["calls"], 0);
}

#[tokio::test]
async fn a_region_that_no_engine_has_is_named_with_the_nearest() {
    let (fixture, _bittern) = with_bittern("both").await;
    let Err(GatewayError::Plan(fault)) = fixture.gateway.speak(&fixture.caller, asking(Some("nroth"), "pier")).await
    else {
        panic!("a region that is misspelt")
    };
    assert_eq!(fault.to_string(), "no engine can be called in the region 'nroth'; similar: north");
    let leg = Leg {
        conditions: Conditions { region: Some("south".into()), ..Conditions::default() },
        ..leg("bittern", Some("rushes"))
    };
    fixture.gateway.put_route(route("southern", Work::Synthesis, vec![leg]), "test").await.unwrap();
    let utterance = fixture.speak(asking(None, "southern")).await;
    let id = utterance.dispatch.clone();
    collect(utterance.body).await.unwrap();
    let (_, attempts, _) = fixture.dispatch(&id).await;
    assert_eq!(attempts[0].credential.as_deref(), Some("bittern version 1 in south"));
}
