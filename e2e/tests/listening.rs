//! Recognition through the network interface.

use crate::BINARY;
use base64::Engine as _;
use dispatcher_core::word_errors;
use dispatcher_e2e::{Demo, header};
use serde_json::{Value, json};

async fn recording(demo: &Demo, text: &str, voice: &str, accept: &str) -> Vec<u8> {
    let response = demo.speak(json!({"text": text, "voice": voice}), accept).await;
    assert_eq!(response.status(), 200);
    response.bytes().await.unwrap().to_vec()
}

#[tokio::test]
async fn what_heron_says_comes_back_exactly_in_three_scripts() {
    let demo = Demo::start(BINARY).await;
    for (voice, language, text) in [
        ("heron/pellin", "en-GB", "The 06:15 to Gullsay is delayed by twenty minutes."),
        ("heron/sabeen", "ar", "تأخرت عبارة السادسة والربع إلى غلساي عشرين دقيقة."),
        ("heron/haru", "ja", "六時十五分発ガルセイ行きは、二十分遅れています。"),
        ("heron/beatriz", "pt-PT", "A partida das 6h15 está atrasada: não há maré!"),
    ] {
        for accept in ["audio/mpeg", "audio/ogg;codecs=opus", "audio/wav"] {
            let audio = recording(&demo, text, voice, accept).await;
            let answer = demo.hear(audio, accept, &format!("?engine=turnstone&language={language}")).await;
            assert_eq!(answer["text"], text, "{accept}");
            assert_eq!(answer["language"], language);
        }
    }
}

#[tokio::test]
async fn the_answer_has_words_with_times_and_its_cost_by_the_second() {
    let demo = Demo::start(BINARY).await;
    let text = "The ramp is closing.";
    let audio = recording(&demo, text, "heron/pellin", "audio/wav").await;
    let answer = demo.hear(audio.clone(), "audio/wav", "").await;
    assert_eq!(
        (answer["text"].as_str(), answer["engine"].as_str()),
        (Some(text), Some("turnstone")),
        "the app's default route"
    );
    let words = answer["words"].as_array().unwrap();
    assert_eq!(
        words.iter().map(|word| word["text"].as_str().unwrap()).collect::<Vec<_>>(),
        ["The", "ramp", "is", "closing."]
    );
    let times: Vec<f64> =
        words.iter().flat_map(|word| [word["start"].as_f64().unwrap(), word["end"].as_f64().unwrap()]).collect();
    assert!(times.windows(2).all(|pair| pair[0] <= pair[1]) && times[0] > 0.1, "{times:?}");
    let length = answer["duration"].as_f64().unwrap();
    assert!(*times.last().unwrap() < length);
    // 0.0004 for each started second.
    let cost = format!("0.{:06}", length.ceil() as u64 * 400);
    assert_eq!(answer["cost"]["amount"], cost);
    let estimate = demo.post("/api/v1/estimates?engine=turnstone").header("Content-Type", "audio/wav").body(audio);
    let estimate: Value = estimate.send().await.unwrap().json().await.unwrap();
    assert_eq!(
        (estimate["cost"]["amount"].as_str().unwrap(), estimate["duration"].as_f64()),
        (cost.as_str(), Some(length))
    );
}

#[tokio::test]
async fn raw_bodies_forms_and_json_say_the_same() {
    let demo = Demo::start(BINARY).await;
    let audio = recording(&demo, "All aboard", "heron/pellin", "audio/mpeg").await;
    let raw = demo.hear(audio.clone(), "audio/mpeg", "?route=captions").await;
    let encoded = base64::engine::general_purpose::STANDARD.encode(&audio);
    let as_json = demo.post("/api/v1/transcripts").json(&json!({"audio": {"base64": encoded}, "route": "captions"}));
    let as_json: Value = as_json.send().await.unwrap().json().await.unwrap();
    let boundary = "quay";
    let mut form = format!("--{boundary}\r\nContent-Disposition: form-data; name=\"route\"\r\n\r\ncaptions\r\n--{boundary}\r\nContent-Disposition: form-data; name=\"audio\"; filename=\"a.mp3\"\r\nContent-Type: audio/mpeg\r\n\r\n").into_bytes();
    form.extend_from_slice(&audio);
    form.extend_from_slice(format!("\r\n--{boundary}--\r\n").as_bytes());
    let form = demo.hear(form, &format!("multipart/form-data; boundary={boundary}"), "").await;
    for answer in [&raw, &as_json, &form] {
        assert_eq!((answer["text"].as_str(), &answer["words"]), (Some("All aboard"), &raw["words"]), "{answer}");
    }
}

#[tokio::test]
async fn subtitles_and_text_by_what_is_accepted() {
    let demo = Demo::start(BINARY).await;
    let audio = recording(&demo, "Stand clear. Doors are closing.", "heron/pellin", "audio/mpeg").await;
    let get = async |accept: &str| {
        let request = demo
            .post("/api/v1/transcripts")
            .header("Content-Type", "audio/mpeg")
            .header("Accept", accept)
            .body(audio.clone());
        let response = request.send().await.unwrap();
        (header(&response, "content-type"), response.text().await.unwrap())
    };
    assert_eq!(
        get("text/plain").await,
        ("text/plain; charset=utf-8".into(), "Stand clear. Doors are closing.\n".into())
    );
    let (kind, vtt) = get("text/vtt").await;
    assert_eq!(kind, "text/vtt; charset=utf-8");
    assert!(
        vtt.starts_with("WEBVTT\n\n00:00:00.") && vtt.contains("Stand clear.\n") && vtt.matches("-->").count() == 2,
        "{vtt}"
    );
    let (_, srt) = get("application/x-subrip").await;
    assert!(srt.starts_with("1\n00:00:00,") && srt.contains("\n2\n"), "{srt}");
}

#[tokio::test]
async fn the_route_falls_back_when_the_recogniser_is_down() {
    let demo = Demo::start(BINARY).await;
    let audio = recording(&demo, "the ferry leaves from the north pier in ten minutes", "flite/slt", "audio/wav").await;
    // Turnstone understands tones alone, and refuses; pocketsphinx hears it.
    let answer = demo.hear(audio, "audio/wav", "?route=captions").await;
    assert_eq!(answer["engine"], "pocketsphinx");
    assert!(
        word_errors("the ferry leaves from the north pier in ten minutes", answer["text"].as_str().unwrap()).rate()
            <= 0.5,
        "{answer}"
    );
    assert!(answer["warnings"][0].as_str().unwrap().contains("turnstone"), "{answer}");
    assert!(answer["words"][0]["confidence"].as_f64().unwrap() > 0.0);
}

#[tokio::test]
async fn audio_that_is_no_audio_is_refused_with_a_reason() {
    let demo = Demo::start(BINARY).await;
    for (body, kind, status, says) in [
        (b"this is no sound at all".to_vec(), "audio/wav", 415, "begins with"),
        (b"<html>no</html>".to_vec(), "audio/mpeg", 415, "markup"),
        (Vec::new(), "audio/wav", 415, "nothing"),
        (b"x".to_vec(), "image/png", 415, "no audio"),
        (b"{}".to_vec(), "application/json", 422, "no audio"),
        (b"{\"audio\":{\"base64\":\"%%\"}}".to_vec(), "application/json", 400, "base64"),
        (b"RIFF\0\0\0\0WAVEfmt ".to_vec(), "audio/wav", 415, "header"),
    ] {
        let response = demo.post("/api/v1/transcripts").header("Content-Type", kind).body(body).send().await.unwrap();
        let found = response.status().as_u16();
        let problem: Value = response.json().await.unwrap();
        assert_eq!(found, status, "{kind}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(says), "{says}: {problem}");
    }
    let unknown =
        demo.post("/api/v1/transcripts?lang=en").header("Content-Type", "audio/wav").body("x").send().await.unwrap();
    assert_eq!(unknown.status(), 400);
}

#[tokio::test]
async fn a_large_body_is_spooled_and_too_large_a_one_refused() {
    let demo = Demo::start(BINARY).await;
    // 40 MB of silence: half a minute of hours would not fit in memory limits.
    let silence = vec![0u8; 40_000_000];
    let response =
        demo.post("/api/v1/estimates?engine=pocketsphinx").header("Content-Type", "audio/pcm;rate=48000").body(silence);
    let answer: Value = response.send().await.unwrap().json().await.unwrap();
    assert_eq!(answer["duration"].as_f64(), Some(416.667), "{answer}");
    // The same as base64 inside JSON: 53 MB of text.
    let base64 = base64::engine::general_purpose::STANDARD.encode(vec![0u8; 40_000_000]);
    let json = json!({"engine": "pocketsphinx", "audio": {"type": "audio/pcm;rate=48000", "base64": base64}});
    let answer: Value = demo.post("/api/v1/estimates").json(&json).send().await.unwrap().json().await.unwrap();
    assert_eq!(answer["duration"].as_f64(), Some(416.667), "{answer}");
    let huge = vec![0u8; 101_000_000];
    let response =
        demo.post("/api/v1/transcripts").header("Content-Type", "audio/pcm;rate=48000").body(huge).send().await;
    // The refusal may overtake the upload, and the connection close on it.
    if let Ok(response) = response {
        assert_eq!(response.status(), 413);
    }
}

#[tokio::test]
async fn pocketsphinx_hears_through_the_gateway_as_well_as_alone() {
    let demo = Demo::start(BINARY).await;
    let sentences = [
        "the ferry leaves from the north pier in ten minutes",
        "please have your tickets ready",
        "there is no service on sunday morning",
    ];
    let (mut through, mut alone, mut words) = (0, 0, 0);
    for sentence in sentences {
        let audio = recording(&demo, sentence, "flite/slt", "audio/wav").await;
        let answer = demo.hear(audio, "audio/wav", "?engine=pocketsphinx").await;
        let errors = word_errors(sentence, answer["text"].as_str().unwrap());
        (through, words) = (through + errors.errors, words + errors.words);
        alone += word_errors(sentence, &bare_tools(sentence)).errors;
    }
    let points = (through as f64 - alone as f64) / words as f64;
    assert!(points <= 0.02, "{through} errors through the gateway, {alone} without, in {words} words");
}

/// At one frame rate, this recogniser hears 10 % of these words wrong, and 40 %
/// at 70 % of the speed.
#[tokio::test]
async fn slow_and_fast_speech_is_heard_nearly_as_well() {
    let demo = Demo::start(BINARY).await;
    let sentences = include_str!("../../benches/data/sentences.txt").lines().take(8);
    let errors = async |rate: &str| {
        let (mut errors, mut words) = (0, 0);
        for sentence in sentences.clone() {
            let call = json!({"text": sentence, "voice": "flite/slt", "prosody": {"rate": rate}});
            let spoken = demo.speak(call, "audio/wav").await;
            assert_eq!(spoken.status(), 200);
            let audio = spoken.bytes().await.unwrap().to_vec();
            let heard = demo.hear(audio, "audio/wav", "?engine=pocketsphinx").await;
            let found = word_errors(sentence, heard["text"].as_str().unwrap());
            (errors, words) = (errors + found.errors, words + found.words);
        }
        errors as f64 / words as f64
    };
    let (ordinary, slow, fast) = (errors("100%").await, errors("70%").await, errors("140%").await);
    assert!(slow <= ordinary + 0.08 && fast <= ordinary + 0.08, "{ordinary}, slow {slow}, fast {fast}");
}

/// The same two programs without the gateway.
fn bare_tools(sentence: &str) -> String {
    let folder = tempfile::tempdir().unwrap();
    let wav = folder.path().join("bare.wav");
    let said =
        std::process::Command::new("flite").args(["-voice", "slt", "-t", sentence, "-o"]).arg(&wav).status().unwrap();
    assert!(said.success());
    let heard = std::process::Command::new("pocketsphinx_continuous")
        .arg("-infile")
        .arg(&wav)
        .args(["-logfn", "/dev/null"])
        .output()
        .unwrap();
    String::from_utf8_lossy(&heard.stdout).into_owned()
}
