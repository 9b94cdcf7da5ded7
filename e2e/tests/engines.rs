//! Engines of every wire, reached by nothing but their sheets.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

const BINARY: &str = env!("CARGO_BIN_EXE_dispatcher-under-test");

const TEXTS: [(&str, [&str; 3]); 3] = [
    ("Tea & \"toast\" for <2 at 06:15?", ["bittern/rushes", "godwit/maren", "phalarope/grey"]),
    ("A partida das 6h15 está atrasada vinte minutos.", ["bittern/estuario", "godwit/telmo", "phalarope/rosa"]),
    ("六時十五分の便は二十分遅れています", ["bittern/ashibe", "godwit/sora", "phalarope/kaze"]),
];

#[tokio::test]
async fn each_stand_in_says_exactly_what_it_is_given() {
    let demo = Demo::start(BINARY).await;
    for (text, voices) in TEXTS {
        for voice in voices {
            for (accept, format) in [
                ("audio/mpeg", Format::new(Codec::Mp3, 24_000)),
                ("audio/wav", Format::new(Codec::Wav, 24_000)),
                ("audio/ogg;codecs=opus", Format::new(Codec::OggOpus, 24_000)),
            ] {
                let response = demo.speak(json!({"text": text, "voice": voice}), accept).await;
                assert_eq!(response.status(), 200, "{voice} {accept}: {}", response.text().await.unwrap());
                assert_eq!(words_of(&response.bytes().await.unwrap(), format), text, "{voice} {accept}");
            }
        }
    }
}

/// What is to come of each weather in each phase of a call: `None` for sound.
const OUTCOMES: [(&str, &str, Option<&str>); 30] = [
    ("bittern", "throttled", Some("throttled")),
    ("bittern", "down", Some("unavailable")),
    ("bittern", "reset", Some("unavailable")),
    ("bittern", "expired", Some("unauthorized")),
    ("bittern", "not-active-yet", Some("not-active-yet")),
    ("bittern", "wrong-region", Some("wrong-region")),
    ("bittern", "missing-role", Some("missing-role")),
    ("bittern", "unpaid", Some("unpaid")),
    ("bittern", "wrong-type", Some("broken")),
    ("bittern", "garbage", Some("broken")),
    ("bittern", "bad-base64", Some("broken")),
    ("godwit", "throttled", Some("throttled")),
    ("godwit", "down", Some("unavailable")),
    ("godwit", "reset", Some("unavailable")),
    ("godwit", "not-active-yet", Some("not-active-yet")),
    ("godwit", "wrong-region", Some("wrong-region")),
    ("godwit", "missing-role", Some("missing-role")),
    ("godwit", "unpaid", Some("unpaid")),
    ("godwit", "wrong-type", Some("broken")),
    ("godwit", "drip", None),
    ("phalarope", "throttled", Some("throttled")),
    ("phalarope", "down", Some("unavailable")),
    ("phalarope", "reset", Some("unavailable")),
    ("phalarope", "expired", Some("unauthorized")),
    ("phalarope", "not-active-yet", Some("not-active-yet")),
    ("phalarope", "wrong-region", Some("wrong-region")),
    ("phalarope", "missing-role", Some("missing-role")),
    ("phalarope", "unpaid", Some("unpaid")),
    ("phalarope", "wrong-type", Some("broken")),
    ("phalarope", "drip", None),
];

#[tokio::test]
async fn each_weather_has_its_one_outcome() {
    let demo = Demo::start(BINARY).await;
    for (engine, weather, cause) in OUTCOMES {
        let case = format!("{engine} {weather}");
        demo.weather_of(engine, json!({"weather": weather, "pause": 5})).await;
        let voice = match engine {
            "bittern" => "bittern/rushes",
            "godwit" => "godwit/maren",
            _ => "phalarope/grey",
        };
        let response = demo.speak(json!({"text": "Mind the gap", "voice": voice}), "audio/mpeg").await;
        let id = header(&response, "dispatch-id");
        match cause {
            None => {
                assert_eq!(response.status(), 200, "{case}");
                let audio = response.bytes().await.unwrap();
                assert_eq!(words_of(&audio, Format::new(Codec::Mp3, 24_000)), "Mind the gap", "{case}");
            }
            Some(cause) => {
                let status = response.status();
                let body = response.bytes().await;
                let id = match &body {
                    // Refused before the first byte: the problem tells of it.
                    Ok(body) if !status.is_success() => {
                        let problem: Value = serde_json::from_slice(body).unwrap();
                        problem["dispatch"].as_str().unwrap_or_default().to_owned()
                    }
                    Ok(body) => panic!("{case}: {} bytes were called whole", body.len()),
                    Err(_) => id,
                };
                let dispatch = demo.settled(&id).await;
                assert_eq!(dispatch["attempts"][0]["cause"], cause, "{case}: {dispatch}");
                assert_eq!(dispatch["state"], "failed", "{case}");
            }
        }
        demo.weather_of(engine, Value::Null).await;
    }
}

#[tokio::test]
async fn a_token_that_has_sunk_is_replaced_unseen_and_half_a_sound_is_never_whole() {
    let demo = Demo::start(BINARY).await;
    let say = async || demo.speak(json!({"text": "Mind the gap", "voice": "godwit/maren"}), "audio/wav").await;
    assert_eq!(say().await.status(), 200);
    demo.weather_of("godwit", json!({"weather": "expired", "calls": 1})).await;
    let response = say().await;
    assert_eq!(response.status(), 200, "one refusal of a token is nobody's business");
    assert_eq!(words_of(&response.bytes().await.unwrap(), Format::default()), "Mind the gap");
    demo.weather_of("godwit", json!({"weather": "expired"})).await;
    let problem: Value = say().await.json().await.unwrap();
    let dispatch = demo.settled(problem["dispatch"].as_str().unwrap()).await;
    assert_eq!(dispatch["attempts"][0]["cause"], "unauthorized", "{dispatch}");
    for (engine, voice) in [("godwit", "godwit/maren"), ("bittern", "bittern/reed"), ("phalarope", "phalarope/grey")] {
        demo.weather_of(engine, json!({"weather": "half"})).await;
        let text = "Half of this is never heard as if it were all of it. ".repeat(6);
        let response = demo.speak(json!({"text": text, "voice": voice}), "audio/flac").await;
        let whole = response.status().is_success() && response.bytes().await.is_ok();
        assert!(!whole, "{engine}: half a sound was called whole");
    }
}

#[tokio::test]
async fn a_credential_of_several_parts_is_added_and_checked() {
    let demo = Demo::start(BINARY).await;
    let shown = String::from_utf8_lossy(&demo.client(&["engine", "show", "bittern"]).stdout).into_owned();
    assert!(shown.contains("the shore that it belongs to"), "{shown}");
    let wrong = r#"{"user": "saltmarsh", "password": "not-the-password", "shore": "north"}"#;
    std::fs::write(demo.folder.path().join("parts.json"), wrong).unwrap();
    let added = demo.client(&["credential", "add", "bittern", "--file", "parts.json"]);
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
    let refused = demo.speak(json!({"text": "Mind the gap", "voice": "bittern/reed"}), "audio/mpeg").await;
    let text = refused.text().await.unwrap();
    assert!(text.contains("unauthorized") && !text.contains("not-the-password"), "{text}");
    std::fs::write(demo.folder.path().join("parts.json"), r#"{"user": "saltmarsh"}"#).unwrap();
    let lacking = demo.client(&["credential", "add", "bittern", "--file", "parts.json"]);
    let said = String::from_utf8_lossy(&lacking.stderr).into_owned();
    assert!(!lacking.status.success() && said.contains("password"), "{said}");
}
