//! `dispatcher convert`, and the help of every command; no service runs.

use crate::BINARY;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use dispatcher_audio::{Codec, Format, LoudnessMeter, decode_all, encode_all, measure};
use dispatcher_e2e::words_of;
use dispatcher_standins::tone;
use serde_json::Value;

const TEXT: &str = "The ramp is closing.";

fn run(folder: &Path, arguments: &[&str]) -> Output {
    Command::new(BINARY).args(arguments).current_dir(folder).stdin(Stdio::null()).output().unwrap()
}

fn error_of(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// A folder with the text spoken as `in.wav` at 24 kHz.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let samples = tone::speak(TEXT, tone::Manner { pitch: 1.0, rate: 1.0 }, 24_000);
    std::fs::write(folder.path().join("in.wav"), encode_all(&samples, Format::new(Codec::Wav, 24_000)).unwrap())
        .unwrap();
    folder
}

#[test]
fn every_name_makes_its_format_and_the_words_stay() {
    let folder = folder();
    for (file, more, format) in [
        ("o.mp3", vec![], Format::new(Codec::Mp3, 24_000)),
        ("o.flac", vec![], Format::new(Codec::Flac, 24_000)),
        ("o.webm", vec![], Format::new(Codec::WebmOpus, 24_000)),
        ("o.opus", vec!["--bitrate", "32000"], Format::new(Codec::OggOpus, 24_000)),
        ("o.ulaw", vec![], Format::new(Codec::Mulaw, 8_000)),
        ("o.al", vec!["--format", "alaw"], Format::new(Codec::Alaw, 8_000)),
        ("a.wav", vec!["--format", "audio/vnd.wave;codec=6"], Format::new(Codec::WavAlaw, 8_000)),
        ("e.wav", vec!["--format", "editor"], Format::new(Codec::Wav, 48_000)),
        ("o.l16", vec!["--sample-rate", "16000"], Format::new(Codec::L16, 16_000)),
    ] {
        let output = run(folder.path(), &[vec!["convert", "in.wav", file], more].concat());
        assert!(output.status.success(), "{file}: {}", error_of(&output));
        let audio = std::fs::read(folder.path().join(file)).unwrap();
        assert_eq!(words_of(&audio, format), TEXT, "{file}");
        let (found, length) = measure(&audio, Some(format)).unwrap();
        assert!(found.codec == format.codec || (found.codec.is_wav() && format.codec.is_wav()), "{file}: {found:?}");
        let rate = if matches!(format.codec, Codec::OggOpus | Codec::WebmOpus) { 48_000 } else { format.rate };
        assert_eq!(length.rate, rate, "{file}");
    }
}

#[test]
fn what_a_file_is_is_told_in_spite_of_its_name() {
    let folder = folder();
    run(folder.path(), &["convert", "in.wav", "in.flac"]);
    std::fs::rename(folder.path().join("in.flac"), folder.path().join("lying.mp3")).unwrap();
    let output = run(folder.path(), &["convert", "--show", "--json", "in.wav", "lying.mp3"]);
    assert!(output.status.success(), "{}", error_of(&output));
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let items = told["items"].as_array().unwrap();
    assert_eq!(
        (items[0]["coding"].as_str(), items[0]["sample_rate"].as_u64(), items[0]["channels"].as_u64()),
        (Some("WAV"), Some(24_000), Some(1))
    );
    assert_eq!((items[1]["coding"].as_str(), items[1]["frames"].as_u64()), (Some("FLAC"), items[0]["frames"].as_u64()));
    assert!(error_of(&output).contains("lying.mp3 contains FLAC, unlike its name"), "{}", error_of(&output));
}

#[test]
fn tempo_pitch_loudness_and_cuts_are_as_asked() {
    let folder = folder();
    let length = |file: &str| measure(&std::fs::read(folder.path().join(file)).unwrap(), None).unwrap().1.seconds();
    let whole = length("in.wav");
    for (file, options, wanted) in [
        ("slow.wav", vec!["--rate", "80%"], whole / 0.8),
        ("high.wav", vec!["--pitch", "2"], whole),
        ("low.wav", vec!["--pitch", "-2.5"], whole),
        ("loud.wav", vec!["--loudness"], whole),
        ("soft.wav", vec!["--loudness=-30"], whole),
        ("cut.wav", vec!["--start", "0.5", "--end", "1.25"], 0.75),
    ] {
        let output = run(folder.path(), &[vec!["convert", "in.wav", file], options].concat());
        assert!(output.status.success(), "{file}: {}", error_of(&output));
        assert!((length(file) - wanted).abs() < 0.001, "{file}: {} s, not {wanted}", length(file));
        if file != "cut.wav" {
            let audio = std::fs::read(folder.path().join(file)).unwrap();
            assert_eq!(words_of(&audio, Format::new(Codec::Wav, 24_000)), TEXT, "{file}");
        }
    }
    for (file, wanted) in [("loud.wav", -18.0), ("soft.wav", -30.0)] {
        let audio = std::fs::read(folder.path().join(file)).unwrap();
        let (samples, layout) = decode_all(&audio, Format::new(Codec::Wav, 24_000)).unwrap();
        let mut meter = LoudnessMeter::new(layout).unwrap();
        meter.push(&samples).unwrap();
        let loudness = meter.finish().unwrap();
        assert!((loudness.integrated - wanted).abs() < 0.2 && loudness.peak <= -0.9, "{file}: {loudness:?}");
    }
    for (option, said) in [("--rate=3", "rate 3 is outside 0.5 to 2"), ("--loudness=5", "outside -70 to 0")] {
        let output = run(folder.path(), &["convert", "in.wav", "x.wav", option]);
        assert_eq!(output.status.code(), Some(2), "{option}");
        assert!(error_of(&output).contains(said), "{option}: {}", error_of(&output));
    }
}

#[test]
fn a_batch_goes_into_a_folder_and_a_stream_through_pipes() {
    let folder = folder();
    std::fs::copy(folder.path().join("in.wav"), folder.path().join("two.wav")).unwrap();
    let output = run(folder.path(), &["convert", "in.wav", "two.wav", "made/", "--format", "web"]);
    assert!(output.status.success(), "{}", error_of(&output));
    for file in ["made/in.mp3", "made/two.mp3"] {
        let audio = std::fs::read(folder.path().join(file)).unwrap();
        assert_eq!(words_of(&audio, Format::new(Codec::Mp3, 24_000)), TEXT, "{file}");
    }
    let mut child = Command::new(BINARY)
        .args(["convert", "-", "-", "--format", "flac"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(&std::fs::read(folder.path().join("in.wav")).unwrap()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    assert_eq!(words_of(&output.stdout, Format::new(Codec::Flac, 24_000)), TEXT);
}

#[test]
fn a_failure_says_why_and_leaves_no_file_behind() {
    let folder = folder();
    let whole = std::fs::read(folder.path().join("in.wav")).unwrap();
    std::fs::write(folder.path().join("torn.wav"), &whole[..whole.len() / 2]).unwrap();
    std::fs::write(folder.path().join("words.txt"), "not a sound").unwrap();
    std::fs::write(folder.path().join("there.mp3"), "precious").unwrap();
    for (arguments, code, said) in [
        (vec!["torn.wav", "t.mp3", "--strict"], 1, "it holds less than its header says"),
        (vec!["words.txt", "t.mp3"], 1, "raw samples need --type"),
        (vec!["nowhere.wav", "t.mp3"], 1, "nowhere.wav"),
        (vec!["in.wav", "there.mp3"], 1, "use --force"),
        (vec!["in.wav", "t.m4a"], 2, "MP4 can be read but not written"),
        (vec!["in.wav", "t.opus", "--sample-rate", "44100"], 2, "it can carry 8000"),
        (vec!["in.wav", "t.mp3", "--bitrate", "1"], 2, "it can carry"),
        (vec!["in.wav", "t.xyz"], 2, "unknown audio type 'xyz'"),
        (vec!["in.wav"], 2, "--show"),
        (vec!["in.wav", "torn.wav", "t.mp3"], 2, "name a folder"),
        (vec!["in.wav", "in.flac", "made/"], 2, "in.wav and in.flac would become one file"),
    ] {
        let output = run(folder.path(), &[vec!["convert"], arguments.clone()].concat());
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {}", error_of(&output));
        assert!(error_of(&output).contains(said), "{arguments:?}: {}", error_of(&output));
    }
    let mut left: Vec<String> = std::fs::read_dir(folder.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    left.sort();
    assert_eq!(left, ["in.wav", "there.mp3", "torn.wav", "words.txt"]);
    assert_eq!(std::fs::read(folder.path().join("there.mp3")).unwrap(), b"precious");
}

#[test]
fn damaged_files_are_read_as_far_as_they_go_with_a_warning() {
    let folder = folder();
    let whole = std::fs::read(folder.path().join("in.wav")).unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::write(at("torn.wav"), &whole[..whole.len() / 2]).unwrap();
    let output = run(folder.path(), &["convert", "torn.wav", "t.wav"]);
    assert!(output.status.success(), "{}", error_of(&output));
    assert!(error_of(&output).contains("warning: torn.wav: the audio is damaged"), "{}", error_of(&output));
    assert!(error_of(&output).contains("s are missing"), "{}", error_of(&output));
    let made = std::fs::read(at("t.wav")).unwrap();
    let size = u32::from_le_bytes(made[40..44].try_into().unwrap()) as usize;
    assert_eq!(size, made.len() - 44, "it says how long it is");
    let (samples, torn) = (whole.len() / 2 - 44, &whole[44..whole.len() / 2]);
    assert_eq!(&made[44..], &torn[..samples / 2 * 2], "sample for sample");
    // Sizes that nobody knew: as some programs write them.
    for (name, length) in [("zero.wav", 0_u32), ("open.wav", u32::MAX)] {
        let mut open = whole.clone();
        open[40..44].copy_from_slice(&length.to_le_bytes());
        std::fs::write(at(name), &open).unwrap();
        let output = run(folder.path(), &["convert", name, &format!("made-{name}")]);
        assert!(output.status.success(), "{}", error_of(&output));
        let made = std::fs::read(at(&format!("made-{name}"))).unwrap();
        assert_eq!(&made[40..44], &(u32::try_from(whole.len()).unwrap() - 44).to_le_bytes(), "{name}");
    }
    let made = run(folder.path(), &["convert", "in.wav", "clean.flac"]);
    assert!(made.status.success());
    let behind = [b"HTTP/1.1 200 OK\r\n\r\n".as_slice(), &std::fs::read(at("clean.flac")).unwrap()].concat();
    std::fs::write(at("behind.flac"), behind).unwrap();
    let output = run(folder.path(), &["convert", "behind.flac", "b.flac"]);
    assert!(error_of(&output).contains("19 bytes before the audio are not audio"), "{}", error_of(&output));
    assert_eq!(words_of(&std::fs::read(at("b.flac")).unwrap(), Format::new(Codec::Flac, 24_000)), TEXT);
}

#[test]
fn a_file_that_a_decoder_panics_at_is_told_in_one_line() {
    let folder = folder();
    let file = include_bytes!("../../crates/audio/tests/data/malformed-codebook.ogg");
    std::fs::write(folder.path().join("torn.ogg"), file).unwrap();
    let output = run(folder.path(), &["convert", "torn.ogg", "torn.wav"]);
    assert_eq!(error_of(&output), "error: torn.ogg: the Ogg Vorbis codec failed: the stream is malformed\n");
    assert!(!output.status.success() && !folder.path().join("torn.wav").exists());
}

#[test]
fn the_help_of_commands_has_examples() {
    let folder = tempfile::tempdir().unwrap();
    for command in ["serve", "demo", "speak", "transcribe", "convert", "estimate", "voices", "usage", "dispatches"] {
        let help = String::from_utf8(run(folder.path(), &[command, "--help"]).stdout).unwrap();
        let examples = help.split_once("Examples:\n").unwrap_or_else(|| panic!("{command}: {help}")).1;
        assert!(examples.contains(&format!("dispatcher {command}")), "{command}: {examples}");
    }
}

#[test]
fn files_join_into_one_at_one_loudness_with_silence_between() {
    let folder = folder();
    let whole = measure(&std::fs::read(folder.path().join("in.wav")).unwrap(), None).unwrap().1.frames;
    for arguments in [
        vec!["convert", "in.wav", "soft.mp3", "--gain", "-20"],
        vec!["convert", "in.wav", "soft.mp3", "in.wav", "all.flac", "--join", "--gap", "0.5", "--loudness"],
    ] {
        let output = run(folder.path(), &arguments);
        assert!(output.status.success(), "{}", error_of(&output));
    }
    let format = Format::new(Codec::Flac, 24_000);
    let (samples, layout) = decode_all(&std::fs::read(folder.path().join("all.flac")).unwrap(), format).unwrap();
    assert_eq!(samples.len() as u64, 3 * whole + 2 * 12_000, "to the sample");
    let step = whole as usize + 12_000;
    for (index, piece) in samples.chunks(step).enumerate() {
        let piece = &piece[..whole as usize];
        let audio = encode_all(piece, Format::new(Codec::Wav, 24_000)).unwrap();
        assert_eq!(words_of(&audio, Format::new(Codec::Wav, 24_000)), TEXT, "piece {index}");
        let mut meter = LoudnessMeter::new(layout).unwrap();
        meter.push(piece).unwrap();
        let loudness = meter.finish().unwrap().integrated;
        assert!((loudness + 18.0).abs() < 0.3, "piece {index}: {loudness} LUFS");
    }
    assert!(samples[whole as usize..step].iter().all(|sample| *sample == 0.0), "the gap is silent");
    let output = run(folder.path(), &["convert", "in.wav", "soft.mp3", "both.wav"]);
    assert_eq!(output.status.code(), Some(2));
    assert!(error_of(&output).contains("--join"), "{}", error_of(&output));
}

#[test]
fn tags_go_along_and_sound_of_the_same_coding_is_not_coded_again() {
    let folder = folder();
    let path = |file: &str| folder.path().join(file);
    for arguments in [
        vec!["convert", "in.wav", "a.opus", "--title", "The ramp is closing"],
        vec!["convert", "a.opus", "b.webm"],
        vec!["convert", "b.webm", "c.opus"],
        vec!["convert", "c.opus", "d.flac"],
        vec!["convert", "c.opus", "e.opus"],
    ] {
        let output = run(folder.path(), &arguments);
        assert!(output.status.success(), "{arguments:?}: {}", error_of(&output));
    }
    let decoded =
        |file: &str, codec| decode_all(&std::fs::read(path(file)).unwrap(), Format::new(codec, 24_000)).unwrap();
    assert_eq!(decoded("a.opus", Codec::OggOpus), decoded("c.opus", Codec::OggOpus), "the same to the bit");
    assert_eq!(std::fs::read(path("c.opus")).unwrap(), std::fs::read(path("e.opus")).unwrap(), "nothing to change");
    let output = run(folder.path(), &["convert", "--show", "--json", "in.wav", "b.webm", "c.opus", "d.flac"]);
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(told["items"][0]["tags"], serde_json::json!({}), "nothing is said that nobody told");
    for index in 1..4 {
        assert_eq!(told["items"][index]["tags"], serde_json::json!({"title": "The ramp is closing"}), "{index}");
    }
    let output = run(folder.path(), &["convert", "--show", "d.flac"]);
    assert!(String::from_utf8_lossy(&output.stdout).ends_with("Tags of d.flac\n  title: The ramp is closing\n"));
}

#[test]
fn edges_variable_rates_and_outlines_are_as_asked() {
    let folder = folder();
    let edges =
        ["convert", "in.wav", "e.wav", "--fade-in", "0.2", "--fade-out", "0.2", "--pad-start", "0.5", "--pad-end", "1"];
    assert!(run(folder.path(), &edges).status.success());
    assert!(run(folder.path(), &["convert", "in.wav", "v.mp3", "--vbr"]).status.success());
    assert!(run(folder.path(), &["convert", "in.wav", "c.mp3"]).status.success());
    let output =
        run(folder.path(), &["convert", "--show", "--json", "--peaks", "20", "in.wav", "e.wav", "v.mp3", "c.mp3"]);
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let frames = |index: usize| told["items"][index]["frames"].as_u64().unwrap();
    assert_eq!(frames(1), frames(0) + 36_000);
    assert_eq!((frames(2), frames(3)), (frames(0), frames(0)), "neither MP3 has a gap");
    assert_ne!(told["items"][2]["bytes"], told["items"][3]["bytes"]);
    let parts = told["items"][1]["peaks"]["parts"].as_array().unwrap();
    assert!((11..=20).contains(&parts.len()), "{} parts", parts.len());
    let each = told["items"][1]["peaks"]["frames_each"].as_u64().unwrap();
    assert_eq!(parts.len() as u64, frames(1).div_ceil(each));
    assert_eq!(parts[0], serde_json::json!([0.0, 0.0]), "it begins with silence");
    assert!(parts.iter().any(|part| part[1].as_f64().unwrap() > 0.1), "and goes on with sound");
}

#[test]
fn a_stream_that_passes_untouched_is_mended_and_any_length_holds_for_joins_too() {
    let folder = folder();
    let path = |file: &str| folder.path().join(file);
    let mut stream = std::fs::read(path("in.wav")).unwrap();
    stream[4..8].fill(0xFF);
    stream[40..44].fill(0xFF);
    std::fs::write(path("stream.wav"), &stream).unwrap();
    assert!(run(folder.path(), &["convert", "stream.wav", "file.wav"]).status.success());
    assert_eq!(std::fs::read(path("file.wav")).unwrap(), std::fs::read(path("in.wav")).unwrap(), "true lengths");
    let sox = "-D -n -r 8000 -b 16 silence.flac trim 0 1500".split(' ');
    assert!(Command::new("sox").args(sox).current_dir(folder.path()).status().unwrap().success());
    let join = ["convert", "in.wav", "silence.flac", "both.wav", "--join"];
    let refused = run(folder.path(), &join);
    assert!(!refused.status.success() && error_of(&refused).contains("--any-length"), "{}", error_of(&refused));
    assert!(!path("both.wav").exists(), "no half file is left");
    let output = run(folder.path(), &[&join[..], &["--any-length"]].concat());
    assert!(output.status.success(), "{}", error_of(&output));
    let frames = measure(&std::fs::read(path("both.wav")).unwrap(), None).unwrap().1.frames;
    let first = measure(&std::fs::read(path("in.wav")).unwrap(), None).unwrap().1.frames;
    assert_eq!(frames, first + 1_500 * 24_000);
}
