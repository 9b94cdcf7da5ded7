//! Several files, one behind the other, as one.

use std::fs::File;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use dispatcher_audio::{Format, Joiner, Joint, Tags};
use indicatif::ProgressBar;
use serde_json::json;

use super::look::{self, Looked};
use super::{Done, asked, each_chunk, levelled, made, open, progress, tags, unreadable, wanted, write_aside};
use crate::args::ConvertArgs;
use crate::error::CliError;
use crate::files::Existing;
use crate::output::{self, OutputForm};

pub(super) fn run(args: &ConvertArgs, inputs: &[PathBuf], last: &Path, form: OutputForm) -> Result<(), CliError> {
    let bar = progress(inputs)?;
    let mut parts = inputs
        .iter()
        .map(|input| {
            let mut file = open(input)?;
            let looked = look::look(input, &mut file, args)?;
            bar.suspend(|| look::warn(input, &looked));
            Ok(JoinInput { input, file, looked })
        })
        .collect::<Result<Vec<_>, CliError>>()?;
    let piped = last.as_os_str() == "-";
    let to = wanted(args, (!piped).then_some(last), &parts[0].looked)?;
    if piped {
        let mut out = std::io::stdout().lock();
        join(args, &mut parts, to, &bar, &mut |bytes| Ok(out.write_all(bytes)?))?;
        out.flush()?;
        return Ok(());
    }
    let length = write_aside(last, Existing::with(args.force), |take| join(args, &mut parts, to, &bar, take))?;
    bar.finish_and_clear();
    let (made, value) = made(last, to, length);
    if form.is_json() {
        return output::print_json(&json!({"items": [value]}));
    }
    eprintln!("{made}");
    Ok(())
}

/// An input, open at its beginning.
struct JoinInput<'a> {
    input: &'a Path,
    file: File,
    looked: Looked,
}

/// What is asked to be done is done to each piece.
fn join(
    args: &ConvertArgs,
    parts: &mut [JoinInput<'_>],
    to: Format,
    bar: &ProgressBar,
    take: &mut dyn FnMut(&[u8]) -> Result<(), CliError>,
) -> Result<Done, CliError> {
    let failed = |error: dispatcher_audio::AudioError| CliError::Failed(error.to_string());
    let mut joiner = Joiner::new(to, Tags { provenance: None, ..tags(args, &parts[0].looked) }).map_err(failed)?;
    for (index, JoinInput { input, file, looked }) in parts.iter_mut().enumerate() {
        bar.set_message(input.display().to_string());
        if index > 0 {
            take(&joiner.silence(args.gap.unwrap_or(0.0)).map_err(failed)?)?;
        }
        let effects = levelled(args.loudness, asked(args)?, file, input, looked)?;
        let joint = Joint { effects, any_length: args.any_length, ..Joint::default() };
        joiner.begin(looked.format, joint).map_err(unreadable(input))?;
        each_chunk(file, input, bar, |chunk| take(&joiner.push(chunk).map_err(unreadable(input))?))?;
        take(&joiner.end().map_err(unreadable(input))?)?;
    }
    take(&joiner.finish().map_err(failed)?)?;
    Ok(Done { length: joiner.length(), start: joiner.start() })
}
