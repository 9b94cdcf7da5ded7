//! Credentials and keys, from the gateway's side.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::{TEXT, TOKEN, TestGateway, collect, leg, registry, route, say, token, weather};
use dispatcher_core::{Cause, Leg, Work};
use dispatcher_gateway::{EngineState, Gateway, GatewayError, NewKey, RootKeys, SynthesisRequest};
use dispatcher_store::Store;
use dispatcher_vault::{KeyKind, RootKey, Sealed, new_key, rewrap};
use secrecy::ExposeSecret as _;

async fn cause_of(fixture: &TestGateway) -> (Cause, String) {
    match fixture.gateway.speak(&fixture.caller, say(TEXT, "heron/pellin")).await.err().unwrap() {
        GatewayError::AllFailed { attempts, .. } => (attempts[0].cause, attempts[0].detail.clone()),
        other => panic!("{other}"),
    }
}

async fn speaks(fixture: &TestGateway) -> bool {
    match fixture.gateway.speak(&fixture.caller, say(TEXT, "heron/pellin")).await {
        Ok(utterance) => collect(utterance.body).await.is_ok(),
        Err(_) => false,
    }
}

async fn state(fixture: &TestGateway) -> EngineState {
    let registry = fixture.gateway.registry();
    fixture.gateway.engine_state(registry.engine("heron").unwrap()).await.unwrap()
}

#[tokio::test]
async fn only_the_parts_that_the_sheet_names_are_taken() {
    let fixture = TestGateway::open().await;
    let parts = |names: &[(&str, &str)]| -> BTreeMap<_, _> {
        names.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned().into())).collect()
    };
    for (engine, given, said) in [
        ("heron", parts(&[]), "needs the parts"),
        ("heron", parts(&[("key", "x")]), "needs the parts"),
        ("heron", parts(&[("token", "x"), ("region", "y")]), "needs the parts"),
        ("heron", parts(&[("token", "")]), "is empty"),
        ("heron", parts(&[("token", &"x".repeat(70_000))]), "longer than"),
        ("tape", parts(&[("token", "x")]), "needs no credential"),
    ] {
        let error = fixture.gateway.add_credential(engine, None, given, "test").await.unwrap_err();
        assert!(error.to_string().contains(said), "{engine}: {error}");
    }
    let missing = fixture.gateway.add_credential("herron", None, token("x"), "test").await.unwrap_err();
    assert!(matches!(missing, GatewayError::NoSuchEngine { .. }));
}

#[tokio::test]
async fn a_new_version_takes_the_place_of_the_old_at_once() {
    let fixture = TestGateway::open().await;
    assert!(speaks(&fixture).await);
    let second = fixture.gateway.add_credential("heron", None, token("wrong"), "test").await.unwrap();
    assert_eq!((second.name.as_str(), second.version, second.state.name()), ("heron", 2, "unproven"));
    assert!(speaks(&fixture).await, "the former serves on where the new one is refused");
    let third = fixture.gateway.add_credential("heron", None, token(TOKEN), "test").await.unwrap();
    assert_eq!((third.version, third.state.name()), (3, "unproven"));
    assert!(speaks(&fixture).await);
    let state = async || {
        let listed = fixture.gateway.credentials().await.unwrap();
        listed.into_iter().find(|row| row.version == 3).unwrap().state.name()
    };
    for _ in 0..100 {
        if state().await == "active" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    assert_eq!(state().await, "active", "the call has proven it");
    let listed = fixture.gateway.credentials().await.unwrap();
    let heron: Vec<_> = listed.iter().filter(|row| row.engine == "heron").map(|row| row.version).collect();
    assert_eq!(heron, [3, 2, 1], "the newest first");
    assert!(listed.iter().all(|row| row.parts == ["token"] && row.host == "127.0.0.1"));
}

#[tokio::test]
async fn a_refused_credential_shows_its_cause_until_it_is_taken_again() {
    let fixture = TestGateway::open().await;
    assert_eq!(state(&fixture).await, EngineState::Ready);
    weather(&fixture.heron, r#"{"weather":"missing-role","calls":1}"#).await;
    assert_eq!(cause_of(&fixture).await.0, Cause::MissingRole);
    let mut seen = state(&fixture).await;
    for _ in 0..100 {
        if seen != EngineState::Ready {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
        seen = state(&fixture).await;
    }
    assert!(seen.reason().unwrap().contains("missing-role"), "{seen:?}");
    assert!(seen.reason().unwrap().contains("dispatcher credential add heron"), "it says what to do");
    weather(&fixture.heron, r#"{"weather":"unpaid","calls":1}"#).await;
    assert_eq!(cause_of(&fixture).await.0, Cause::Unpaid);
    for _ in 0..100 {
        seen = state(&fixture).await;
        if seen.reason().is_some_and(|reason| reason.contains("unpaid")) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    let reason = seen.reason().unwrap_or_default();
    assert!(reason.contains("unpaid") && !reason.contains("missing-role"), "the newest cause alone: {seen:?}");
    assert!(speaks(&fixture).await, "the weather has cleared");
    for _ in 0..100 {
        if state(&fixture).await == EngineState::Ready {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("still {:?}", state(&fixture).await);
}

#[tokio::test]
async fn after_revoking_nothing_is_sent_any_more() {
    let fixture = TestGateway::open().await;
    fixture.gateway.revoke_credential("heron", "test").await.unwrap();
    let calls = crate::support::delivered(&fixture.heron).await;
    let (cause, detail) = cause_of(&fixture).await;
    assert_eq!((cause, detail.as_str()), (Cause::Absent, "no credential; run: dispatcher credential add heron"));
    assert_eq!(crate::support::delivered(&fixture.heron).await, calls);
    assert!(fixture.gateway.revoke_credential("herron", "test").await.is_err());
}

#[tokio::test]
async fn a_request_or_a_route_names_one_of_two_credentials() {
    let fixture = TestGateway::open().await;
    fixture.gateway.add_credential("heron", Some("heron-harbour"), token("harbour-token"), "test").await.unwrap();
    let with = |wanted: &str, name: Option<&str>| SynthesisRequest {
        credential: name.map(str::to_owned),
        ..say(TEXT, wanted)
    };
    let used = async |request: SynthesisRequest| {
        let utterance = fixture.speak(request).await;
        let id = utterance.dispatch.clone();
        collect(utterance.body).await.unwrap();
        let (_, attempts, _) = fixture.settled(&id).await;
        attempts[0].credential.clone().unwrap()
    };
    // The engine knows both tokens: only the record says which one was sent.
    let tokens = format!(r#"["{TOKEN}", "harbour-token"]"#);
    let put = reqwest::Client::new().put(format!("{}/tokens", fixture.heron.url())).body(tokens);
    assert!(put.send().await.unwrap().status().is_success());
    assert_eq!(used(with("heron/pellin", None)).await, "heron version 1", "the one of the engine's name");
    assert_eq!(used(with("heron/pellin", Some("heron-harbour"))).await, "heron-harbour version 1");
    let legs = vec![Leg { credential: Some("heron-harbour".into()), ..leg("heron", Some("pellin")) }];
    fixture.gateway.put_route(route("harbour", Work::Synthesis, legs), "test").await.unwrap();
    assert_eq!(used(with("harbour", None)).await, "heron-harbour version 1");
    let tokens = reqwest::Client::new().put(format!("{}/tokens", fixture.heron.url())).body(format!(r#"["{TOKEN}"]"#));
    assert!(tokens.send().await.unwrap().status().is_success());
    for (request, cause, detail) in [
        (with("harbour", None), Cause::Unauthorized, ""),
        (with("heron/pellin", Some("heron-quay")), Cause::Absent, "no credential 'heron-quay'"),
    ] {
        match fixture.gateway.speak(&fixture.caller, request).await.err().unwrap() {
            GatewayError::AllFailed { attempts, .. } => {
                assert_eq!(attempts[0].cause, cause);
                assert!(attempts[0].detail.contains(detail), "{}", attempts[0].detail);
            }
            other => panic!("{other}"),
        }
    }
    assert!(speaks(&fixture).await, "the other one is taken as before");
}

#[tokio::test]
async fn a_list_of_voices_is_asked_for_at_the_pace_of_the_engine() {
    const BITTERN: &str = include_str!("../../../demo/sheets/bittern.toml");
    let bittern = dispatcher_standins::start_bittern(0, "ferry", "gate-52", "north").await.unwrap();
    // Two voices a page: more than one call. Without a pace they take a few milliseconds.
    let sheet = format!("{BITTERN}\n[pace]\nper_minute = 150\n");
    let engine = crate::support::load(&sheet, "bittern.toml", Some(&bittern.url()));
    let fixture = TestGateway::open_with(|registry, _| registry.add(engine)).await;
    let parts = [("user", "ferry"), ("password", "gate-52"), ("shore", "north")];
    let parts = parts.map(|(name, value)| (name.to_owned(), value.to_owned().into()));
    fixture.gateway.add_credential("bittern", None, BTreeMap::from(parts), "test").await.unwrap();
    let begun = Instant::now();
    fixture.gateway.refresh_catalogue("bittern").await.unwrap();
    let took = begun.elapsed();
    let registry = fixture.gateway.registry();
    assert_eq!(registry.sheet("bittern").unwrap().synthesis.as_ref().unwrap().voices.len(), 4);
    assert!(took >= Duration::from_millis(400), "a pause of 400 ms at least: {took:?}");
}

/// A second gateway over the same records, as after a restart with other settings.
async fn restarted(fixture: &TestGateway, heron: &str, root: RootKeys) -> TestGateway {
    let folder = fixture.folder.path();
    fixture.gateway.finish().await;
    let store = Store::open(&folder.join("records.db")).unwrap();
    let engines = registry(folder, heron, &fixture.turnstone.url());
    let gateway = Gateway::start(store.clone(), root, engines, crate::support::host()).await.unwrap();
    assert!(gateway.registry().routes().contains_key("pier"), "routes come back from the records");
    TestGateway {
        folder: tempfile::tempdir().unwrap(),
        store,
        gateway,
        heron: dispatcher_standins::start_heron(0, TOKEN).await.unwrap(),
        turnstone: dispatcher_standins::start_turnstone(0, TOKEN).await.unwrap(),
        caller: fixture.caller.clone(),
    }
}

fn root(fixture: &TestGateway) -> RootKeys {
    RootKeys::of_file(&fixture.folder.path().join("root.key")).unwrap()
}

#[tokio::test]
async fn a_credential_is_not_sent_to_another_host() {
    let fixture = TestGateway::open().await;
    let elsewhere = fixture.heron.url().replace("127.0.0.1", "localhost");
    let moved = restarted(&fixture, &elsewhere, root(&fixture)).await;
    let (cause, detail) = cause_of(&moved).await;
    assert_eq!(cause, Cause::Absent);
    assert!(detail.contains("bound to 127.0.0.1, not to localhost"), "{detail}");
    assert_eq!(crate::support::delivered(&fixture.heron).await["calls"], 0);
    assert!(detail.contains("dispatcher credential confirm heron"), "it says what to do: {detail}");
    let check = moved.gateway.check_credential("heron", "test").await.unwrap();
    assert!(check.works == Some(false) && check.told.contains("bound to 127.0.0.1"), "{check:?}");
    moved.gateway.confirm_credential("heron", "test").await.unwrap();
    assert!(speaks(&moved).await, "confirming it binds it anew");
}

#[tokio::test]
async fn a_change_of_the_root_key_that_broke_off_is_finished_at_the_next_start() {
    let fixture = TestGateway::open().await;
    let (path, aside) = (fixture.folder.path().join("root.key"), fixture.folder.path().join("root.key.next"));
    let current = RootKey::load_or_create(&path, &mut rand::rng()).unwrap();
    let next = RootKey::load_or_create(&aside, &mut rand::rng()).unwrap();
    // One record of two was wrapped anew when the lights went out.
    let row = fixture.store.credentials().await.unwrap().into_iter().find(|row| row.engine == "heron").unwrap();
    let sealed = Sealed { wrapped_key: row.wrapped_key, ciphertext: row.ciphertext };
    let moved = rewrap(&current, &next, &row.name, row.version.try_into().unwrap(), &sealed, &mut rand::rng()).unwrap();
    fixture.store.rewrap_credential(row.name, row.version, moved.wrapped_key).await.unwrap();
    let url = fixture.heron.url();
    let after = restarted(&fixture, &url, root(&fixture)).await;
    assert!(speaks(&after).await);
    assert!(!aside.exists(), "the new key has taken the place of the old one");
    assert!(RootKey::load_or_create(&path, &mut rand::rng()).unwrap().is(&next));
    for row in after.store.credentials().await.unwrap() {
        let sealed = Sealed { wrapped_key: row.wrapped_key, ciphertext: row.ciphertext };
        assert!(
            dispatcher_vault::open(&next, &row.name, row.version.try_into().unwrap(), &sealed).is_ok(),
            "{}",
            row.name
        );
    }
    assert!(after.gateway.change_root_key("test").await.unwrap() >= 2, "and it can be changed again");
    assert!(speaks(&after).await);
}

#[tokio::test]
async fn another_root_key_opens_nothing_and_says_so() {
    let fixture = TestGateway::open().await;
    let url = fixture.heron.url();
    let other = restarted(&fixture, &url, RootKeys::given(RootKey::generate(&mut rand::rng()), None)).await;
    let (cause, detail) = cause_of(&other).await;
    assert_eq!(cause, Cause::Absent);
    assert!(!detail.contains(TOKEN) && !detail.is_empty(), "{detail}");
    assert_eq!(crate::support::delivered(&fixture.heron).await["calls"], 0);
}

#[tokio::test]
async fn a_key_speaks_for_its_app_until_it_is_revoked() {
    let fixture = TestGateway::open().await;
    let (key, secret) = fixture.gateway.add_app_key("quay", NewKey::labelled("test"), "ada").await.unwrap();
    let secret = secret.expose_secret();
    let caller = fixture.gateway.admit(secret, None).await.unwrap();
    assert_eq!((caller.app.name.as_str(), caller.who.as_str()), ("quay", key.id.as_str()));
    assert!(!caller.is_operator() && !caller.may_see("help"));
    let slip = format!("{}{}", &secret[..secret.len() - 1], if secret.ends_with('a') { 'b' } else { 'a' });
    let error = fixture.gateway.admit(&slip, None).await.unwrap_err();
    assert!(error.to_string().contains("mistyped"), "{error}");
    let foreign = new_key(KeyKind::App, &mut rand::rng());
    let error = fixture.gateway.admit(foreign.secret.expose_secret(), None).await.unwrap_err();
    assert!(error.to_string().contains("revoked, or belongs to another gateway"), "{error}");
    fixture.gateway.revoke_app_key("quay", &key.id[..6], "ada").await.unwrap();
    assert!(matches!(fixture.gateway.admit(secret, None).await, Err(GatewayError::BadKey(_))));
}
