//! Sound that flows: engines of a test's own, reached by sheets alone.

use crate::BINARY;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::time::{Duration, Instant};

use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_e2e::{Service, header, words_of};
use dispatcher_standins::{start_heron, tone};
use futures::StreamExt as _;
use serde_json::json;

const HERON: &str = include_str!("../../demo/sheets/heron.toml");
const TEXT: &str = "The 06:15 to Gullsay is delayed by twenty minutes.";

/// A program that prints the first part of a file, waits, and goes on with `then`.
fn slow_program(folder: &Path, audio: &[u8], first: usize, then: &str) -> String {
    std::fs::write(folder.join("first"), &audio[..first]).unwrap();
    std::fs::write(folder.join("rest"), &audio[first..]).unwrap();
    let program = folder.join("slow");
    let here = folder.display();
    std::fs::write(
        &program,
        format!("#!/bin/sh\ncat {here}/first\nsleep 2\n{}\n", then.replace("REST", &format!("{here}/rest"))),
    )
    .unwrap();
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    format!(
        "sheet = 1\nname = \"slow\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"{}\"\n\
         [synthesis]\narguments = []\n[synthesis.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n\
         [[synthesis.voices]]\nid = \"v\"\nname = \"V\"\nlanguages = [\"en-GB\"]\n",
        program.display()
    )
}

fn recording() -> Vec<u8> {
    let samples = tone::speak(TEXT, tone::Manner { pitch: 1.0, rate: 1.5 }, 16_000);
    encode_all(&samples, Format::new(Codec::Wav, 16_000)).unwrap()
}

#[tokio::test]
async fn sound_of_a_program_that_writes_slowly_is_on_its_way_before_the_program_ends() {
    let folder = tempfile::tempdir().unwrap();
    let sheet = slow_program(folder.path(), &recording(), 40_000, "cat REST");
    let service = Service::start(BINARY, &[("slow", sheet)]).await;
    for (accept, header_bytes, format) in [
        ("audio/wav", 44, Format::new(Codec::Wav, 24_000)),
        ("audio/ogg;codecs=opus", 300, Format::new(Codec::OggOpus, 24_000)),
        ("audio/mpeg", 0, Format::new(Codec::Mp3, 24_000)),
        ("audio/basic", 0, Format::new(Codec::Mulaw, 8_000)),
    ] {
        let begun = Instant::now();
        let response = service.speak(json!({"text": TEXT, "voice": "slow/v"}), accept).await;
        assert_eq!(response.status(), 200, "{accept}");
        let mut stream = response.bytes_stream();
        let mut audio = Vec::new();
        while audio.len() <= header_bytes {
            audio.extend_from_slice(&stream.next().await.unwrap().unwrap());
        }
        assert!(begun.elapsed() < Duration::from_millis(1_700), "{accept}: first sound after {:?}", begun.elapsed());
        while let Some(piece) = stream.next().await {
            audio.extend_from_slice(&piece.unwrap());
        }
        assert!(begun.elapsed() > Duration::from_millis(1_900), "{accept}");
        assert_eq!(words_of(&audio, format), TEXT, "{accept}");
    }
}

#[tokio::test]
async fn a_program_that_ends_badly_half_way_breaks_the_transfer() {
    let folder = tempfile::tempdir().unwrap();
    let sheet = slow_program(folder.path(), &recording(), 40_000, "echo out of breath >&2; exit 4");
    let service = Service::start(BINARY, &[("slow", sheet)]).await;
    for accept in ["audio/wav", "audio/ogg;codecs=opus", "audio/basic"] {
        let response = service.speak(json!({"text": TEXT, "voice": "slow/v"}), accept).await;
        let id = header(&response, "dispatch-id");
        assert!(response.bytes().await.is_err(), "{accept}: half an utterance looked whole");
        let dispatch = service.get(&format!("/api/v1/dispatches/{id}")).await;
        assert_eq!(dispatch["state"], "failed", "{accept}");
        assert!(dispatch["attempts"][0]["detail"].as_str().unwrap().contains("out of breath"), "{dispatch}");
    }
}

#[tokio::test]
async fn mp3_becomes_opus_while_the_engine_still_speaks() {
    let heron = start_heron(0, "tkn").await.unwrap();
    // Without its lossless format there is nothing but MP3 to make Opus from.
    let pcm = HERON.lines().find(|line| line.starts_with("pcm = ")).unwrap();
    let sheet = HERON.replace(pcm, "").replace("http://127.0.0.1:7801", &heron.url());
    let service = Service::start(BINARY, &[("heron", sheet)]).await;
    let bind = json!({"engine": "heron", "parts": {"token": "tkn"}});
    assert_eq!(service.send(reqwest::Method::POST, "/api/v1/credentials", bind).await.0, 201);
    let delivered = async || -> serde_json::Value {
        service.http.get(format!("{}/delivered", heron.url())).send().await.unwrap().json().await.unwrap()
    };
    let weather = service.http.put(format!("{}/weather", heron.url())).json(&json!({"weather": "drip", "pause": 40}));
    assert!(weather.send().await.unwrap().status().is_success());
    let response = service.speak(json!({"text": TEXT, "voice": "heron/pellin"}), "audio/ogg;codecs=opus").await;
    assert_eq!(response.status(), 200);
    let mut stream = response.bytes_stream();
    let mut audio = Vec::new();
    // The head and the tags of an Ogg Opus stream are under 300 bytes.
    while audio.len() <= 300 {
        audio.extend_from_slice(&stream.next().await.unwrap().unwrap());
    }
    assert_eq!(delivered().await["whole"], 0, "heron still speaks");
    while let Some(piece) = stream.next().await {
        audio.extend_from_slice(&piece.unwrap());
    }
    assert_eq!(words_of(&audio, Format::new(Codec::OggOpus, 24_000)), TEXT);
    assert_eq!(delivered().await["whole"], 1);
}
