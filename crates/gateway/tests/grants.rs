//! Keys with grants: what is not granted is not called, whatever a route says
//! and whatever fails.

use std::sync::Arc;

use dispatcher_core::{KeyGrants, Work};
use dispatcher_gateway::{Caller, GatewayError, JobView, NewKey};
use secrecy::ExposeSecret as _;

use crate::jobs::{tracks, until};
use crate::support::{TEXT, TestGateway, collect, delivered, leg, route, say, script, weather};

/// The caller of a new key with these grants.
async fn key_with(fixture: &TestGateway, grants: KeyGrants) -> Caller {
    let new = NewKey { grants, ..NewKey::labelled("test") };
    let (_, secret) = fixture.gateway.add_app_key("quay", new, "ada").await.unwrap();
    fixture.gateway.admit(secret.expose_secret(), None).await.unwrap()
}

fn list(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

async fn voice_of(fixture: &TestGateway, caller: &Caller, wanted: &str) -> Result<String, GatewayError> {
    let utterance = fixture.gateway.speak(caller, say(TEXT, wanted)).await?;
    let voice = utterance.voice.clone();
    collect(utterance.body).await.unwrap();
    Ok(voice)
}

#[tokio::test]
async fn a_key_for_one_engine_calls_no_other_even_when_it_fails() {
    let fixture = TestGateway::open().await;
    let legs = vec![leg("tape", Some("reel")), leg("heron", Some("pellin"))];
    fixture.gateway.put_route(route("pier-two", Work::Synthesis, legs), "ada").await.unwrap();
    let caller = key_with(&fixture, KeyGrants { engines: list(&["heron"]), ..KeyGrants::default() }).await;
    assert_eq!(voice_of(&fixture, &caller, "pier-two").await.unwrap(), "heron/pellin", "the first leg is not granted");
    weather(&fixture.heron, r#"{"weather":"down"}"#).await;
    let refused = voice_of(&fixture, &caller, "pier-two").await.unwrap_err();
    assert!(
        matches!(&refused, GatewayError::AllFailed { attempts, .. } if attempts.iter().all(|it| it.engine == "heron"))
    );
    let refused = voice_of(&fixture, &caller, "tape/reel").await.unwrap_err();
    assert!(refused.to_string().contains("the grants of the key exclude it"), "{refused}");
}

#[tokio::test]
async fn a_key_for_one_voice_speaks_with_no_other_not_in_a_script_either() {
    let fixture = TestGateway::open().await;
    let caller = key_with(&fixture, KeyGrants { voices: list(&["heron/pellin"]), ..KeyGrants::default() }).await;
    assert_eq!(voice_of(&fixture, &caller, "heron/pellin").await.unwrap(), "heron/pellin");
    assert!(voice_of(&fixture, &caller, "heron/sable").await.is_err());
    let before = delivered(&fixture.heron).await["calls"].clone();
    let body = "Hold the line. <voice name=\"tape/reel\" required=\"name\">Stand clear.</voice>";
    let spoken = fixture.gateway.speak(&caller, script(body, "heron/pellin")).await;
    let Ok(utterance) = spoken else {
        assert_eq!(delivered(&fixture.heron).await["calls"], before);
        return;
    };
    assert_eq!(utterance.voice, "heron/pellin");
    let id = utterance.dispatch.clone();
    collect(utterance.body).await.unwrap();
    let engines: Vec<String> = fixture.settled(&id).await.1.into_iter().map(|it| it.engine).collect();
    assert!(engines.iter().all(|engine| engine == "heron"), "{engines:?}");
}

#[tokio::test]
async fn a_key_for_a_route_names_it() {
    let fixture = TestGateway::open().await;
    let grants = KeyGrants { routes: list(&["pier"]), engines: list(&["tape"]), ..KeyGrants::default() };
    let caller = key_with(&fixture, grants.clone()).await;
    assert_eq!(caller.grants, Some(Arc::new(grants)));
    let refused = voice_of(&fixture, &caller, "heron/pellin").await.unwrap_err();
    assert_eq!(refused.to_string(), "the key is granted the routes pier; name one of them");
    assert!(voice_of(&fixture, &caller, "pier").await.unwrap().starts_with("tape/"));
}

#[tokio::test]
async fn a_job_calls_no_engine_that_the_key_of_its_caller_is_not_granted() {
    let fixture = TestGateway::open().await;
    let legs = vec![leg("heron", Some("pellin")), leg("tape", Some("reel"))];
    fixture.gateway.put_route(route("pier-two", Work::Synthesis, legs), "ada").await.unwrap();
    let caller = key_with(&fixture, KeyGrants { engines: list(&["tape"]), ..KeyGrants::default() }).await;
    let job = tracks(&[("Ramp", "The ramp is closing. Stand clear of it.".to_owned())], "pier-two");
    let id = fixture.gateway.submit(&caller, job).await.unwrap().row.id;
    let view = until(&fixture.gateway, &id, JobView::is_over).await;
    assert_eq!((view.row.state.name(), view.row.reason), ("done", None));
    assert_eq!(delivered(&fixture.heron).await["calls"], 0, "the first leg is not granted");
}

#[tokio::test]
async fn a_grant_of_what_is_not_there_is_refused_with_the_key() {
    let fixture = TestGateway::open().await;
    for (grants, word) in [
        (KeyGrants { routes: list(&["pear"]), ..KeyGrants::default() }, "pear"),
        (KeyGrants { engines: list(&["hern"]), ..KeyGrants::default() }, "hern"),
        (KeyGrants { voices: list(&["heron/nobody"]), ..KeyGrants::default() }, "heron/nobody"),
    ] {
        let new = NewKey { grants, ..NewKey::labelled("test") };
        let refused = fixture.gateway.add_app_key("quay", new, "ada").await.unwrap_err();
        assert!(refused.to_string().contains(word), "{refused}");
    }
    assert!(fixture.gateway.app_keys("quay").await.unwrap().is_empty());
}
