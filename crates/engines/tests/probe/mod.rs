//! An engine by a few lines of a sheet, asked to speak and to hear.

use std::sync::Arc;

use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_core::Shaped;
use dispatcher_engines::{AudioSource, Engine, EngineError, Fetcher, Hear, Speak};
use dispatcher_vault::Parts;
use serde_json::Value;

use crate::collect::collect;
use crate::listener::answer;

pub fn engine(sheet: &str, url: &str) -> Engine {
    let head =
        "sheet = 1\nname = \"probe\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"http://127.0.0.1:1\"\n";
    Engine::load(&format!("{head}{sheet}"), "probe.toml", Some(url), &Fetcher::new().unwrap())
        .unwrap_or_else(|error| panic!("{error}\n{sheet}"))
}

pub const VOICE: &str = "\n[synthesis.formats]\npcm = { type = \"audio/pcm\", sample_rates = [16000] }\n\
    [[synthesis.voices]]\nid = \"ada\"\nname = \"Ada\"\nlanguages = [\"en\"]\n";
pub const LISTENS: &str = "\n[recognition.formats]\nwav = { type = \"audio/wav\", sample_rates = [16000] }\n\
    [recognition.transcript]\ntext = \"$.text\"\n";

/// A sentence for the first voice of an engine, in its first format.
pub fn sentence(engine: &Engine) -> Speak {
    Speak {
        text: "The ramp is closing".into(),
        markup: None,
        voice: engine.sheet().synthesis.as_ref().unwrap().voices[0].clone(),
        model: None,
        language: None,
        format: engine.speaking_formats()[0].clone(),
        shaped: Shaped::default(),
    }
}

pub async fn speak(engine: &Engine, parts: &Parts) -> Result<Vec<u8>, EngineError> {
    collect(engine.speak(sentence(engine), parts).await?.audio).await
}

pub async fn hear(engine: &Engine, audio: AudioSource) -> Result<dispatcher_core::Transcript, EngineError> {
    let plain = Hear::new(audio, engine.hearing_formats()[0].clone());
    let call = Hear { language: Some("en".into()), hints: vec!["Gullsay".into()], ..plain };
    engine.hear(call, &Parts::new()).await
}

pub fn wave(samples: usize) -> Vec<u8> {
    let sound: Vec<f32> = (0..samples).map(|n| (n as f32 * 0.1).sin() * 0.3).collect();
    encode_all(&sound, Format::new(Codec::Wav, 16_000)).unwrap()
}

pub fn in_file(bytes: &[u8]) -> AudioSource {
    use std::io::Write as _;
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(bytes).unwrap();
    AudioSource::File(Arc::new(file.into_temp_path()))
}

pub fn json_answer(status: &str, headers: &str, body: &Value) -> Vec<u8> {
    let body = body.to_string();
    let headers = format!("content-type: application/json\r\ncontent-length: {}\r\n{headers}", body.len());
    answer(status, &headers, body.as_bytes())
}

pub fn sound() -> Vec<u8> {
    answer("200 OK", "content-type: audio/pcm\r\ncontent-length: 4\r\n", b"\x01\x02\x03\x04")
}
