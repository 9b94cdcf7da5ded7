//! What callers send as audio: found by its bytes, measured, and read as far
//! as it goes where it is damaged. What engines send is read strictly, and not
//! here.

use std::io::{Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::{
    AudioError, Codec, Depth, Format, Length, Levels, Meter, START_BYTES, Salvaged, Salvager, Transcoder, find_start,
    recognise,
};
use dispatcher_core::Usage;
use dispatcher_engines::{AudioSource, FetchedBody};

use crate::intake::hosts::check_host;
use crate::{Gateway, GatewayError, Unsupported};

/// Bytes that are read at once.
const CHUNK: usize = 64 << 10;
/// Bytes in which audio behind something else is looked for.
const SEARCHED: usize = (64 << 10) + START_BYTES;

/// Audio that was sent: spooled, and what its sender said it is.
#[derive(Debug, Clone)]
pub struct GivenAudio {
    pub source: AudioSource,
    pub told: Option<Format>,
}

/// What the audio is, found by looking at it.
#[derive(Debug, Clone)]
pub(crate) struct AudioInfo {
    pub(crate) format: Format,
    pub(crate) length: Length,
    pub(crate) bytes: u64,
    /// How its samples are stored, where that is plain.
    pub(crate) depth: Option<Depth>,
    /// The file does not say how long it is.
    pub(crate) open_ended: bool,
    /// What is wrong with it.
    pub(crate) warnings: Vec<String>,
}

impl AudioInfo {
    /// Plain samples of a length in seconds.
    pub(crate) fn of_samples(rate: u32, seconds: f64) -> AudioInfo {
        AudioInfo {
            format: Format::new(Codec::Pcm, rate),
            length: Length { frames: (seconds * f64::from(rate)) as u64, rate },
            bytes: (seconds * f64::from(2 * rate)) as u64,
            depth: None,
            open_ended: false,
            warnings: Vec::new(),
        }
    }

    pub(crate) fn usage(&self) -> Usage {
        Usage { characters: 0, bytes: 0, milliseconds: self.length.milliseconds() }
    }
}

/// A recording at an address has come in whole within this time.
const FETCHED_WITHIN: Duration = Duration::from_secs(600);

impl Gateway {
    /// The recording at an address of an allowed host, as it comes in.
    ///
    /// # Errors
    /// Where the host is not allowed, or there is no such recording.
    pub async fn fetch_recording(&self, address: &str, most: u64) -> Result<FetchedBody, GatewayError> {
        let host = &self.inner.host;
        let failed = |fault: String| GatewayError::Fetch { address: address.to_owned(), fault };
        check_host(address, &host.fetch_hosts, "fetch_hosts").map_err(failed)?;
        host.fetcher.open(address, most, FETCHED_WITHIN).await.map_err(|error| failed(error.detail))
    }
}

impl GivenAudio {
    /// Finds out what the audio is. Damaged audio becomes a WAV of what can be
    /// read of it, with a warning; it is refused where nothing may be adapted.
    ///
    /// # Errors
    /// When nothing of it is audio, or it is damaged and to be refused.
    pub(crate) async fn take(
        &self,
        gateway: &Gateway,
        unsupported: Unsupported,
    ) -> Result<(GivenAudio, AudioInfo), GatewayError> {
        let this = self.clone();
        gateway.in_turn(move || this.take_here(unsupported)).await?
    }

    fn take_here(&self, unsupported: Unsupported) -> Result<(GivenAudio, AudioInfo), GatewayError> {
        let mut skipped = 0;
        let fault = match self.probe(&mut skipped) {
            Ok(Ok(mut probed)) => {
                probed.warnings.extend(self.mislabelled(probed.format));
                return Ok((self.clone(), probed));
            }
            Ok(Err(fault)) => fault,
            Err(error) => return Err(unreadable(error)),
        };
        if unsupported == Unsupported::Refuse {
            return Err(GatewayError::NotAudio(fault));
        }
        match self.salvage(&fault) {
            Ok(Ok(salvaged)) => Ok(salvaged),
            // The first fault says more than that of the attempt to mend it.
            Ok(Err(_)) => Err(GatewayError::NotAudio(fault)),
            Err(error) => Err(unreadable(error)),
        }
    }

    fn open(&self) -> std::io::Result<Box<dyn ReadSeek>> {
        Ok(match &self.source {
            AudioSource::Memory(bytes) => Box::new(std::io::Cursor::new(bytes.clone())),
            AudioSource::File(path) => Box::new(std::fs::File::open(&***path)?),
        })
    }

    /// The audio as it is; the inner error where it is not whole.
    fn probe(&self, read: &mut u64) -> std::io::Result<Result<AudioInfo, AudioError>> {
        let mut file = self.open()?;
        let mut start = Vec::new();
        (&mut file).take(START_BYTES as u64).read_to_end(&mut start)?;
        let format = match recognise(&start, self.told) {
            Ok(format) => format,
            Err(fault) => return Ok(Err(fault)),
        };
        file.seek(SeekFrom::Start(0))?;
        let mut meter = match Meter::new(format) {
            Ok(meter) => meter,
            Err(fault) => return Ok(Err(fault)),
        };
        let mut chunk = vec![0; CHUNK];
        loop {
            let count = file.read(&mut chunk)?;
            *read += count as u64;
            if count == 0 {
                break;
            }
            if let Err(fault) = meter.push(&chunk[..count]) {
                return Ok(Err(fault));
            }
        }
        Ok(meter.finish().map(|length| AudioInfo::of(format, &meter, length, *read)))
    }

    /// What can be read of damaged audio, as WAV.
    fn salvage(&self, fault: &AudioError) -> std::io::Result<Result<(GivenAudio, AudioInfo), AudioError>> {
        let folder = match &self.source {
            AudioSource::Memory(_) => None,
            AudioSource::File(path) => path.parent(),
        };
        let salvaged = match salvage(&mut self.open()?, self.told, fault, folder)? {
            Ok(salvaged) => salvaged,
            Err(fault) => return Ok(Err(fault)),
        };
        let path = salvaged.file.into_temp_path();
        let probed = AudioInfo {
            format: salvaged.format,
            length: salvaged.length,
            bytes: std::fs::metadata(&path)?.len(),
            depth: Some(Depth::default()),
            open_ended: false,
            warnings: salvaged.warnings,
        };
        let source = match &self.source {
            AudioSource::Memory(_) => AudioSource::Memory(std::fs::read(&path)?.into()),
            AudioSource::File(_) => AudioSource::File(Arc::new(path)),
        };
        Ok(Ok((GivenAudio { source, told: None }, probed)))
    }

    /// A warning where the audio is not what its sender said.
    fn mislabelled(&self, found: Format) -> Option<String> {
        let told = self.told.filter(|told| told.codec != found.codec && found.codec.describes_itself())?;
        // WAVE is one container for several codings.
        let alike = told.codec.is_wav() && found.codec.is_wav();
        (!alike).then(|| format!("the audio was declared as {}, but is {}", told.codec, found.codec))
    }
}

/// Bytes of a file or of memory.
trait ReadSeek: Read + Seek {}
impl<T: Read + Seek> ReadSeek for T {}

/// A WAV of what could be read of damaged audio.
pub struct SalvagedAudio {
    pub file: tempfile::NamedTempFile,
    pub format: Format,
    pub length: Length,
    /// What is wrong with the audio, and what is missing.
    pub warnings: Vec<String>,
}

/// Reads damaged audio as far as it goes, from the first bytes that are audio,
/// into a WAV file in `folder`; `fault` is what was found to be wrong with it.
///
/// # Errors
/// The inner error where nothing of it is audio.
pub fn salvage(
    mut file: &mut (impl Read + Seek + ?Sized),
    told: Option<Format>,
    fault: &AudioError,
    folder: Option<&Path>,
) -> std::io::Result<Result<SalvagedAudio, AudioError>> {
    file.rewind()?;
    let mut start = Vec::new();
    (&mut file).take(SEARCHED as u64).read_to_end(&mut start)?;
    let (skip, format) = match begin(&start, told) {
        Ok(found) => found,
        Err(fault) => return Ok(Err(fault)),
    };
    file.seek(SeekFrom::Start(skip as u64))?;
    let mut builder = tempfile::Builder::new();
    let builder = builder.suffix(".wav");
    let mut wav = match folder {
        Some(folder) => builder.tempfile_in(folder)?,
        None => builder.tempfile()?,
    };
    let mut found = match decode(file, format, &mut wav)? {
        Ok(found) => found,
        Err(fault) => return Ok(Err(fault)),
    };
    wav.rewind()?;
    wav.write_all(&found.start)?;
    wav.flush()?;
    let mut warnings = Vec::new();
    if skip > 0 {
        warnings.push(format!("{skip} bytes before the audio are not audio; they are ignored"));
    }
    if let Some(fault) = found.fault.take().or((skip == 0).then(|| fault.clone())) {
        let missing = found.missing.map(|seconds| format!("; {seconds:.1} s are missing")).unwrap_or_default();
        let read = found.length.seconds();
        warnings.push(format!("the audio is damaged ({fault}); {read:.1} s were read{missing}"));
    }
    Ok(Ok(SalvagedAudio { file: wav, format: found.format, length: found.length, warnings }))
}

/// How many bytes to skip, and what follows.
fn begin(start: &[u8], told: Option<Format>) -> Result<(usize, Format), AudioError> {
    let known = recognise(&start[..start.len().min(START_BYTES)], told);
    match (known, find_start(start)) {
        (Ok(format), _) => Ok((0, format)),
        (Err(fault), None) => Err(fault),
        (Err(_), Some(at)) => Ok((at, recognise(&start[at..], told)?)),
    }
}

fn decode(
    file: &mut (impl Read + ?Sized),
    format: Format,
    wav: &mut impl Write,
) -> std::io::Result<Result<Salvaged, AudioError>> {
    let mut salvager = match Salvager::new(format) {
        Ok(salvager) => salvager,
        Err(fault) => return Ok(Err(fault)),
    };
    let (mut chunk, mut out) = (vec![0; CHUNK], Vec::new());
    loop {
        let count = file.read(&mut chunk)?;
        let more = match salvager.push(&chunk[..count], &mut out) {
            Ok(more) => more,
            Err(fault) => return Ok(Err(fault)),
        };
        wav.write_all(&out)?;
        out.clear();
        if count == 0 || !more {
            break;
        }
    }
    let found = salvager.finish(&mut out);
    wav.write_all(&out)?;
    Ok(found)
}

fn unreadable(source: std::io::Error) -> GatewayError {
    GatewayError::Files { what: "the spooled audio", source }
}

impl AudioInfo {
    fn of(found: Format, meter: &Meter, length: Length, bytes: u64) -> AudioInfo {
        let depth = meter.depth();
        let mut format = found;
        if found.codec.describes_itself() {
            let channels = meter.layout().map_or(1, |layout| layout.channels);
            let codec = depth.and_then(|depth| depth.law).filter(|_| found.codec.is_wav()).unwrap_or(found.codec);
            format = Format { codec, channels, ..found.with_rate(length.rate) };
        }
        let open_ended = meter.is_open_ended();
        AudioInfo { format, length, bytes, depth, open_ended, warnings: Vec::new() }
    }
}

/// Seconds of audio that are louder than silence; `None` where they cannot be
/// told.
pub(crate) fn sounding(source: &AudioSource, format: Format) -> Option<f64> {
    let rate = 16_000;
    let mut transcoder = Transcoder::new(format, Format::new(Codec::Pcm, rate)).ok()?;
    let mut levels = Levels::new(rate);
    let mut file = GivenAudio { source: source.clone(), told: None }.open().ok()?;
    let mut chunk = vec![0; CHUNK];
    let mut take = |pcm: &[u8]| {
        let pairs = pcm.as_chunks::<2>().0;
        let samples: Vec<f32> = pairs.iter().map(|pair| f32::from(i16::from_le_bytes(*pair)) / 32_768.0).collect();
        levels.push(&samples);
    };
    loop {
        match file.read(&mut chunk).ok()? {
            0 => break,
            count => take(&transcoder.push(&Bytes::copy_from_slice(&chunk[..count])).ok()?),
        }
    }
    take(&transcoder.finish().ok()?);
    Some(levels.sounding(0.0, levels.length()))
}

/// A sound of a caller, mended: with its true length, and read as far as it
/// goes; with what is wrong with it.
///
/// # Errors
/// When nothing of it is audio.
pub(crate) fn mended(audio: Bytes) -> Result<(Bytes, Vec<String>), GatewayError> {
    let given = GivenAudio { source: AudioSource::Memory(audio), told: None };
    let (taken, probed) = given.take_here(Unsupported::Adapt)?;
    let AudioSource::Memory(audio) = taken.source else {
        return Err(GatewayError::Contradiction("a sound in memory became a file"));
    };
    if !probed.open_ended {
        return Ok((audio, probed.warnings));
    }
    let mut audio = audio.to_vec();
    let length = audio.len() as u64;
    dispatcher_audio::mend_wav_lengths(&mut audio, length);
    Ok((audio.into(), probed.warnings))
}

#[cfg(test)]
mod tests {
    use dispatcher_audio::{encode_all, wav_header};

    use super::*;

    fn tone() -> Vec<f32> {
        (0..16_000).map(|n| 0.4 * (n as f32 * 0.17).sin()).collect()
    }

    fn given(bytes: Vec<u8>) -> GivenAudio {
        GivenAudio { source: AudioSource::Memory(bytes.into()), told: None }
    }

    #[test]
    fn damaged_audio_is_read_as_far_as_it_goes_unless_that_is_refused() {
        let mut cut = encode_all(&tone(), Format::new(Codec::Wav, 16_000)).expect("a tone");
        cut.truncate(44 + 24_000);
        let (audio, probed) = given(cut.clone()).take_here(Unsupported::Adapt).expect("three quarters");
        assert_eq!(probed.length.milliseconds(), 750);
        assert_eq!(
            probed.warnings,
            ["the audio is damaged (the WAV ends too early: it holds less than its header says); \
              0.8 s were read; 0.2 s are missing"]
        );
        let again = audio.take_here(Unsupported::Refuse).expect("it is whole now").1;
        assert_eq!((again.length, again.open_ended), (probed.length, false));
        assert!(matches!(given(cut).take_here(Unsupported::Refuse), Err(GatewayError::NotAudio(_))));
        let mp3 = encode_all(&tone(), Format::new(Codec::Mp3, 16_000)).expect("a tone");
        let behind = [b"HTTP/1.1 200 OK\r\n\r\n".as_slice(), &mp3].concat();
        let probed = given(behind).take_here(Unsupported::Adapt).expect("behind rubbish").1;
        assert_eq!(probed.warnings, ["19 bytes before the audio are not audio; they are ignored"]);
        assert!((990..1_100).contains(&probed.length.milliseconds()), "{:?}", probed.length);
        assert!(matches!(
            given(b"{\"error\": 1}".to_vec()).take_here(Unsupported::Adapt),
            Err(GatewayError::NotAudio(_))
        ));
    }

    #[test]
    fn what_the_samples_are_is_known() {
        let stereo = wav_header(dispatcher_audio::Layout { rate: 16_000, channels: 2 }, None);
        let probed = given([stereo, vec![0; 64_000]].concat()).take_here(Unsupported::Refuse).expect("stereo").1;
        assert_eq!((probed.format.channels, probed.open_ended), (2, true));
        assert_eq!(probed.depth, Some(Depth::default()));
        let law = encode_all(&tone(), Format::new(Codec::WavMulaw, 16_000)).expect("a tone");
        assert_eq!(given(law).take_here(Unsupported::Refuse).expect("law").1.format.codec, Codec::WavMulaw);
    }

    #[test]
    fn a_kept_sound_says_how_long_it_is() {
        let open = wav_header(dispatcher_audio::Layout { rate: 16_000, channels: 1 }, None);
        let (mended, warnings) = mended([open, vec![0; 3_200]].concat().into()).expect("a sound");
        assert!(warnings.is_empty());
        let true_start = wav_header(dispatcher_audio::Layout { rate: 16_000, channels: 1 }, Some(3_200));
        assert_eq!(mended[..44], true_start[..]);
    }
}
