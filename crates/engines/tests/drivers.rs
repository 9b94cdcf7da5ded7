//! The drivers against the stand-ins and against real programs.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, decode_all};
use dispatcher_core::Cause;
use dispatcher_engines::{AudioSource, Engine, EngineError, Fetcher, Hear, Speak};
use dispatcher_standins::{StandIn, start_heron, start_turnstone, tone};
use dispatcher_vault::Parts;
use futures::StreamExt as _;

const HERON: &str = include_str!("../../../demo/sheets/heron.toml");
const TURNSTONE: &str = include_str!("../../../demo/sheets/turnstone.toml");
const TEXT: &str = "The 06:15 to Gullsay is delayed by twenty minutes.";

fn token(token: &str) -> Parts {
    BTreeMap::from([("token".to_owned(), token.to_owned().into())])
}

fn ascii() -> Parts {
    token("tkn/7Qx+canary")
}

async fn heron() -> (StandIn, Engine) {
    let standin = start_heron(0, "tkn/7Qx+canary").await.unwrap();
    let engine = Engine::load(HERON, "heron.toml", Some(&standin.url()), &Fetcher::new().unwrap()).unwrap();
    (standin, engine)
}

fn call(engine: &Engine, format: Format) -> Speak {
    Speak {
        text: TEXT.into(),
        markup: None,
        voice: engine.sheet().synthesis.as_ref().unwrap().voices[0].clone(),
        model: Some("quick".into()),
        language: None,
        format: engine.speaking_format(format).unwrap(),
        shaped: Default::default(),
    }
}

async fn collect(engine: &Engine, call: Speak, parts: &Parts) -> Result<Vec<u8>, EngineError> {
    let mut stream = engine.speak(call, parts).await?.audio;
    let mut audio = Vec::new();
    while let Some(chunk) = stream.next().await {
        audio.extend_from_slice(&chunk?);
    }
    Ok(audio)
}

async fn weather(standin: &StandIn, forecast: &str) {
    let request = reqwest::Client::new().put(format!("{}/weather", standin.url())).body(forecast.to_owned());
    assert!(request.send().await.unwrap().status().is_success(), "{forecast}");
}

async fn delivered(standin: &StandIn) -> serde_json::Value {
    reqwest::get(format!("{}/delivered", standin.url())).await.unwrap().json().await.unwrap()
}

fn words(audio: &[u8], format: Format) -> String {
    let (samples, layout) = decode_all(audio, format).unwrap();
    tone::hear(&samples, layout.rate).into_iter().map(|heard| heard.text).collect()
}

#[tokio::test]
async fn heron_speaks_the_exact_text_in_both_its_formats() {
    let (_standin, engine) = heron().await;
    for wanted in [Format::new(Codec::Mp3, 24_000), Format::new(Codec::OggOpus, 48_000)] {
        let call = call(&engine, wanted);
        let made = call.format.format;
        assert_eq!(made.codec, if wanted.codec == Codec::Mp3 { Codec::Mp3 } else { Codec::Pcm }, "the least work");
        let audio = collect(&engine, call, &ascii()).await.unwrap();
        assert_eq!(words(&audio, made), TEXT);
    }
}

#[tokio::test]
async fn every_weather_has_its_one_cause() {
    let (standin, engine) = heron().await;
    for (weather_name, cause) in [
        ("throttled", Cause::Throttled),
        ("down", Cause::Unavailable),
        ("reset", Cause::Unavailable),
        ("half", Cause::Broken),
        ("wrong-type", Cause::Broken),
        ("expired", Cause::Unauthorized),
        ("not-active-yet", Cause::NotActiveYet),
        ("wrong-region", Cause::WrongRegion),
        ("missing-role", Cause::MissingRole),
        ("unpaid", Cause::Unpaid),
    ] {
        weather(&standin, &format!(r#"{{"weather":"{weather_name}","calls":1}}"#)).await;
        let error = collect(&engine, call(&engine, Format::new(Codec::Mp3, 24_000)), &ascii()).await.unwrap_err();
        assert_eq!(error.cause, cause, "{weather_name}: {error}");
        assert_eq!(error.retry_after, (weather_name == "throttled").then_some(Duration::from_secs(1)));
    }
    assert!(collect(&engine, call(&engine, Format::default()), &ascii()).await.is_ok(), "the weather has cleared");
}

#[tokio::test]
async fn an_engine_that_repeats_the_secret_does_not_get_it_further() {
    let (standin, engine) = heron().await;
    weather(&standin, r#"{"weather":"echo"}"#).await;
    let error = collect(&engine, call(&engine, Format::default()), &ascii()).await.unwrap_err();
    assert!(error.detail.contains("[redacted]") && !error.detail.contains("7Qx"), "{error}");
    assert!(!format!("{error:?}").contains("7Qx"));
    let error = collect(&engine, call(&engine, Format::default()), &token("")).await.unwrap_err();
    assert_ne!(error.cause, Cause::Broken, "{error}");
    let error = collect(&engine, call(&engine, Format::default()), &Parts::new()).await.unwrap_err();
    assert_eq!((error.cause, error.detail.as_str()), (Cause::Unauthorized, "the credential has no part 'token'"));
}

#[tokio::test]
async fn the_first_sound_comes_while_the_engine_still_speaks_and_leaving_stops_it() {
    let (standin, engine) = heron().await;
    weather(&standin, r#"{"weather":"drip","pause":40}"#).await;
    let begun = Instant::now();
    let mut stream = engine.speak(call(&engine, Format::new(Codec::Mp3, 24_000)), &ascii()).await.unwrap().audio;
    assert!(!stream.next().await.unwrap().unwrap().is_empty());
    assert!(begun.elapsed() < Duration::from_millis(1_000), "{:?} of at least 2 s", begun.elapsed());
    drop(stream);
    for _ in 0..100 {
        if delivered(&standin).await["left"] == 1 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("heron still speaks to nobody: {}", delivered(&standin).await);
}

#[tokio::test]
async fn turnstone_hears_what_heron_said_with_word_times() {
    let (_standin, heron) = heron().await;
    let call = call(&heron, Format::new(Codec::Mp3, 24_000));
    let format = call.format.format;
    let audio = collect(&heron, call, &ascii()).await.unwrap();
    let standin = start_turnstone(0, "tkn/7Qx+canary").await.unwrap();
    for sheet in
        [TURNSTONE.to_owned(), TURNSTONE.replace("raw   = true", "audio = \"sound\"\nmultipart = { slate = '{}' }")]
    {
        let engine = Engine::load(&sheet, "turnstone.toml", Some(&standin.url()), &Fetcher::new().unwrap()).unwrap();
        let audio = AudioSource::Memory(Bytes::from(audio.clone()));
        let plain = Hear::new(audio, engine.hearing_format(format).unwrap());
        let hear = Hear { language: Some("en-GB".into()), ..plain };
        assert_eq!(hear.format.format.codec, Codec::Mp3, "it is handed over as it is");
        let transcript = engine.hear(hear, &ascii()).await.unwrap();
        assert_eq!(transcript.text, TEXT);
        assert_eq!(transcript.words.len(), 9);
        assert!(transcript.words.windows(2).all(|pair| pair[0].end <= pair[1].start), "times go forward");
        assert!(transcript.words.iter().all(|word| word.confidence > Some(0.5)));
    }
}

#[tokio::test]
async fn audio_in_json_is_decoded_and_a_torn_answer_is_no_answer() {
    use base64::Engine as _;
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let sheet = HERON.replace("answer = \"audio\"", "answer = { base64 = \"$.sound.data\" }");
    let pcm: Vec<u8> = (0..9_001u32).map(|n| (n % 251) as u8).collect();
    let body = format!(r#"{{"sound":{{"data":"{}"}}}}"#, base64::engine::general_purpose::STANDARD.encode(&pcm));
    for cut in [0, 40] {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let answer = format!(
            "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\nconnection: close\r\n\r\n{}",
            &body[..body.len() - cut]
        );
        tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let mut request = vec![0; 4_096];
            let _ = stream.read(&mut request).await;
            let _ = stream.write_all(answer.as_bytes()).await;
        });
        let engine = Engine::load(&sheet, "heron.toml", Some(&url), &Fetcher::new().unwrap()).unwrap();
        let result = collect(&engine, call(&engine, Format::default()), &ascii()).await;
        match cut {
            0 => assert_eq!(result.unwrap(), pcm),
            _ => assert_eq!(result.unwrap_err().cause, Cause::Broken),
        }
    }
}

fn process_sheet(program: &str, arguments: &str, more: &str) -> String {
    format!(
        "sheet = 1\nname = \"local\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"{program}\"\n\
         seconds = 3\n{more}\n[synthesis]\narguments = {arguments}\n[synthesis.formats]\n\
         pcm = {{ type = \"audio/pcm\", sample_rates = [16000] }}\n\
         [[synthesis.voices]]\nid = \"v\"\nname = \"V\"\nlanguages = [\"en\"]\n"
    )
}

fn local(sheet: &str) -> Engine {
    Engine::load(sheet, "local.toml", None, &Fetcher::new().unwrap()).unwrap()
}

#[tokio::test]
async fn a_program_is_never_a_shell_and_reads_its_text_from_stdin() {
    let engine = local(&process_sheet("cat", "[]", ""));
    let mut odd = call(&engine, Format::default());
    odd.text = "$(touch /tmp/x); `id` && \"quotes\" ".repeat(20_000);
    let text = odd.text.clone();
    assert_eq!(collect(&engine, odd, &Parts::new()).await.unwrap(), text.as_bytes(), "400 kB through a pipe of 64");
}

#[tokio::test]
async fn a_program_that_fails_hangs_or_is_missing_says_so() {
    let failing = local(&process_sheet("ls", "[\"/no/such/place\"]", ""));
    let error = collect(&failing, call(&failing, Format::default()), &Parts::new()).await.unwrap_err();
    assert_eq!(error.cause, Cause::Broken);
    assert!(error.detail.contains("/no/such/place"), "{error}");

    let hanging = local(&process_sheet("sleep", "[\"60\"]", "").replace("seconds = 3", "seconds = 1"));
    let begun = Instant::now();
    let error = collect(&hanging, call(&hanging, Format::default()), &Parts::new()).await.unwrap_err();
    assert_eq!(error.cause, Cause::TimedOut);
    assert!(begun.elapsed() < Duration::from_secs(5));

    let absent = local(&process_sheet("no-such-program-here", "[]", "install = \"make it\""));
    assert!(absent.absent().unwrap().contains("make it"));
    let error = collect(&absent, call(&absent, Format::default()), &Parts::new()).await.unwrap_err();
    assert_eq!(error.cause, Cause::Absent);
}

#[tokio::test]
async fn leaving_kills_the_program_and_its_children() {
    // A program that starts another and waits: both must be gone.
    let folder = tempfile::tempdir().unwrap();
    let script = folder.path().join("parent");
    std::fs::write(&script, "#!/bin/sh\necho started\nsleep 4711 &\necho $! > \"$(dirname \"$0\")/child\"\nwait\n")
        .unwrap();
    std::fs::set_permissions(&script, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let engine = local(&process_sheet(&script.to_string_lossy(), "[]", "").replace("seconds = 3", "seconds = 60"));
    let mut stream = engine.speak(call(&engine, Format::default()), &Parts::new()).await.unwrap().audio;
    stream.next().await.unwrap().unwrap();
    let child = loop {
        match std::fs::read_to_string(folder.path().join("child")) {
            Ok(id) if id.ends_with('\n') => break id.trim().to_owned(),
            _ => tokio::time::sleep(Duration::from_millis(10)).await,
        }
    };
    drop(stream);
    let gone = |id: &str| {
        let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
        stat.is_empty() || stat.contains(") Z ")
    };
    for _ in 0..200 {
        if gone(&child) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("the child {child} lives on");
}

#[test]
fn a_template_that_names_what_is_not_there_is_told_at_its_key() {
    let sheet = HERON.replace("{{ model|json }}", "{{ modle|json }}");
    let error = Engine::load(&sheet, "sheets/heron.toml", None, &Fetcher::new().unwrap()).err().unwrap();
    assert_eq!((error.file.as_str(), error.key.as_str()), ("sheets/heron.toml", "synthesis.json"));
    let line = sheet.lines().position(|line| line.starts_with("json")).unwrap() + 1;
    assert_eq!(error.line, line, "{error}");
}
