//! Measures codecs and resampling against each format's own command, on the
//! same ten minutes of speech and in one run: CPU time of the whole
//! transcoder, in pieces as a stream has them, over CPU time of the command;
//! and how far the sound is from the source, over how far the command's is.
//! Prints a table of ratios, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::path::Path;
use std::process::{Command, Stdio};

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Transcoder, decode_all, encode_all};
use dispatcher_benches::processor_seconds;
use dispatcher_benches::spectrum::{Sound, log_spectral_distance};
use serde_json::json;

/// Seconds of speech.
const LENGTH: usize = 600;
const RATE: u32 = 16_000;
/// Each is measured so often, in turns; the least counts.
const ROUNDS: usize = 3;
/// Seconds of a measurement, of as many runs as that takes: a process's time
/// is told in hundredths.
const LEAST: f64 = 1.0;

fn run(folder: &Path, line: &str) {
    let mut words = line.split_whitespace();
    let mut command = Command::new(words.next().unwrap());
    let status = command.args(words).current_dir(folder).stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(status.unwrap_or_else(|error| panic!("{line}: {error}")).success(), "{line}");
}

/// CPU seconds of a command line.
fn command(folder: &Path, line: &str) -> f64 {
    let before = processor_seconds("self").1;
    run(folder, line);
    processor_seconds("self").1 - before
}

/// The mean of runs that take a second or more together.
fn mean(mut run: impl FnMut() -> f64) -> f64 {
    let (mut seconds, mut runs) = (0.0, 0);
    while seconds < LEAST {
        seconds += run();
        runs += 1;
    }
    seconds / f64::from(runs)
}

/// CPU seconds of our transcoder over a file, and what it makes.
fn ours(folder: &Path, file: &str, from: Format, to: Format) -> (f64, Vec<u8>) {
    let audio = Bytes::from(std::fs::read(folder.join(file)).unwrap());
    let before = processor_seconds("self").0;
    let mut transcoder = Transcoder::new(from, to).unwrap();
    let mut made = Vec::new();
    for at in (0..audio.len()).step_by(16 << 10) {
        made.extend_from_slice(&transcoder.push(&audio.slice(at..audio.len().min(at + (16 << 10)))).unwrap());
    }
    made.extend_from_slice(&transcoder.finish().unwrap());
    (processor_seconds("self").0 - before, made)
}

/// The sound of a file of one channel.
fn sound(audio: &[u8], format: Format) -> Sound {
    let (samples, layout) = decode_all(audio, format).unwrap();
    assert_eq!(layout.channels, 1);
    Sound { samples, rate: layout.rate }
}

/// Ten minutes of a real, if local, voice at 16 kHz.
fn speech(folder: &Path) {
    let text =
        "The ferry to Gullsay leaves from berth two at a quarter past six. Please have your tickets ready. ".repeat(8);
    std::fs::write(folder.join("text"), text).unwrap();
    run(folder, "flite -voice slt -f text -o once.wav");
    let once = std::fs::read(folder.join("once.wav")).unwrap();
    let (samples, _) = decode_all(&once, Format::new(Codec::Wav, RATE)).unwrap();
    let all: Vec<f32> = samples.into_iter().cycle().take(LENGTH * RATE as usize).collect();
    std::fs::write(folder.join("in.wav"), encode_all(&all, Format::new(Codec::Wav, RATE)).unwrap()).unwrap();
}

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    speech(folder);
    for line in [
        "lame --quiet -b 48 in.wav in.mp3",
        "opusenc --quiet --bitrate 24 in.wav in.opus",
        "flac -s -f in.wav -o in.flac",
    ] {
        run(folder, line);
    }
    let wav = Format::new(Codec::Wav, RATE);
    let pcm = |rate| Format::new(Codec::Pcm, rate);
    let at = |codec, bitrate| Format { bitrate: Some(bitrate), ..Format::new(codec, RATE) };
    let source = sound(&std::fs::read(folder.join("in.wav")).unwrap(), wav);
    let mut report = Vec::new();
    println!(
        "{:<22} {:>9} {:>9} {:>6} {:>5} {:>9} {:>9} {:>6}",
        "", "ours", "theirs", "ratio", "goal", "", "", "ratio"
    );
    for (what, line, file, from, to, goal) in [
        ("MP3 encode, 48 kbit/s", "lame --quiet -b 48 in.wav out.mp3", "in.wav", wav, at(Codec::Mp3, 48_000), 0.9),
        (
            "Opus encode, 24 kbit/s",
            "opusenc --quiet --bitrate 24 in.wav out.opus",
            "in.wav",
            wav,
            at(Codec::OggOpus, 24_000),
            0.7,
        ),
        (
            "Opus decode",
            "opusdec --quiet --force-wav in.opus out.wav",
            "in.opus",
            Format::new(Codec::OggOpus, 48_000),
            pcm(48_000),
            0.5,
        ),
        ("resample 16 to 24 kHz", "sox in.wav -r 24000 out.wav", "in.wav", wav, pcm(24_000), 0.5),
        ("resample 16 to 8 kHz", "sox in.wav -r 8000 out.wav", "in.wav", wav, pcm(8_000), 0.5),
        ("FLAC decode", "flac -s -d -f in.flac -o out.wav", "in.flac", Format::new(Codec::Flac, RATE), pcm(RATE), 0.9),
        (
            "MP3 decode",
            "lame --quiet --decode in.mp3 out.wav",
            "in.mp3",
            Format::new(Codec::Mp3, RATE),
            pcm(RATE),
            0.95,
        ),
        ("FLAC encode", "flac -s -f in.wav -o out.flac", "in.wav", wav, Format::new(Codec::Flac, RATE), 1.0),
    ] {
        let mut made = Vec::new();
        let (mut mine, mut theirs) = (f64::INFINITY, f64::INFINITY);
        for _ in 0..ROUNDS {
            mine = mine.min(mean(|| {
                let seconds;
                (seconds, made) = ours(folder, file, from, to);
                seconds
            }));
            theirs = theirs.min(mean(|| command(folder, line)));
        }
        let ratio = mine / theirs;
        let made = sound(&made, to);
        let file = folder.join(line.split_whitespace().find(|word| word.starts_with("out.")).unwrap());
        let coding = if to.codec == Codec::Pcm { wav } else { to };
        let reference = sound(&std::fs::read(file).unwrap(), coding);
        let [far, farther] = [&made, &reference].map(|made| log_spectral_distance(&source, made));
        // Without loss both are nothing.
        let apart = if farther < 1e-6 && far < 1e-6 { 1.0 } else { far / farther };
        println!(
            "{what:<22} {mine:>7.3} s {theirs:>7.3} s {ratio:>6.2} {goal:>5} {far:>6.3} dB {farther:>6.3} dB {apart:>6.3}"
        );
        report.push(json!({
            "what": what, "ours_s": mine, "theirs_s": theirs, "ratio": ratio, "goal": goal, "command": line,
            "distance_db": far, "their_distance_db": farther, "distance_ratio": apart,
        }));
    }
    println!("{}", serde_json::Value::from(report));
}
