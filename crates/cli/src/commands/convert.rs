//! `dispatcher convert`: audio files to another format, without the service.

use std::fs::File;
use std::io::{IsTerminal as _, Read, Seek as _, Write};
use std::path::{Path, PathBuf};

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Effects, Format, Layout, Length, LoudnessMeter, Meter, Transcoder, sniff};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::{Value, json};

use crate::args::ConvertArgs;
use crate::error::CliError;
use crate::{files, output};

/// Bytes read at once.
const CHUNK: usize = 64 << 10;
/// So many first bytes tell what a file is.
const START: usize = 4 << 10;

/// Audio that was looked at: what it is, and how long.
struct Looked {
    format: Format,
    layout: Layout,
    length: Length,
    bytes: u64,
    mislabelled: bool,
}

fn unreadable(path: &Path) -> impl FnOnce(AudioError) -> CliError {
    let path = path.to_owned();
    move |error| CliError::Failed(format!("{}: {error}", path.display()))
}

fn named(path: &Path) -> impl Fn(std::io::Error) -> CliError {
    let path = path.to_owned();
    move |source| CliError::File { path: path.clone(), source }
}

/// Opens a file, or takes standard input whole into a temporary one.
fn open(path: &Path) -> Result<File, CliError> {
    if path.as_os_str() != "-" {
        return File::open(path).map_err(named(path));
    }
    let mut file = tempfile::tempfile()?;
    std::io::copy(&mut std::io::stdin().lock(), &mut file)?;
    file.rewind()?;
    Ok(file)
}

fn look(path: &Path, file: &mut File, told: Option<&str>) -> Result<Looked, CliError> {
    let failed = named(path);
    let mut start = Vec::new();
    file.take(START as u64).read_to_end(&mut start).map_err(&failed)?;
    file.rewind().map_err(&failed)?;
    let told = match told {
        Some(told) => Some(Format::parse(told).map_err(unreadable(path))?),
        None => path
            .extension()
            .and_then(|extension| Codec::from_extension(extension.to_str()?))
            .map(|codec| Format::named(codec.extension()).unwrap_or_else(|_| Format::new(codec, 24_000))),
    };
    let found = sniff(&start);
    let format = match (found, told) {
        (Some(codec), _) => Format::new(codec, 24_000),
        (None, Some(told)) if !told.codec.describes_itself() => told,
        _ => {
            let error = dispatcher_audio::measure(&start, None).err().unwrap_or(AudioError::Empty);
            return Err(CliError::Failed(format!(
                "{}: {error}; raw samples need --type, such as --type 'audio/pcm;rate=16000'",
                path.display()
            )));
        }
    };
    let mut meter = Meter::new(format).map_err(unreadable(path))?;
    let mut chunk = vec![0; CHUNK];
    loop {
        match file.read(&mut chunk).map_err(&failed)? {
            0 => break,
            count => meter.push(&chunk[..count]).map_err(unreadable(path))?,
        }
    }
    let length = meter.finish().map_err(unreadable(path))?;
    let layout = meter.layout().ok_or_else(|| unreadable(path)(AudioError::Empty))?;
    let bytes = file.metadata().map_err(&failed)?.len();
    file.rewind().map_err(&failed)?;
    let by_name = told.filter(|told| found.is_some_and(|found| found != told.codec));
    let mislabelled =
        by_name.is_some_and(|told| told.codec.extension() != format.codec.extension() && !in_ogg(told, format));
    Ok(Looked { format: format.with_rate(layout.rate), layout, length, bytes, mislabelled })
}

/// Files in Ogg go by one name whatever is in them.
fn in_ogg(told: Format, found: Format) -> bool {
    told.codec == Codec::OggOpus && matches!(found.codec, Codec::OggVorbis | Codec::OggFlac)
}

/// The format to write: what is asked for, and otherwise as the sound is.
fn wanted(args: &ConvertArgs, output: Option<&Path>, looked: &Looked) -> Result<Format, CliError> {
    let by_name = output.and_then(|path| path.extension()?.to_str());
    let name = args.format.as_deref().or(by_name).ok_or_else(|| {
        CliError::Usage("nothing tells the format; name the file with its extension, or give --format".into())
    })?;
    let named = Format::named(name).map_err(|error| CliError::Usage(error.to_string()))?;
    // A profile and a telephone coding have a rate of their own.
    let own = dispatcher_audio::Profile::find(name).is_some() || named.rate == 8_000 || name.contains("rate=");
    let rates = named.codec.rates();
    let kept = rates.iter().copied().find(|rate| *rate >= looked.layout.rate).or(rates.last().copied());
    let rate = args.sample_rate.unwrap_or(if own { named.rate } else { kept.unwrap_or(named.rate) });
    let telephone = own && named.codec == Codec::Mulaw;
    let channels = args.channels.unwrap_or(if telephone { 1 } else { looked.layout.channels.min(2) });
    let format = Format { rate, channels, bitrate: args.bitrate.or(named.bitrate), ..named };
    format.check_output().map_err(|error| CliError::Usage(error.to_string()))?;
    Ok(format)
}

/// What to make of one file.
#[derive(Clone, Copy)]
struct Job<'a> {
    input: &'a Path,
    from: Format,
    to: Format,
    effects: Effects,
}

/// What is asked to be done to the sound; loudness becomes a gain, for which
/// the sound is measured first.
fn effects(
    args: &ConvertArgs,
    file: &mut File,
    input: &Path,
    looked: &Looked,
    to: Format,
) -> Result<Effects, CliError> {
    let mut effects =
        Effects { start: args.start, end: args.end, trim: args.trim, speed: args.speed, pitch: args.pitch, gain: None };
    effects.check().map_err(|error| CliError::Usage(error.to_string()))?;
    let Some(target) = args.loudness else { return Ok(effects) };
    if !(-70.0..=0.0).contains(&target) {
        return Err(CliError::Usage(format!("loudness {target} is outside -70 to 0")));
    }
    let raw = Format { channels: to.channels, bitrate: None, ..Format::new(Codec::Pcm, looked.layout.rate) };
    let layout = Layout { rate: raw.rate, channels: raw.channels };
    let mut meter = LoudnessMeter::new(layout).map_err(unreadable(input))?;
    let mut samples = Vec::new();
    let job = Job { input, from: looked.format, to: raw, effects };
    transcode(file, &job, &ProgressBar::hidden(), |pcm| {
        samples.clear();
        samples.extend(pcm.chunks_exact(2).map(|pair| f32::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_768.0));
        meter.push(&samples).map_err(unreadable(input))
    })?;
    file.rewind().map_err(named(input))?;
    effects.gain = Some(meter.finish().map_err(unreadable(input))?.gain_to(target).clamp(-60.0, 60.0));
    Ok(effects)
}

fn transcode(
    from: &mut File,
    job: &Job<'_>,
    bar: &ProgressBar,
    mut take: impl FnMut(&[u8]) -> Result<(), CliError>,
) -> Result<Length, CliError> {
    let failed = |error| unreadable(job.input)(error);
    let mut transcoder = Transcoder::with_effects(job.from, job.to, job.effects).map_err(failed)?;
    loop {
        let mut chunk = Vec::with_capacity(CHUNK);
        if from.take(CHUNK as u64).read_to_end(&mut chunk).map_err(named(job.input))? == 0 {
            break;
        }
        bar.inc(chunk.len() as u64);
        take(&transcoder.push(&Bytes::from(chunk)).map_err(failed)?)?;
    }
    take(&transcoder.finish().map_err(failed)?)?;
    Ok(transcoder.length())
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
        "rate": looked.layout.rate, "channels": looked.layout.channels, "length": (seconds * 1_000.0).round() / 1_000.0,
        "frames": looked.length.frames, "bytes": looked.bytes, "bitrate": bits,
    });
    (row, value)
}

fn show(args: &ConvertArgs, json: bool) -> Result<(), CliError> {
    let mut rows = Vec::new();
    let mut values = Vec::new();
    for path in &args.paths {
        let looked = look(path, &mut open(path)?, args.kind.as_deref())?;
        warn(path, &looked);
        let (row, value) = describe(path, &looked);
        rows.push(row);
        values.push(value);
    }
    if json {
        return output::print_json(&json!({"items": values}));
    }
    let head = ["file", "coding", "rate", "channels", "length", "bit rate"];
    output::print(&output::table(&head, rows, &[2, 4, 5]))
}

fn warn(path: &Path, looked: &Looked) {
    if looked.mislabelled {
        let note = format!("{} is {} in spite of its name", path.display(), looked.format.codec);
        eprintln!("{} {note}", output::paint("warning:", output::Colour::Warn));
    }
}

pub(crate) fn run(args: &ConvertArgs, json: bool) -> Result<(), CliError> {
    if args.show {
        return show(args, json);
    }
    let Some((last, inputs)) = args.paths.split_last().filter(|(_, inputs)| !inputs.is_empty()) else {
        return Err(CliError::Usage("name the file to convert and the file to write, or give --show".into()));
    };
    let folder = last.is_dir() || last.to_string_lossy().ends_with('/');
    if inputs.len() > 1 && !folder {
        return Err(CliError::Usage(format!("{} files cannot become one; name a folder, ending in /", inputs.len())));
    }
    if let Some((one, other)) = clash(inputs).filter(|_| folder) {
        return Err(CliError::Usage(format!(
            "{} and {} would become one file; convert them into folders of their own",
            one.display(),
            other.display()
        )));
    }
    if folder {
        std::fs::create_dir_all(last).map_err(named(last))?;
    }
    let bar = progress(inputs)?;
    let mut values = Vec::new();
    for input in inputs {
        bar.set_message(input.display().to_string());
        let mut file = open(input)?;
        let looked = look(input, &mut file, args.kind.as_deref())?;
        bar.suspend(|| warn(input, &looked));
        let format = wanted(args, (!folder && last.as_os_str() != "-").then_some(last), &looked)?;
        let effects = effects(args, &mut file, input, &looked, format)?;
        let job = Job { input, from: looked.format, to: format, effects };
        if !folder && last.as_os_str() == "-" {
            let mut out = std::io::stdout().lock();
            transcode(&mut file, &job, &bar, |bytes| Ok(out.write_all(bytes)?))?;
            out.flush()?;
            continue;
        }
        let path = if folder { beside(last, input, format) } else { last.clone() };
        let length = write_aside(&mut file, &path, &job, args.force, &bar)?;
        let made = format!("{}  {}  {:.3} s", path.display(), format.media_type(), length.seconds());
        values
            .push(json!({"file": path.display().to_string(), "type": format.media_type(), "length": length.seconds()}));
        if !json {
            bar.suspend(|| eprintln!("{made}"));
        }
    }
    bar.finish_and_clear();
    if json && !values.is_empty() { output::print_json(&json!({"items": values})) } else { Ok(()) }
}

/// Two inputs whose outputs would have one name.
fn clash(inputs: &[PathBuf]) -> Option<(&PathBuf, &PathBuf)> {
    let same = |one: &PathBuf, other: &PathBuf| one.file_stem() == other.file_stem();
    inputs.iter().enumerate().find_map(|(at, one)| Some((one, inputs[at + 1..].iter().find(|other| same(one, other))?)))
}

fn beside(folder: &Path, input: &Path, format: Format) -> PathBuf {
    let stem = input.file_stem().filter(|stem| *stem != "-").map_or("audio".into(), |stem| stem.to_string_lossy());
    folder.join(format!("{stem}.{}", format.codec.extension()))
}

fn progress(inputs: &[PathBuf]) -> Result<ProgressBar, CliError> {
    let total = inputs.iter().filter_map(|path| std::fs::metadata(path).ok()).map(|data| data.len()).sum();
    if !std::io::stderr().is_terminal() {
        return Ok(ProgressBar::hidden());
    }
    let style = ProgressStyle::with_template("{bar:30} {bytes}/{total_bytes}  {msg}")
        .map_err(|error| CliError::Failed(error.to_string()))?;
    Ok(ProgressBar::new(total).with_style(style))
}

/// Writes aside and renames, so that a failure leaves no half file behind.
fn write_aside(
    from: &mut File,
    path: &Path,
    job: &Job<'_>,
    force: bool,
    bar: &ProgressBar,
) -> Result<Length, CliError> {
    if path.exists() && !force {
        return Err(CliError::Exists(path.into()));
    }
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut aside = tempfile::NamedTempFile::new_in(folder).map_err(named(path))?;
    let length = transcode(from, job, bar, |bytes| aside.as_file_mut().write_all(bytes).map_err(named(path)))?;
    files::mend(aside.path()).map_err(named(path))?;
    files::persist(aside, path, force)?;
    Ok(length)
}
