//! The samples of a long recording in a file of their own, of which parts are cut.

use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Layout, Levels, Transcoder, wav_header};
use dispatcher_engines::AudioSource;

/// A file that stays when nobody reads it any more.
pub(super) fn lasting(path: PathBuf) -> std::io::Result<AudioSource> {
    let mut path = tempfile::TempPath::try_from_path(path)?;
    path.disable_cleanup(true);
    Ok(AudioSource::File(Arc::new(path)))
}

/// Writes the samples of a recording into a file (mono, 16 bits,
/// little-endian), and gives its levels.
pub(super) fn lay_out(source: &AudioSource, from: Format, rate: u32, path: &Path) -> Result<Levels, String> {
    let io = |error: std::io::Error| format!("the samples of the recording: {error}");
    let mut reader: Box<dyn std::io::Read> = match source {
        AudioSource::Memory(bytes) => Box::new(std::io::Cursor::new(bytes.clone())),
        AudioSource::File(path) => Box::new(std::fs::File::open(&***path).map_err(io)?),
    };
    let mut file = std::io::BufWriter::new(std::fs::File::create(path).map_err(io)?);
    let mut transcoder = Transcoder::new(from, Format::new(Codec::Pcm, rate)).map_err(|error| error.to_string())?;
    let mut levels = Levels::new(rate);
    let mut odd = Vec::new();
    let mut take = |made: &[u8]| -> Result<(), String> {
        file.write_all(made).map_err(io)?;
        odd.extend_from_slice(made);
        let pairs = odd.as_chunks::<2>().0;
        let samples: Vec<f32> = pairs.iter().map(|pair| f32::from(i16::from_le_bytes(*pair)) / 32_768.0).collect();
        levels.push(&samples);
        odd.drain(..samples.len() * 2);
        Ok(())
    };
    let mut chunk = vec![0; 64 << 10];
    loop {
        let count = reader.read(&mut chunk).map_err(io)?;
        if count == 0 {
            break;
        }
        let made = transcoder.push(&Bytes::copy_from_slice(&chunk[..count])).map_err(|error| error.to_string())?;
        take(&made)?;
    }
    take(&transcoder.finish().map_err(|error| error.to_string())?)?;
    file.flush().map_err(io)?;
    Ok(levels)
}

/// A part of the samples as a WAVE file.
pub(super) fn cut_out(path: &Path, rate: u32, from: f64, to: f64) -> std::io::Result<AudioSource> {
    let at = |seconds: f64| (seconds * f64::from(rate)).round() as u64 * 2;
    let mut samples = std::fs::File::open(path)?;
    let length = samples.metadata()?.len();
    let (start, end) = (at(from).min(length), at(to).min(length));
    samples.seek(SeekFrom::Start(start))?;
    let mut file = tempfile::Builder::new().suffix(".wav").tempfile_in(path.parent().unwrap_or(Path::new(".")))?;
    let bytes = u32::try_from(end - start).map_err(std::io::Error::other)?;
    file.write_all(&wav_header(Layout { rate, channels: 1 }, Some(bytes)))?;
    std::io::copy(&mut samples.take(end - start), &mut file)?;
    Ok(AudioSource::File(Arc::new(file.into_temp_path())))
}
