//! What is asked for beyond text and audio: taken, made good or refused.

use dispatcher_audio::Format;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};

use crate::BINARY;

#[tokio::test]
async fn controls_are_taken_made_good_or_refused() {
    let demo = Demo::start(BINARY).await;
    let heard = async |body: Value| {
        let response = demo.speak(body.clone(), "audio/wav").await;
        assert_eq!(response.status(), 200, "{body}");
        let fidelity = dispatcher_e2e::header(&response, "dispatch-fidelity");
        let (samples, layout) =
            dispatcher_audio::decode_all(&response.bytes().await.unwrap(), Format::default()).unwrap();
        let heard = dispatcher_standins::tone::hear(&samples, layout.rate).remove(0);
        assert_eq!(heard.text, "Mind the step by the quay");
        (fidelity, samples.len() as f64 / f64::from(layout.rate), heard.pitch)
    };
    let say =
        |voice: &str, prosody: Value| json!({"text": "Mind the step by the quay", "voice": voice, "prosody": prosody});
    let near = |a: f64, b: f64, share: f64| (a / b - 1.0).abs() < share;
    // Heron takes a rate itself; phalarope does not, and it is made here.
    for (voice, fidelity) in [("heron/pellin", "native"), ("phalarope/grey", "emulated")] {
        let (_, plain, pitch) = heard(say(voice, json!({}))).await;
        let (told, slow, same) = heard(say(voice, json!({"rate": "80%"}))).await;
        assert_eq!(told, fidelity, "{voice}");
        assert!(near(slow, plain / 0.8, 0.03) && near(same, pitch, 0.01), "{voice}: {plain} {slow}, {pitch} {same}");
        let (told, long, high) = heard(say(voice, json!({"pitch": "+2st"}))).await;
        assert_eq!(told, fidelity, "{voice}");
        assert!(near(high, pitch * 2f64.powf(2.0 / 12.0), 0.01) && near(long, plain, 0.03), "{voice}: {pitch} {high}");
    }
    for (body, pointer) in [
        (json!({"voice": "phalarope/grey", "prosody": {"rate": "80%"}}), "/prosody/rate"),
        (json!({"voice": "heron/pellin", "direction": "like a pilot"}), "/direction"),
        (json!({"voice": "curlew/moor", "style": {"name": "angry"}}), "/style"),
        (json!({"voice": "heron/pellin", "seed": 7}), "/seed"),
    ] {
        let mut body = body;
        body["text"] = "The ramp is closing".into();
        body["unsupported"] = "refuse".into();
        let response = demo.speak(body.clone(), "audio/wav").await;
        assert_eq!(response.status(), 422, "{body}");
        let problem: Value = response.json().await.unwrap();
        assert_eq!(problem["errors"][0]["pointer"], pointer, "{problem}");
    }
    let directed = json!({"text": "The ramp is closing", "voice": "heron/pellin", "model": "directed", "direction": "like a pilot", "unsupported": "refuse"});
    assert_eq!(demo.speak(directed, "audio/wav").await.status(), 200);
    let wrong =
        demo.speak(json!({"text": "x", "voice": "heron/pellin", "prosody": {"rate": "quick"}}), "audio/wav").await;
    assert_eq!(wrong.status(), 422);
    assert!(wrong.text().await.unwrap().contains("write 90%"));
}

#[tokio::test]
async fn marks_speakers_and_alternatives_come_through() {
    let demo = Demo::start(BINARY).await;
    let said = demo.speak(json!({"text": "The ramp is closing", "voice": "dotterel/cairn"}), "application/json").await;
    let said: Value = said.json().await.unwrap();
    let words: Vec<&str> =
        said["words"].as_array().unwrap().iter().map(|word| word["text"].as_str().unwrap()).collect();
    assert_eq!(words, ["The", "ramp", "is", "closing"], "{said}");
    let starts: Vec<f64> =
        said["words"].as_array().unwrap().iter().map(|word| word["start"].as_f64().unwrap()).collect();
    assert!(
        starts.is_sorted() && starts[0] > 0.1 && starts[2] < said["audio"]["duration"].as_f64().unwrap(),
        "{starts:?}"
    );
    // Two voices in one recording.
    let mut samples = Vec::new();
    for (voice, text) in [("heron/pellin", "Is it late"), ("heron/tarrick", "It is on time"), ("heron/pellin", "Good")]
    {
        let response = demo.speak(json!({"text": text, "voice": voice}), "audio/wav").await;
        samples.extend(dispatcher_audio::decode_all(&response.bytes().await.unwrap(), Format::default()).unwrap().0);
        samples.extend(vec![0.0; 12_000]);
    }
    let audio = dispatcher_audio::encode_all(&samples, Format::default()).unwrap();
    let heard = demo.hear(audio.clone(), "audio/wav", "?engine=redshank&speakers=true&alternatives=2").await;
    assert_eq!(heard["text"], "Is it late It is on time Good");
    let speakers: Vec<&str> =
        heard["words"].as_array().unwrap().iter().map(|word| word["speaker"].as_str().unwrap()).collect();
    assert_eq!(speakers, ["s1", "s1", "s1", "s2", "s2", "s2", "s2", "s1"], "{heard}");
    assert_eq!(heard["alternatives"][0], json!({"text": "is it late it is on time good", "confidence": 0.615}));
    let plain = demo.hear(audio.clone(), "audio/wav", "?engine=turnstone&speakers=true").await;
    assert!(plain["warnings"].to_string().contains("speakers was omitted"), "{plain}");
    let (status, refused) =
        demo.try_to_hear(audio, "audio/wav", "?engine=turnstone&hints=Gullsay&unsupported=refuse").await;
    assert_eq!(status.as_u16(), 422, "{refused}");
}
