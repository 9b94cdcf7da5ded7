//! Engines of every wire, reached by nothing but their sheets.

use crate::BINARY;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

const TEXTS: [(&str, [&str; 7]); 3] = [
    (
        "Tea & \"toast\" for <2 at 06:15?",
        [
            "avocet/lagoon",
            "bittern/rushes",
            "curlew/moor",
            "dotterel/cairn",
            "godwit/maren",
            "phalarope/grey",
            "sanderling/sand",
        ],
    ),
    (
        "A partida das 6h15 está atrasada vinte minutos.",
        [
            "avocet/salvane",
            "bittern/estuario",
            "curlew/serrane",
            "dotterel/penedo",
            "godwit/telmo",
            "phalarope/rosa",
            "sanderling/maré",
        ],
    ),
    (
        "六時十五分の便は二十分遅れています",
        [
            "avocet/minago",
            "bittern/ashibe",
            "curlew/nagi",
            "dotterel/mine",
            "godwit/shio",
            "phalarope/kaze",
            "sanderling/nagisa",
        ],
    ),
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

/// Engines that listen hear exactly what others say, in three scripts, with
/// the times of its words.
#[tokio::test]
async fn each_stand_in_hears_exactly_what_was_said() {
    let demo = Demo::start(BINARY).await;
    for (text, voices) in TEXTS {
        let said = demo.speak(json!({"text": text, "voice": voices[2]}), "audio/wav").await;
        let audio = said.bytes().await.unwrap().to_vec();
        for engine in ["avocet", "redshank", "turnstone", "whimbrel"] {
            let heard = demo.hear(audio.clone(), "audio/wav", &format!("?engine={engine}&language=pt-PT")).await;
            assert_eq!(heard["text"], text, "{engine}: {heard}");
            let words: Vec<&str> =
                heard["words"].as_array().unwrap().iter().map(|w| w["text"].as_str().unwrap()).collect();
            assert_eq!(words.join(" "), text, "{engine}");
            let times: Vec<f64> = heard["words"]
                .as_array()
                .unwrap()
                .iter()
                .flat_map(|w| [&w["start"], &w["end"]])
                .map(|t| t.as_f64().unwrap())
                .collect();
            assert!(times.is_sorted(), "{engine}: {times:?}");
            let length = heard["duration"].as_f64().unwrap();
            assert!(times[0] > 0.1 && *times.last().unwrap() < length, "{engine}: {times:?} of {length} s");
        }
    }
}

/// Voices for the weathers, by engine; recognisers have none.
fn voice_of(engine: &str) -> Option<&'static str> {
    TEXTS[0].1.iter().copied().find(|voice| voice.starts_with(engine))
}

/// Engine, phase, and each weather with what comes of it.
type Row = (&'static str, &'static str, &'static [(&'static str, &'static str)]);

/// What is to come of each weather in each phase of a call: `-` for sound or a
/// whole transcript. One line an engine and phase; tokens and handles come
/// first, since they are remembered once there are any.
const OUTCOMES: &[Row] = &[
    (
        "avocet",
        "token",
        &[
            ("throttled", "throttled"),
            ("down", "unavailable"),
            ("reset", "unavailable"),
            ("expired", "unauthorized"),
            ("unpaid", "unpaid"),
            ("echo", "unauthorized"),
        ],
    ),
    ("avocet", "call", CALLS),
    (
        "avocet",
        "call",
        &[("bad-base64", "broken"), ("half", "broken"), ("garbage", "broken"), ("wrong-type", "broken"), ("drip", "-")],
    ),
    ("bittern", "call", CALLS),
    (
        "bittern",
        "call",
        &[("bad-base64", "broken"), ("half", "broken"), ("garbage", "broken"), ("wrong-type", "broken"), ("drip", "-")],
    ),
    // Asking for a handle comes before the call, in the phase of the catalogue.
    ("curlew", "catalogue", CALLS),
    ("curlew", "call", CALLS),
    ("curlew", "call", &[("half", "broken"), ("garbage", "broken"), ("wrong-type", "broken"), ("drip", "-")]),
    ("dotterel", "call", CALLS),
    ("dotterel", "call", &[("half", "broken"), ("garbage", "broken"), ("wrong-type", "broken"), ("drip", "-")]),
    (
        "godwit",
        "token",
        &[
            ("throttled", "throttled"),
            ("down", "unavailable"),
            ("reset", "unavailable"),
            ("expired", "unauthorized"),
            ("echo", "unauthorized"),
        ],
    ),
    ("godwit", "call", CALLS),
    ("godwit", "call", &[("half", "broken"), ("wrong-type", "broken"), ("drip", "-")]),
    // Its errors are text: what no rule knows is no audio.
    (
        "phalarope",
        "call",
        &[
            ("throttled", "throttled"),
            ("down", "unavailable"),
            ("reset", "unavailable"),
            ("expired", "unauthorized"),
            ("not-active-yet", "not-active-yet"),
            ("wrong-region", "wrong-region"),
            ("missing-role", "missing-role"),
            ("unpaid", "unpaid"),
            ("echo", "broken"),
        ],
    ),
    ("phalarope", "call", &[("half", "broken"), ("wrong-type", "broken"), ("drip", "-")]),
    ("redshank", "call", CALLS),
    ("redshank", "call", &[("wrong-type", "broken"), ("garbage", "broken")]),
    // Its parts are put in the phase of the link.
    (
        "redshank",
        "link",
        &[("down", "unavailable"), ("reset", "unavailable"), ("throttled", "throttled"), ("expired", "unauthorized")],
    ),
    (
        "redshank",
        "poll",
        &[
            ("down", "unavailable"),
            ("reset", "unavailable"),
            ("half", "broken"),
            ("wrong-type", "broken"),
            ("expired", "unauthorized"),
        ],
    ),
    ("sanderling", "call", CALLS),
    (
        "sanderling",
        "poll",
        &[
            ("down", "unavailable"),
            ("reset", "unavailable"),
            ("throttled", "throttled"),
            ("half", "unavailable"),
            ("wrong-type", "broken"),
            ("expired", "unauthorized"),
        ],
    ),
    (
        "sanderling",
        "link",
        &[
            ("down", "unavailable"),
            ("reset", "unavailable"),
            ("throttled", "throttled"),
            ("half", "broken"),
            ("garbage", "broken"),
            ("wrong-type", "broken"),
            ("drip", "-"),
        ],
    ),
    ("turnstone", "call", CALLS),
    ("turnstone", "call", &[("wrong-type", "broken"), ("garbage", "broken")]),
    ("whimbrel", "call", CALLS),
    ("whimbrel", "call", &[("half", "broken"), ("wrong-type", "broken"), ("drip", "-")]),
];

/// What every engine tells alike before it begins, each in its own form.
const CALLS: &[(&str, &str)] = &[
    ("throttled", "throttled"),
    ("down", "unavailable"),
    ("reset", "unavailable"),
    ("expired", "unauthorized"),
    ("not-active-yet", "not-active-yet"),
    ("wrong-region", "wrong-region"),
    ("missing-role", "missing-role"),
    ("unpaid", "unpaid"),
    ("echo", "malformed"),
];

const LINE: &str = "Mind the step between the boat and the quay";

/// Where the dispatch ended: whole, or with a cause. Half an answer that was
/// called whole is a failure of the test.
async fn outcome(demo: &Demo, engine: &str, audio: &[u8], case: &str) -> String {
    let (id, told) = match voice_of(engine) {
        Some(voice) => {
            let response = demo.speak(json!({"text": LINE, "voice": voice}), "audio/flac").await;
            let (status, id) = (response.status(), header(&response, "dispatch-id"));
            match response.bytes().await {
                Ok(body) if status.is_success() => {
                    assert_eq!(words_of(&body, Format::new(Codec::Flac, 24_000)), LINE, "{case}");
                    return "-".into();
                }
                Ok(body) => (None, String::from_utf8_lossy(&body).into_owned()),
                Err(_) => (Some(id), String::new()),
            }
        }
        None => {
            let (status, heard) = demo.try_to_hear(audio.to_vec(), "audio/wav", &format!("?engine={engine}")).await;
            if status.is_success() {
                assert_eq!(heard["text"], LINE, "{case}");
                return "-".into();
            }
            (None, heard.to_string())
        }
    };
    let id = id.unwrap_or_else(|| {
        let problem: Value = serde_json::from_str(&told).unwrap_or_else(|_| panic!("{case}: {told}"));
        problem["dispatch"].as_str().unwrap_or_default().to_owned()
    });
    let dispatch = demo.settled(&id).await;
    assert_eq!(dispatch["state"], "failed", "{case}: {dispatch}");
    // In this weather an engine repeats what it was shown.
    if case.ends_with("call echo") && engine != "dotterel" {
        let detail = dispatch["attempts"][0]["detail"].as_str().unwrap_or_default();
        assert!(detail.contains("you came with") && detail.contains("[redacted]"), "{case}: {detail}");
    }
    dispatch["attempts"][0]["cause"].as_str().unwrap_or_default().to_owned()
}

#[tokio::test]
async fn each_weather_has_its_one_outcome_in_each_phase() {
    let demo = Demo::start(BINARY).await;
    let said = demo.speak(json!({"text": LINE, "voice": "heron/pellin"}), "audio/wav").await;
    let audio = said.bytes().await.unwrap().to_vec();
    let mut wrong = Vec::new();
    for (engine, phase, outcomes) in OUTCOMES {
        for (weather, wanted) in *outcomes {
            let case = format!("{engine} {phase} {weather}");
            demo.weather_of(engine, json!({"weather": weather, "phase": phase, "pause": 2})).await;
            let begun = std::time::Instant::now();
            let seen = outcome(&demo, engine, &audio, &case).await;
            if seen != *wanted {
                wrong.push(format!("{case}: {seen} and not {wanted}"));
            }
            assert!(begun.elapsed().as_secs() < 20, "{case} hung for {:?}", begun.elapsed());
            demo.weather_of(engine, Value::Null).await;
            demo.reset(engine);
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[tokio::test]
async fn a_token_that_has_sunk_is_replaced_unseen_and_half_a_sound_is_never_whole() {
    let demo = Demo::start(BINARY).await;
    let say = async || demo.speak(json!({"text": "The ramp is closing", "voice": "godwit/maren"}), "audio/wav").await;
    assert_eq!(say().await.status(), 200);
    demo.weather_of("godwit", json!({"weather": "expired", "calls": 1})).await;
    let response = say().await;
    assert_eq!(response.status(), 200, "one refusal of a token is nobody's business");
    assert_eq!(words_of(&response.bytes().await.unwrap(), Format::default()), "The ramp is closing");
    demo.weather_of("godwit", json!({"weather": "expired"})).await;
    let problem: Value = say().await.json().await.unwrap();
    let dispatch = demo.settled(problem["dispatch"].as_str().unwrap()).await;
    assert_eq!(dispatch["attempts"][0]["cause"], "unauthorized", "{dispatch}");
    for (engine, voice) in [("godwit", "godwit/maren"), ("bittern", "bittern/tussock"), ("phalarope", "phalarope/grey")]
    {
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
    assert!(shown.contains("the shore is where it is called"), "{shown}");
    let wrong = r#"{"user": "saltmarsh", "password": "not-the-password", "shore": "north"}"#;
    std::fs::write(demo.folder.path().join("parts.json"), wrong).unwrap();
    let added = demo.client(&["credential", "add", "bittern", "--file", "parts.json"]);
    let said = String::from_utf8_lossy(&added.stderr).into_owned();
    assert!(!added.status.success() && said.contains("unauthorized"), "it is tried before it comes into force: {said}");
    assert!(!said.contains("not-the-password"), "{said}");
    let served = demo.speak(json!({"text": "The ramp is closing", "voice": "bittern/tussock"}), "audio/mpeg").await;
    assert_eq!(served.status(), 200, "the version that was in force stays");
    std::fs::write(demo.folder.path().join("parts.json"), r#"{"user": "saltmarsh"}"#).unwrap();
    let lacking = demo.client(&["credential", "add", "bittern", "--file", "parts.json"]);
    let said = String::from_utf8_lossy(&lacking.stderr).into_owned();
    assert!(!lacking.status.success() && said.contains("password"), "{said}");
}
