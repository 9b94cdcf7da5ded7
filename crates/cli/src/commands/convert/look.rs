//! Looking at files: what they are, how long, and what they say of themselves.

use std::fs::File;
use std::io::{Read as _, Seek as _};
use std::path::Path;

use dispatcher_audio::{
    AudioError, Codec, Effects, Format, Layout, Length, Meter, Peaks, START_BYTES, Tags, recognise,
};
use dispatcher_gateway::salvage;
use serde_json::{Value, json};

use super::{CHUNK, named, open, samples_of, unreadable};
use crate::args::ConvertArgs;
use crate::error::CliError;
use crate::output::{self, OutputForm};

/// Audio that was looked at: what it is, and how long.
pub(super) struct Looked {
    pub(super) format: Format,
    pub(super) layout: Layout,
    pub(super) length: Length,
    pub(super) tags: Tags,
    /// One stream follows another in it.
    pub(super) chained: bool,
    bytes: u64,
    mislabelled: bool,
    /// What is wrong with it, where only a part of it could be read.
    damage: Vec<String>,
}

/// Looks at a file. Of a damaged one what can be read takes its place, with a
/// warning, unless `strict` is asked for.
pub(super) fn look(path: &Path, file: &mut File, args: &ConvertArgs) -> Result<Looked, CliError> {
    let failed = named(path);
    let told = told(path, args)?;
    let fault = match look_once(path, file, told, args.any_length)? {
        Ok(looked) => return Ok(looked),
        Err(fault) => fault,
    };
    let refused = |fault: AudioError| match fault {
        AudioError::Unrecognised(_) => {
            let advice = "raw samples need --type, such as --type 'audio/pcm;rate=16000'";
            CliError::Failed(format!("{}: {fault}; {advice}", path.display()))
        }
        fault => unreadable(path)(fault),
    };
    if args.strict || matches!(fault, AudioError::TooLong { .. }) {
        return Err(refused(fault));
    }
    let salvaged = match salvage(file, told, &fault, None).map_err(&failed)? {
        Ok(salvaged) => salvaged,
        Err(_) => return Err(refused(fault)),
    };
    *file = salvaged.file.reopen().map_err(&failed)?;
    let looked = look_once(path, file, None, args.any_length)?.map_err(refused)?;
    Ok(Looked { damage: salvaged.warnings, ..looked })
}

/// What the file is by its name, or as it is told.
fn told(path: &Path, args: &ConvertArgs) -> Result<Option<Format>, CliError> {
    Ok(match args.kind.as_deref() {
        Some(told) => Some(Format::parse(told).map_err(unreadable(path))?),
        None => path
            .extension()
            .and_then(|extension| Codec::from_extension(extension.to_str()?))
            .map(|codec| Format::named(codec.extension()).unwrap_or_else(|_| Format::new(codec, 24_000))),
    })
}

/// The inner error where the audio is not whole.
fn look_once(
    path: &Path,
    file: &mut File,
    told: Option<Format>,
    any_length: bool,
) -> Result<Result<Looked, AudioError>, CliError> {
    let failed = named(path);
    let mut start = Vec::new();
    file.take(START_BYTES as u64).read_to_end(&mut start).map_err(&failed)?;
    file.rewind().map_err(&failed)?;
    let format = match recognise(&start, told) {
        Ok(format) => format,
        Err(fault) => return Ok(Err(fault)),
    };
    let mut meter = Meter::new(format).map_err(unreadable(path))?;
    if any_length {
        meter = meter.any_length();
    }
    let mut chunk = vec![0; CHUNK];
    loop {
        match file.read(&mut chunk).map_err(&failed)? {
            0 => break,
            count => {
                if let Err(fault) = meter.push(&chunk[..count]) {
                    return Ok(Err(fault));
                }
            }
        }
    }
    let length = match meter.finish() {
        Ok(length) => length,
        Err(fault) => return Ok(Err(fault)),
    };
    let Some(layout) = meter.layout() else { return Ok(Err(AudioError::Empty)) };
    let bytes = file.metadata().map_err(&failed)?.len();
    file.rewind().map_err(&failed)?;
    let by_name = told.filter(|told| told.codec != format.codec);
    let mislabelled =
        by_name.is_some_and(|told| told.codec.extension() != format.codec.extension() && !in_ogg(told, format));
    let format = Format { rate: layout.rate, channels: layout.channels, ..format };
    let (tags, chained) = (meter.tags(), meter.is_chained());
    Ok(Ok(Looked { format, layout, length, tags, chained, bytes, mislabelled, damage: Vec::new() }))
}

/// Files in Ogg go by one name whatever is in them.
fn in_ogg(told: Format, found: Format) -> bool {
    told.codec == Codec::OggOpus && matches!(found.codec, Codec::OggVorbis | Codec::OggFlac)
}

/// What a file is, for people and for programs.
fn describe(path: &Path, looked: &Looked) -> (Vec<String>, Value) {
    let seconds = looked.length.seconds();
    let bits = if seconds > 0.0 { (looked.bytes as f64 * 8.0 / seconds).round() as u64 } else { 0 };
    let channels = match looked.layout.channels {
        1 => "mono".to_owned(),
        2 => "stereo".to_owned(),
        count => format!("{count} channels"),
    };
    let row = vec![
        path.display().to_string(),
        looked.format.codec.to_string(),
        format!("{} Hz", looked.layout.rate),
        channels,
        format!("{seconds:.3} s"),
        format!("{bits} bit/s"),
    ];
    let value = json!({
        "file": path.display().to_string(), "coding": looked.format.codec.to_string(), "type": looked.format.media_type(),
        "sample_rate": looked.layout.rate, "channels": looked.layout.channels, "duration": (seconds * 1_000.0).round() / 1_000.0,
        "frames": looked.length.frames, "bytes": looked.bytes, "bitrate": bits, "tags": looked.tags,
    });
    (row, value)
}

pub(super) fn show(args: &ConvertArgs, form: OutputForm) -> Result<(), CliError> {
    let mut rows = Vec::new();
    let mut values = Vec::new();
    let mut notes = Vec::new();
    for path in &args.paths {
        let mut file = open(path)?;
        let looked = look(path, &mut file, args)?;
        warn(path, &looked);
        let (row, mut value) = describe(path, &looked);
        if let Some(count) = args.peaks {
            value["peaks"] = peaks(path, &mut file, &looked, count.into())?;
        }
        rows.push(row);
        notes.extend(said(path, &looked.tags).filter(|_| !form.is_json()));
        values.push(value);
    }
    if form.is_json() {
        return output::print_json(&json!({"items": values}));
    }
    let head = ["file", "coding", "sample rate", "channels", "duration", "bit rate"];
    let table = output::table(&head, rows, &[2, 4, 5]);
    output::print(&[vec![table], notes].concat().join("\n\n"))
}

/// The metadata of a file, for people; empty if it has none.
fn said(path: &Path, tags: &Tags) -> Option<String> {
    let synthetic = tags.synthetic.then_some("synthetic: yes".to_owned());
    let named = [
        ("title", &tags.title),
        ("track", &tags.track),
        ("language", &tags.language),
        ("engine", &tags.engine),
        ("voice", &tags.voice),
        ("date", &tags.date),
    ];
    let lines = named.into_iter().filter_map(|(name, value)| Some(format!("{name}: {}", value.as_ref()?)));
    let lines: Vec<String> = lines.chain(synthetic).map(|line| format!("  {line}")).collect();
    (!lines.is_empty()).then(|| format!("Tags of {}\n{}", path.display(), lines.join("\n")))
}

/// The outline of the audio: the lowest and highest sample of each part.
fn peaks(path: &Path, file: &mut File, looked: &Looked, count: usize) -> Result<Value, CliError> {
    let mut peaks = Peaks::new(looked.layout.channels.min(2), count);
    file.rewind().map_err(named(path))?;
    samples_of(file, path, looked, Effects::default(), |samples| {
        peaks.push(samples);
        Ok(())
    })?;
    let (parts, frames) = peaks.finish();
    let rounded = |sample: f32| (f64::from(sample) * 10_000.0).round() / 10_000.0;
    let parts: Vec<[f64; 2]> = parts.into_iter().map(|part| part.map(rounded)).collect();
    Ok(json!({"frames_each": frames, "parts": parts}))
}

pub(super) fn warn(path: &Path, looked: &Looked) {
    for damage in &looked.damage {
        eprintln!("{} {}: {damage}", output::paint("warning:", output::Colour::Warn), path.display());
    }
    if looked.mislabelled {
        let note = format!("{} contains {}, unlike its name", path.display(), looked.format.codec);
        eprintln!("{} {note}", output::paint("warning:", output::Colour::Warn));
    }
}
