//! Named formats, an app's own format, and what audio says of itself.

use crate::BINARY;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Codec, Format, Meter, Tags, measure};
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

const TEXT: &str = "Gate 4 is closing.";

fn tags_of(audio: &[u8], format: Format) -> Tags {
    let mut meter = Meter::new(format).unwrap();
    meter.push(audio).unwrap();
    meter.finish().unwrap();
    meter.tags()
}

#[tokio::test]
async fn a_preset_of_ones_own_stands_wherever_a_format_is_asked() {
    let demo = Demo::start(BINARY).await;
    let set = [
        "preset",
        "add",
        "pier",
        "--type",
        "mp3",
        "--sample-rate",
        "16000",
        "--bitrate",
        "32000",
        "--purpose",
        "the pier",
    ];
    let output = demo.client(&set);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let list = String::from_utf8_lossy(&demo.client(&["preset", "list"]).stdout).into_owned();
    let line = list.lines().find(|line| line.contains("pier  ") || line.trim_start().starts_with("pier")).unwrap();
    assert!(line.contains("audio/mpeg, 16000 Hz") && line.contains("4.0 kB/s") && line.contains("the pier"), "{line}");
    assert!(list.lines().any(|line| line.trim_start().starts_with("web") && line.contains("6.0 kB/s")), "{list}");

    let wanted = Format { bitrate: Some(32_000), ..Format::new(Codec::Mp3, 16_000) };
    let body = json!({"text": TEXT, "voice": "heron/pellin", "audio": {"type": "pier"}});
    let response = demo.speak(body.clone(), "*/*").await;
    assert_eq!(header(&response, "content-type"), "audio/mpeg");
    let audio = response.bytes().await.unwrap();
    assert_eq!(words_of(&audio, wanted), TEXT);
    let length = measure(&audio, None).unwrap().1;
    assert_eq!(length.rate, 16_000);
    let bits = audio.len() as f64 * 8.0 / length.seconds();
    assert!((30_000.0..40_000.0).contains(&bits), "{bits} bit/s");
    let by_client = demo.client(&["speak", TEXT, "--voice", "heron/pellin", "--format", "pier", "-o", "gate.mp3"]);
    assert!(by_client.status.success(), "{}", String::from_utf8_lossy(&by_client.stderr));

    // Replaced, then retired.
    let replaced = ["preset", "replace", "pier", "--type", "audio/flac", "--sample-rate", "32000"];
    assert!(demo.client(&replaced).status.success());
    assert_eq!(header(&demo.speak(body.clone(), "*/*").await, "content-type"), "audio/flac");
    assert!(demo.client(&["preset", "retire", "pier"]).status.success());
    let refused = demo.speak(body, "*/*").await;
    assert_eq!(refused.status(), 406);
    assert!(!demo.client(&["preset", "retire", "pier"]).status.success(), "it is gone");
    let audit = demo.get("/api/v1/audit?limit=10").await.to_string();
    assert!(audit.contains("preset.retire") && audit.contains("pier version 2"), "{audit}");
}

#[tokio::test]
async fn names_that_mean_a_format_already_and_absurd_formats_are_refused() {
    let demo = Demo::start(BINARY).await;
    let put = async |name: &str, body: Value, key: &str| {
        let url = format!("{}/api/v1/presets/{name}", demo.url);
        let response = demo.http.put(url).bearer_auth(key).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.text().await.unwrap())
    };
    for (name, body, status, said) in [
        ("web", json!({"type": "mp3"}), 422, "'web' is a format already"),
        ("flac", json!({"type": "mp3"}), 422, "'flac' is a format already"),
        ("Pier", json!({"type": "mp3"}), 422, "small letters"),
        ("pier", json!({"type": "tape"}), 422, "unknown audio type"),
        ("pier", json!({"type": "mp3", "sample_rate": 12345}), 422, "MP3 cannot carry 12345 Hz"),
        ("pier", json!({"type": "audio/mp4"}), 422, "can be read but not written"),
        ("pier", json!({"type": "opus", "vbr": true}), 422, "cannot have a variable bit rate"),
        ("pier", json!({"kind": "mp3"}), 400, "kind"),
    ] {
        let (got, text) = put(name, body.clone(), &demo.operator).await;
        assert!(got == status && text.contains(said), "{name} {body}: {got} {text}");
    }
    let (got, _) = put("pier", json!({"type": "mp3"}), &demo.app).await;
    assert_eq!(got, 403, "an app keeps no presets");
    let missing = demo.http.get(format!("{}/api/v1/presets/gate-scren", demo.url)).bearer_auth(&demo.app);
    let missing: Value = missing.send().await.unwrap().json().await.unwrap();
    assert_eq!(missing["nearest"][0], "gate-screen", "{missing}");
}

#[tokio::test]
async fn an_app_with_a_format_of_its_own_gets_it() {
    let demo = Demo::start(BINARY).await;
    let add =
        demo.client(&["app", "add", "kiosk", "--default-voice", "heron/pellin", "--default-format", "gate-screen"]);
    assert!(add.status.success(), "{}", String::from_utf8_lossy(&add.stderr));
    let key = String::from_utf8_lossy(&demo.client(&["app", "key", "add", "kiosk"]).stdout).trim().to_owned();
    let speak = async |accept: &str| {
        let request = demo.http.post(format!("{}/api/v1/utterances", demo.url)).bearer_auth(&key);
        request.header("accept", accept).json(&json!({"text": TEXT})).send().await.unwrap()
    };
    let response = speak("*/*").await;
    assert_eq!(header(&response, "content-type"), "audio/mpeg");
    assert_eq!(measure(&response.bytes().await.unwrap(), None).unwrap().1.rate, 16_000);
    assert_eq!(header(&speak("audio/flac").await, "content-type"), "audio/flac", "what is asked comes first");
    let refused = demo.client(&["app", "add", "booth", "--default-format", "gramophone"]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("unknown audio type 'gramophone'"), "{said}");
}

#[tokio::test]
async fn audio_says_what_it_is_in_every_format_that_can() {
    let demo = Demo::start(BINARY).await;
    for (accept, format) in [
        ("audio/mpeg", Format::new(Codec::Mp3, 24_000)),
        ("audio/mpeg;rate=16000", Format::new(Codec::Mp3, 16_000)),
        ("audio/wav", Format::new(Codec::Wav, 24_000)),
        ("audio/ogg;codecs=opus", Format::new(Codec::OggOpus, 24_000)),
        ("audio/webm;codecs=opus", Format::new(Codec::WebmOpus, 24_000)),
        ("audio/flac", Format::new(Codec::Flac, 24_000)),
    ] {
        let body = json!({"text": TEXT, "voice": "heron/pellin", "language": "en-GB"});
        let audio = demo.speak(body, accept).await.bytes().await.unwrap();
        let tags = tags_of(&audio, format);
        assert_eq!(tags.title.as_deref(), Some(TEXT), "{accept}");
        assert_eq!(tags.language.as_deref(), Some("en-GB"), "{accept}");
        assert_eq!(tags.engine.as_deref(), Some("heron"), "{accept}");
        assert_eq!(tags.voice.as_deref(), Some("heron/pellin"), "{accept}");
        assert!(tags.date.as_deref().is_some_and(|day| day.len() == 10), "{accept}: {:?}", tags.date);
        assert!(tags.synthetic, "{accept}");
        assert_eq!(words_of(&audio, format), TEXT, "{accept}");
    }
    let long = "The boat to Gullsay is late again. ".repeat(9);
    let body = json!({"text": long, "voice": "heron/pellin"});
    let audio = demo.speak(body, "audio/flac").await.bytes().await.unwrap();
    let title = tags_of(&audio, Format::new(Codec::Flac, 24_000)).title.unwrap();
    assert!(
        title.ends_with('…') && title.chars().count() <= 80 && long.starts_with(title.trim_end_matches('…')),
        "{title}"
    );
}

#[tokio::test]
async fn audio_inside_json_is_whole_and_tells_its_length() {
    let demo = Demo::start(BINARY).await;
    let mut lengths = Vec::new();
    for kind in ["wav", "audio/mpeg;rate=16000", "flac", "audio/webm;codecs=opus"] {
        let body = json!({"text": TEXT, "voice": "heron/pellin", "audio": {"type": kind}});
        let answer: Value = demo.speak(body, "application/json").await.json().await.unwrap();
        let audio = STANDARD.decode(answer["audio"]["base64"].as_str().unwrap()).unwrap();
        let (found, length) = measure(&audio, None).unwrap();
        assert_eq!(
            answer["audio"]["duration"].as_f64().unwrap(),
            (length.seconds() * 1_000.0).round() / 1_000.0,
            "{kind}"
        );
        lengths.push((found.codec, length.seconds()));
    }
    let first = lengths[0].1;
    // A change of rate rounds to a frame, MP3 from the engine keeps its own end.
    assert!(lengths.iter().all(|(_, seconds)| (seconds - first).abs() < 0.08), "{lengths:?}");
}
