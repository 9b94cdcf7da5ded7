//! The process driver with small programs of every system.

use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_core::Cause;
use dispatcher_engines::{AudioSource, Engine, EngineError, Fetcher, Hear, Speak};
use dispatcher_vault::Parts;
use futures::StreamExt as _;

fn script(folder: &Path, body: &str) -> PathBuf {
    let path = folder.join("program");
    std::fs::write(&path, format!("#!/bin/sh\n{body}\n")).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    path
}

fn speaker(program: &Path, synthesis: &str) -> Engine {
    let sheet = format!(
        "sheet = 1\nname = \"local\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"{}\"\nseconds = 20\n\
         [synthesis]\n{synthesis}\n[synthesis.formats]\npcm = {{ type = \"audio/pcm\", sample_rates = [16000] }}\n\
         [[synthesis.voices]]\nid = \"v\"\nname = \"V\"\nlanguages = [\"en\"]\n",
        program.display()
    );
    Engine::load(&sheet, "local.toml", None, &Fetcher::new().unwrap()).unwrap()
}

fn call(engine: &Engine, text: &str) -> Speak {
    Speak {
        text: text.into(),
        markup: None,
        voice: engine.sheet().synthesis.as_ref().unwrap().voices[0].clone(),
        model: None,
        language: None,
        format: engine.speaking_format(Format::default()).unwrap(),
        shaped: Default::default(),
    }
}

async fn speak(engine: &Engine, text: &str) -> Result<String, EngineError> {
    let mut stream = engine.speak(call(engine, text), &Parts::new()).await?.audio;
    let mut audio = Vec::new();
    while let Some(chunk) = stream.next().await {
        audio.extend_from_slice(&chunk?);
    }
    Ok(String::from_utf8_lossy(&audio).into_owned())
}

#[tokio::test]
async fn what_a_program_writes_slowly_arrives_as_it_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let program = script(folder.path(), "printf first; sleep 1.5; printf second");
    let engine = speaker(&program, "arguments = []");
    let begun = Instant::now();
    let mut stream = engine.speak(call(&engine, "x"), &Parts::new()).await.unwrap().audio;
    assert_eq!(stream.next().await.unwrap().unwrap(), "first");
    assert!(begun.elapsed() < Duration::from_millis(1_200), "{:?}", begun.elapsed());
    assert_eq!(stream.next().await.unwrap().unwrap(), "second");
    assert!(begun.elapsed() > Duration::from_millis(1_400));
    assert!(stream.next().await.is_none());
}

#[tokio::test]
async fn a_text_as_an_argument_is_one_argument_whatever_it_says() {
    let folder = tempfile::tempdir().unwrap();
    let program = script(folder.path(), "for a in \"$@\"; do printf '<%s>' \"$a\"; done");
    let engine = speaker(&program, "arguments = [\"-v\", \"{{ voice.id }}\"]\ninput = \"argument\"");
    for text in ["plain", "--help", "-o /tmp/x", "$(id) `id` ; rm *", "two\nlines", "日本"] {
        assert_eq!(speak(&engine, text).await.unwrap(), format!("<-v><v><--><{text}>"));
    }
}

#[tokio::test]
async fn a_file_of_audio_is_read_only_when_the_program_ended_well_and_is_gone_after() {
    let folder = tempfile::tempdir().unwrap();
    let note = folder.path().join("where");
    let good = script(folder.path(), &format!("printf %s \"$1\" > {}; printf sound > \"$1\"", note.display()));
    let engine = speaker(&good, "arguments = [\"{{ file }}\"]\noutput = \"file\"");
    assert_eq!(speak(&engine, "x").await.unwrap(), "sound");
    let path = std::fs::read_to_string(&note).unwrap();
    assert!(path.ends_with(".pcm") && !Path::new(&path).exists(), "{path}");
    script(folder.path(), "printf half > \"$1\"; echo out of reeds >&2; exit 3");
    let error = speak(&engine, "x").await.unwrap_err();
    assert_eq!(error.cause, Cause::Broken);
    assert!(error.detail.contains("exit status: 3: out of reeds"), "{error}");
}

#[tokio::test]
async fn a_program_sees_no_environment_but_a_path_and_a_locale() {
    let engine = speaker(Path::new("env"), "arguments = []");
    let names: Vec<String> =
        speak(&engine, "x").await.unwrap().lines().filter_map(|l| Some(l.split_once('=')?.0.to_owned())).collect();
    assert!(names.iter().all(|name| ["PATH", "LC_ALL"].contains(&name.as_str())), "{names:?}");
}

#[tokio::test]
async fn a_child_that_outlives_a_program_which_ended_well_is_ended_too() {
    let folder = tempfile::tempdir().unwrap();
    let note = folder.path().join("child");
    // The child lets go of the pipes, so that only its group tells whose it is.
    let body = format!("sleep 4712 >/dev/null 2>&1 </dev/null & echo $! > {}; printf sound", note.display());
    let engine = speaker(&script(folder.path(), &body), "arguments = []");
    assert_eq!(speak(&engine, "x").await.unwrap(), "sound");
    let child = std::fs::read_to_string(&note).unwrap().trim().to_owned();
    for _ in 0..200 {
        let stat = std::fs::read_to_string(format!("/proc/{child}/stat")).unwrap_or_default();
        if stat.is_empty() || stat.contains(") Z ") {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("the child {child} lives on");
}

#[tokio::test]
async fn a_recogniser_gets_its_audio_as_a_file_or_a_stream_and_endless_words_are_cut_off() {
    let folder = tempfile::tempdir().unwrap();
    let four = AudioSource::Memory(Bytes::from_static(b"four"));
    let program = script(folder.path(), "echo \"$(cat \"$@\") 250 500 0.5\"");
    for (input, arguments) in [("file", "[\"{{ file }}\"]"), ("stream", "[]")] {
        let transcript = hear(&program, input, arguments, four.clone()).await.unwrap();
        let word = &transcript.words[0];
        assert_eq!((word.text.as_str(), word.start, word.end), ("four", Some(0.25), Some(0.5)), "{input}");
    }
    let endless = hear(Path::new("yes"), "stream", "[\"word 0 1 1\"]", four).await.unwrap_err();
    assert!(endless.detail.contains("has no end"), "{endless}");
}

/// What a program hears.
async fn hear(
    program: &Path,
    input: &str,
    arguments: &str,
    audio: AudioSource,
) -> Result<dispatcher_core::Transcript, EngineError> {
    let sheet = format!(
        "sheet = 1\nname = \"ear\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"{}\"\nseconds = 20\n\
         [recognition]\ninput = \"{input}\"\narguments = {arguments}\n[recognition.formats]\n\
         wav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n[recognition.lines]\nunit = \"milliseconds\"\n",
        program.display()
    );
    let engine = Engine::load(&sheet, "ear.toml", None, &Fetcher::new().unwrap()).unwrap();
    let format = engine.hearing_format(Format::new(Codec::Wav, 16_000)).unwrap();
    engine.hear(Hear::new(audio, format), &Parts::new()).await
}

/// Beats of a buzz that glides from low to high, so many a second: as near to
/// speech as a meter of its tempo needs.
fn beats(a_second: f64) -> AudioSource {
    let sample = |n: usize| {
        let along = (n as f64 / 16_000.0 * a_second).fract();
        let harmonic = |k: u32| {
            let hertz = 120.0 * f64::from(k);
            let away = (hertz - 300.0 - 2_000.0 * along) / 200.0;
            (std::f64::consts::TAU * hertz * n as f64 / 16_000.0).sin() / (1.0 + away * away)
        };
        let level = 0.05 + (std::f64::consts::PI * along).sin().powi(2);
        (0.1 * level * (1..30).map(harmonic).sum::<f64>()) as f32
    };
    let samples: Vec<f32> = (0..80_000).map(sample).collect();
    AudioSource::Memory(encode_all(&samples, Format::new(Codec::Wav, 16_000)).unwrap().into())
}

#[tokio::test]
async fn a_recogniser_is_told_the_tempo_of_the_speech() {
    let folder = tempfile::tempdir().unwrap();
    let program = script(folder.path(), "echo \"$1 250 500 0.5\"");
    let told = async |audio: AudioSource| {
        let transcript = hear(&program, "file", "[\"{{ (100 * tempo) | round | int }}\"]", audio).await.unwrap();
        transcript.words[0].text.parse::<u32>().unwrap()
    };
    let (slow, fast) = (told(beats(2.5)).await, told(beats(5.0)).await);
    assert!((50..90).contains(&slow) && (1.5..2.5).contains(&(f64::from(fast) / f64::from(slow))), "{slow}, {fast}");
    assert!((50..=150).contains(&told(beats(12.0)).await), "never further than it can go");
    let silence = encode_all(&[0.0; 16_000], Format::new(Codec::Wav, 16_000)).unwrap();
    assert_eq!(told(AudioSource::Memory(silence.into())).await, 100, "ordinary where it cannot be told");
    assert_eq!(told(AudioSource::Memory(Bytes::from_static(b"torn"))).await, 100);
}

#[tokio::test]
async fn memory_is_limited() {
    let folder = tempfile::tempdir().unwrap();
    // To sort a line is to hold it.
    let program = script(folder.path(), "head -c $1 /dev/zero | sort -o /dev/null");
    let sort = |bytes: &str| {
        let engine = speaker(&program, &format!("arguments = [\"{bytes}\"]"));
        async move { speak(&engine, "x").await }
    };
    assert_eq!(sort("1000000").await.unwrap(), "", "a megabyte is no trouble");
    let error = sort("1500000000").await.unwrap_err();
    assert_eq!(error.cause, Cause::Broken);
    assert!(error.detail.contains("memory exhausted"), "{error}");
}
