//! `dispatcher convert`: audio files to another format, without the service.

mod join;
mod look;

use std::fs::File;
use std::io::{IsTerminal as _, Read as _, Seek as _, Write as _};
use std::path::{Path, PathBuf};

use bytes::Bytes;
use dispatcher_audio::{
    AudioError, Codec, Edge, Effects, Format, Layout, Length, LoudnessMeter, Options, Tags, Transcoder,
};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::{Value, json};

use self::look::Looked;
use crate::args::ConvertArgs;
use crate::error::CliError;
use crate::files::Existing;
use crate::output::OutputForm;
use crate::{files, output};

/// Bytes read at once.
const CHUNK: usize = 64 << 10;

fn unreadable(path: &Path) -> impl FnOnce(AudioError) -> CliError {
    let path = path.to_owned();
    move |error| {
        let hint = if matches!(error, AudioError::TooLong { .. }) { " (--any-length)" } else { "" };
        CliError::Failed(format!("{}: {error}{hint}", path.display()))
    }
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

/// The format to write: what is asked for, and otherwise as the audio is.
fn wanted(args: &ConvertArgs, output: Option<&Path>, looked: &Looked) -> Result<Format, CliError> {
    let by_name = output.and_then(|path| path.extension()?.to_str());
    let name = args.format.as_deref().or(by_name).ok_or_else(|| {
        CliError::Usage("nothing tells the format; name the file with its extension, or give --format".into())
    })?;
    let named = Format::named(name).map_err(|error| CliError::Usage(error.to_string()))?;
    // A preset and a telephone coding have a rate of their own.
    let own = dispatcher_audio::Preset::find(name).is_some() || named.rate == 8_000 || name.contains("rate=");
    let rates = named.codec.rates();
    let kept = rates.iter().copied().find(|rate| *rate >= looked.layout.rate).or(rates.last().copied());
    let rate = args.sample_rate.unwrap_or(if own { named.rate } else { kept.unwrap_or(named.rate) });
    let telephone = own && named.codec == Codec::Mulaw;
    let channels = args.channels.unwrap_or(if telephone { 1 } else { looked.layout.channels.min(2) });
    let bitrate = if args.vbr { None } else { args.bitrate.or(named.bitrate) };
    let format = Format { rate, channels, bitrate, vbr: args.vbr || named.vbr, ..named };
    format.check_output().map_err(|error| CliError::Usage(error.to_string()))?;
    Ok(format)
}

/// What to make of one file.
struct Job<'a> {
    input: &'a Path,
    from: Format,
    to: Format,
    options: Options,
}

/// What is asked to be done to the audio, but for its loudness.
fn asked(args: &ConvertArgs) -> Result<Effects, CliError> {
    let effects = Effects {
        start: args.start,
        end: args.end,
        edges: if args.trim { (Edge::Trim, Edge::Trim) } else { Default::default() },
        speed: args.rate,
        pitch: args.pitch,
        keep_formants: args.keep_formants,
        gain: args.gain,
        fade_in: args.fade_in,
        fade_out: args.fade_out,
        pad_start: args.pad_start,
        pad_end: args.pad_end,
    };
    effects.check().map_err(|error| CliError::Usage(error.to_string()))?;
    match args.loudness {
        Some(target) if !(-70.0..=0.0).contains(&target) => {
            Err(CliError::Usage(format!("loudness {target} is outside -70 to 0")))
        }
        _ => Ok(effects),
    }
}

/// Loudness becomes a gain, for which the audio is measured first.
fn levelled(
    target: Option<f64>,
    effects: Effects,
    file: &mut File,
    input: &Path,
    looked: &Looked,
) -> Result<Effects, CliError> {
    let Some(target) = target else { return Ok(effects) };
    let layout = Layout { rate: looked.layout.rate, channels: looked.layout.channels.min(2) };
    let mut meter = LoudnessMeter::new(layout).map_err(unreadable(input))?;
    let silent = Effects { pad_start: None, pad_end: None, ..effects };
    samples_of(file, input, looked, silent, |samples| meter.push(samples).map_err(unreadable(input)))?;
    file.rewind().map_err(named(input))?;
    let gain = meter.finish().map_err(unreadable(input))?.gain_to(target).clamp(-60.0, 60.0);
    Ok(Effects { gain: Some(gain), ..effects })
}

/// Hands over the audio of a file, decoded, at its own rate.
fn samples_of(
    file: &mut File,
    input: &Path,
    looked: &Looked,
    effects: Effects,
    mut take: impl FnMut(&[f32]) -> Result<(), CliError>,
) -> Result<(), CliError> {
    let to = Format { channels: looked.layout.channels.min(2), ..Format::new(Codec::Pcm, looked.layout.rate) };
    // Rates beyond the standard ones are read at the nearest that is written.
    let to = if to.check_output().is_ok() { to } else { to.with_rate(48_000) };
    let options = Options { effects, any_length: true, ..Options::default() };
    let job = Job { input, from: looked.format, to, options };
    let mut samples = Vec::new();
    transcode(file, &job, &ProgressBar::hidden(), |pcm| {
        samples.clear();
        samples.extend(pcm.chunks_exact(2).map(|pair| f32::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_768.0));
        take(&samples)
    })
    .map(drop)
}

/// How long the output is, and its first bytes as they must be once that is known.
struct Done {
    length: Length,
    start: Option<Bytes>,
}

/// Reads a file piece by piece.
fn each_chunk(
    file: &mut File,
    input: &Path,
    bar: &ProgressBar,
    mut take: impl FnMut(&Bytes) -> Result<(), CliError>,
) -> Result<(), CliError> {
    loop {
        let mut chunk = Vec::with_capacity(CHUNK);
        if file.take(CHUNK as u64).read_to_end(&mut chunk).map_err(named(input))? == 0 {
            return Ok(());
        }
        bar.inc(chunk.len() as u64);
        take(&Bytes::from(chunk))?;
    }
}

fn transcode(
    from: &mut File,
    job: &Job<'_>,
    bar: &ProgressBar,
    mut take: impl FnMut(&[u8]) -> Result<(), CliError>,
) -> Result<Done, CliError> {
    let failed = |error| unreadable(job.input)(error);
    let mut transcoder = Transcoder::with(job.from, job.to, job.options.clone()).map_err(failed)?;
    each_chunk(from, job.input, bar, |chunk| take(&transcoder.push(chunk).map_err(failed)?))?;
    take(&transcoder.finish().map_err(failed)?)?;
    Ok(Done { length: transcoder.length(), start: transcoder.start() })
}

/// What the output says of itself: what the input said, but for what is told.
fn tags(args: &ConvertArgs, looked: &Looked) -> Tags {
    let told = args.title.clone();
    Tags { title: told.or_else(|| looked.tags.title.clone()), ..looked.tags.clone() }
}

fn job<'a>(
    args: &ConvertArgs,
    input: &'a Path,
    file: &mut File,
    looked: &Looked,
    to: Format,
) -> Result<Job<'a>, CliError> {
    let effects = levelled(args.loudness, asked(args)?, file, input, looked)?;
    let mut tags = tags(args, looked);
    if effects.is_none() && tags == looked.tags && looked.format.satisfies(&to) {
        // It is what is wanted, tags and all.
        tags = Tags::default();
    }
    // It is the signature of the input.
    tags.provenance = None;
    let options = Options { effects, tags, any_length: args.any_length, decode: looked.chained };
    Ok(Job { input, from: looked.format, to, options })
}

pub(crate) fn run(args: &ConvertArgs, form: OutputForm) -> Result<(), CliError> {
    if args.show {
        return look::show(args, form);
    }
    let Some((last, inputs)) = args.paths.split_last().filter(|(_, inputs)| !inputs.is_empty()) else {
        return Err(CliError::Usage("name the file to convert and the file to write, or give --show".into()));
    };
    asked(args)?;
    let folder = last.is_dir() || last.to_string_lossy().ends_with('/');
    if args.join {
        if folder {
            return Err(CliError::Usage("--join makes one file; name it".into()));
        }
        return join::run(args, inputs, last, form);
    }
    if inputs.len() > 1 && !folder {
        return Err(CliError::Usage(format!(
            "{} files become one only with --join; otherwise name a folder, ending in /",
            inputs.len()
        )));
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
        let value = convert(args, input, last, folder, &bar)?;
        if let Some((made, value)) = value {
            values.push(value);
            if !form.is_json() {
                bar.suspend(|| eprintln!("{made}"));
            }
        }
    }
    bar.finish_and_clear();
    if form.is_json() && !values.is_empty() { output::print_json(&json!({"items": values})) } else { Ok(()) }
}

/// Converts one file; what was made, unless it went to standard output.
fn convert(
    args: &ConvertArgs,
    input: &Path,
    last: &Path,
    folder: bool,
    bar: &ProgressBar,
) -> Result<Option<(String, Value)>, CliError> {
    let mut file = open(input)?;
    let looked = look::look(input, &mut file, args)?;
    bar.suspend(|| look::warn(input, &looked));
    let piped = !folder && last.as_os_str() == "-";
    let to = wanted(args, (!folder && !piped).then_some(last), &looked)?;
    let job = job(args, input, &mut file, &looked, to)?;
    if piped {
        let mut out = std::io::stdout().lock();
        transcode(&mut file, &job, bar, |bytes| Ok(out.write_all(bytes)?))?;
        out.flush()?;
        return Ok(None);
    }
    let path = if folder { beside(last, input, to) } else { last.to_owned() };
    let length = write_aside(&path, Existing::with(args.force), |take| transcode(&mut file, &job, bar, take))?;
    Ok(Some(made(&path, to, length)))
}

/// What was made, for people and for programs.
fn made(path: &Path, format: Format, length: Length) -> (String, Value) {
    let (name, kind, seconds) = (path.display().to_string(), format.media_type(), length.seconds());
    (format!("{name}  {kind}  {seconds:.3} s"), json!({"file": name, "type": kind, "duration": seconds}))
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
    path: &Path,
    existing: Existing,
    make: impl FnOnce(&mut dyn FnMut(&[u8]) -> Result<(), CliError>) -> Result<Done, CliError>,
) -> Result<Length, CliError> {
    crate::files::check_target(path, existing)?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut aside = tempfile::NamedTempFile::new_in(folder).map_err(named(path))?;
    let done = make(&mut |bytes| aside.as_file_mut().write_all(bytes).map_err(named(path)))?;
    match done.start {
        Some(start) => {
            aside.as_file_mut().rewind().map_err(named(path))?;
            aside.as_file_mut().write_all(&start).map_err(named(path))?;
        }
        // What passed untouched may have been a stream.
        None => files::mend(aside.path()).map_err(named(path))?,
    }
    files::persist(aside, path, existing)?;
    Ok(done.length)
}
