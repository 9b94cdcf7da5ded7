//! Utterances that are answered whole, built in a file: with a true length in
//! header and body, or inside JSON. Many answers at once must not be held in
//! memory.

use std::io::{self, BufWriter, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Format, Length, Meter};
use dispatcher_engines::AudioSource;
use dispatcher_gateway::{Caller, Gateway, GatewayError, Utterance};
use dispatcher_vault::random_token;

use super::links::Outlet;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::{Sink, Spool, storage_problem};
use crate::wire::{AudioAnswer, UtteranceAnswer, thousandths};

/// Bytes of audio that travels inside JSON.
pub(super) const MOST_AUDIO: u64 = 32 << 20;
/// Bytes that are encoded at once: whole groups of base64.
const GROUPS: usize = 48 << 10;

/// The answer in a file, which goes with it.
pub(crate) struct JsonFile {
    pub(crate) path: tempfile::TempPath,
    pub(crate) bytes: u64,
}

/// Collects the audio and writes the answer; half audio is an error and no answer.
///
/// # Errors
/// 406 where the audio is too long, 507 where the disk is full, and what broke the audio off.
pub(super) async fn answer(gateway: &Gateway, mut utterance: Utterance, spool: &Spool) -> Result<JsonFile, Problem> {
    let source = collected(&mut utterance, Spool { limit: MOST_AUDIO, ..spool.clone() }).await?;
    let cost = gateway.cost_of(&utterance.dispatch).await?.into();
    let folder = spool.folder.clone();
    let work = move || {
        let (mut audio, length) = opened(source, &folder, &utterance)?;
        let (told, mark) = marked(utterance.format, length.seconds());
        write(&mut audio, &folder, (described(utterance, told, cost), mark))
    };
    in_file(work).await
}

/// Collects the audio, keeps it for an app until a time, and writes the answer
/// with the link to it; half audio is an error and no answer.
///
/// # Errors
/// As [`whole`], and where the app has too many answers.
pub(super) async fn linked(
    gateway: &Gateway,
    mut utterance: Utterance,
    outlet: &Outlet<'_>,
    (caller, name, expires): (&Caller, String, i64),
) -> Result<JsonFile, Problem> {
    let source = collected(&mut utterance, outlet.spool.clone()).await?;
    let cost = gateway.cost_of(&utterance.dispatch).await?.into();
    let folder = outlet.spool.folder.clone();
    let (utterance, file, length) = in_file(move || {
        let (mut audio, length) = opened(source, &folder, &utterance)?;
        Ok((utterance, copied(&mut audio, &folder)?, length))
    })
    .await?;
    let audio = outlet.link_to(file, (utterance.format, length.seconds()), (caller, name, expires)).await?;
    written(&described(utterance, audio, cost), outlet.spool).await
}

/// An answer of JSON in a file.
pub(super) async fn written(answer: &impl serde::Serialize, spool: &Spool) -> Result<JsonFile, Problem> {
    let text = serde_json::to_vec(answer).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
    let folder = spool.folder.clone();
    in_file(move || copied(&mut text.as_slice(), &folder)).await
}

fn copied(from: &mut impl io::Read, folder: &Path) -> io::Result<JsonFile> {
    let (mut file, path) = tempfile::NamedTempFile::new_in(folder)?.into_parts();
    let bytes = io::copy(from, &mut file)?;
    Ok(JsonFile { path, bytes })
}

/// Collects the audio into a file that says its true length; half audio is an
/// error and no answer.
///
/// # Errors
/// 406 where the audio is larger than the service takes bodies, 507 where the
/// disk is full, and what broke the audio off.
pub(super) async fn whole(mut utterance: Utterance, spool: &Spool) -> Result<JsonFile, Problem> {
    let source = collected(&mut utterance, spool.clone()).await?;
    let folder = spool.folder.clone();
    let work = move || {
        let (mut audio, _) = opened(source, &folder, &utterance)?;
        copied(&mut audio, &folder)
    };
    in_file(work).await
}

pub(super) async fn in_file<T: Send + 'static>(
    work: impl FnOnce() -> io::Result<T> + Send + 'static,
) -> Result<T, Problem> {
    let written = tokio::task::spawn_blocking(work)
        .await
        .map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
    written.map_err(|error| storage_problem(&error, "the answer"))
}

async fn collected(utterance: &mut Utterance, spool: Spool) -> Result<AudioSource, Problem> {
    let mut sink = Sink::new(spool);
    while let Some(piece) = utterance.body.next().await {
        let piece = piece.map_err(|error| {
            let attempts = vec![error.0];
            Problem::from(GatewayError::AllFailed { dispatch: utterance.dispatch.clone(), attempts })
        })?;
        sink.push(&piece).await.map_err(|problem| match problem.status {
            413 => {
                let detail = "the audio is too long for this form of answer; ask for it as streamed audio, or as a job";
                Problem::new(ProblemKind::NotAcceptable, detail)
            }
            _ => problem,
        })?;
    }
    sink.finish().await
}

/// The audio in a file that says how long it is, and its length.
fn opened(source: AudioSource, folder: &Path, utterance: &Utterance) -> io::Result<(std::fs::File, Length)> {
    let mut file = match &source {
        AudioSource::Memory(bytes) => {
            let mut file = tempfile::tempfile_in(folder)?;
            file.write_all(bytes)?;
            file
        }
        AudioSource::File(path) => std::fs::OpenOptions::new().read(true).write(true).open(&***path)?,
    };
    utterance.body.completion().complete(&mut file)?;
    let length = measured(&mut file, utterance).unwrap_or_default();
    file.rewind()?;
    Ok((file, length))
}

fn measured(file: &mut std::fs::File, utterance: &Utterance) -> Option<Length> {
    file.rewind().ok()?;
    let mut meter = Meter::new(utterance.format).ok()?;
    let mut chunk = vec![0; 64 << 10];
    loop {
        match file.read(&mut chunk).ok()? {
            0 => return meter.finish().ok(),
            count => meter.push(&chunk[..count]).ok()?,
        }
    }
}

/// Audio of an answer that is not written yet; a mark holds its place.
pub(super) fn marked(format: Format, seconds: f64) -> (AudioAnswer, String) {
    let (mark, kind) = (random_token(&mut rand::rng()), format.media_type());
    let data_uri = format!("data:{kind};base64,{mark}");
    let (base64, data_uri) = (Some(mark.clone()), Some(data_uri));
    (AudioAnswer { kind, base64, data_uri, link: None, expires: None, duration: thousandths(seconds) }, mark)
}

fn described(utterance: Utterance, audio: AudioAnswer, cost: crate::wire::Amount) -> UtteranceAnswer {
    UtteranceAnswer {
        audio,
        words: utterance.words().iter().filter_map(|word| serde_json::to_value(word).ok()).collect(),
        marks: utterance
            .marks()
            .iter()
            .map(|(name, time)| serde_json::json!({"name": name, "time": thousandths(*time)}))
            .collect(),
        engine: utterance.engine,
        voice: utterance.voice,
        model: utterance.model,
        cost,
        fidelity: utterance.fidelity,
        warnings: utterance.warnings,
        dispatch: utterance.dispatch,
    }
}

/// Writes an answer, with the audio as base64 in place of its mark.
pub(super) fn write(
    audio: &mut std::fs::File,
    folder: &Path,
    (answer, mark): (impl serde::Serialize, String),
) -> io::Result<JsonFile> {
    let text = serde_json::to_string(&answer)?;
    let file = tempfile::NamedTempFile::new_in(folder)?;
    let mut out = BufWriter::new(file);
    for (number, part) in text.split(&mark).enumerate() {
        if number > 0 {
            encode(audio, &mut out)?;
        }
        out.write_all(part.as_bytes())?;
    }
    let mut file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
    let bytes = file.seek(SeekFrom::End(0))?;
    Ok(JsonFile { path: file.into_temp_path(), bytes })
}

/// The audio as base64 (RFC 4648, section 4), group by group.
fn encode(audio: &mut std::fs::File, out: &mut impl io::Write) -> io::Result<()> {
    audio.rewind()?;
    let mut chunk = Vec::with_capacity(GROUPS);
    loop {
        chunk.clear();
        io::Read::by_ref(audio).take(GROUPS as u64).read_to_end(&mut chunk)?;
        out.write_all(STANDARD.encode(&chunk).as_bytes())?;
        if chunk.len() < GROUPS {
            return Ok(());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn audio_of_any_length_is_one_base64_text() {
        for length in [0, 1, 2, 3, GROUPS - 1, GROUPS, GROUPS + 1, 3 * GROUPS + 2] {
            let bytes: Vec<u8> = (0..length).map(|n| (n % 251) as u8).collect();
            let mut file = tempfile::tempfile().expect("a file");
            file.write_all(&bytes).expect("written");
            let mut out = Vec::new();
            encode(&mut file, &mut out).expect("encoded");
            assert_eq!(STANDARD.decode(out).expect("base64"), bytes, "{length}");
        }
    }
}
