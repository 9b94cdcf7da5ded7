//! A recording with two channels, as of a telephone call, whose channels are
//! recognised one by one: each is a dispatch of its own, and the transcripts
//! are put together.

use std::io::{Read as _, Write as _};
use std::sync::Arc;

use dispatcher_audio::{Codec, Format, Layout, wav_header};
use dispatcher_core::{Money, Revised, merge_channels};
use dispatcher_engines::AudioSource;

use crate::dispatch::hear::transcode_to_file;
use crate::{Caller, Gateway, GatewayError, GivenAudio, Recognised, RecognitionRequest};

/// Channels that are distinguished.
const CHANNELS: u8 = 2;
/// The rate of their samples: what recognisers use.
const RATE: u32 = 16_000;

/// What became of one channel.
#[derive(Debug, Clone, PartialEq)]
pub struct RecognisedChannel {
    /// From 1.
    pub channel: usize,
    pub dispatch: String,
    pub cost: Money,
}

impl Gateway {
    /// Recognises each channel by itself.
    ///
    /// # Errors
    /// Where the audio has one channel; as a recognition, where one of them fails.
    pub(crate) async fn recognise_channels(
        &self,
        caller: &Caller,
        request: &RecognitionRequest,
    ) -> Result<Recognised, GatewayError> {
        let (audio, probed) = request.audio.take(self, request.unsupported).await?;
        if probed.format.channels != CHANNELS {
            return Err(GatewayError::OneChannel);
        }
        let (source, format) = (audio.source, probed.format);
        let parted = self.in_turn(move || parted(&source, format)).await?;
        let parted = parted.map_err(GatewayError::files("the channels"))?;
        let hear = |source: AudioSource| {
            let audio = GivenAudio { source, told: None };
            self.recognise_for(caller, RecognitionRequest { audio, channels: false, ..request.clone() }, None)
        };
        let [left, right] = parted.map(hear);
        let (left, right) = tokio::try_join!(left, right)?;
        let channel = |number: usize, heard: &Recognised| RecognisedChannel {
            channel: number,
            dispatch: heard.dispatch.clone(),
            cost: heard.cost,
        };
        let channels = vec![channel(1, &left), channel(2, &right)];
        let of_other = right.warnings.iter().filter(|warning| !left.warnings.contains(warning)).cloned();
        let warnings = probed.warnings.iter().cloned().chain(left.warnings.iter().cloned()).chain(of_other).collect();
        let transcript = merge_channels(vec![left.revised.transcript.clone(), right.revised.transcript]);
        // In two currencies each channel has its own cost, and the whole that of the first.
        let cost = left.cost.plus(right.cost).unwrap_or(left.cost);
        Ok(Recognised { revised: Revised { transcript, ..Revised::default() }, cost, channels, warnings, ..left })
    }
}

/// Both channels, a file of plain samples each.
fn parted(source: &AudioSource, format: Format) -> std::io::Result<[AudioSource; 2]> {
    let pcm = Format { channels: CHANNELS, ..Format::new(Codec::Pcm, RATE) };
    let both = transcode_to_file(source, format, pcm).map_err(|error| std::io::Error::other(error.detail))?;
    let (mut reader, length): (Box<dyn std::io::Read>, u64) = match &both {
        AudioSource::Memory(bytes) => (Box::new(std::io::Cursor::new(bytes.clone())), bytes.len() as u64),
        AudioSource::File(path) => {
            let file = std::fs::File::open(&***path)?;
            let length = file.metadata()?.len();
            (Box::new(file), length)
        }
    };
    let mut files = [begun(length / 2)?, begun(length / 2)?];
    let mut chunk = vec![0; 64 << 10];
    let mut filled = 0;
    loop {
        let count = reader.read(&mut chunk[filled..])?;
        filled += count;
        // A frame is a sample of 16 bits for each channel.
        let whole = filled / 4 * 4;
        for (channel, file) in files.iter_mut().enumerate() {
            let samples: Vec<u8> =
                chunk[..whole].chunks_exact(4).flat_map(|frame| [frame[2 * channel], frame[2 * channel + 1]]).collect();
            file.write_all(&samples)?;
        }
        chunk.copy_within(whole..filled, 0);
        filled -= whole;
        if count == 0 {
            break;
        }
    }
    let [left, right] = files;
    Ok([left, right].map(|file| AudioSource::File(Arc::new(file.into_temp_path()))))
}

/// A file for this many bytes of samples.
fn begun(length: u64) -> std::io::Result<tempfile::NamedTempFile> {
    let mut file = tempfile::Builder::new().suffix(".wav").tempfile()?;
    let length = u32::try_from(length).map_err(std::io::Error::other)?;
    file.write_all(&wav_header(Layout { rate: RATE, channels: 1 }, Some(length)))?;
    Ok(file)
}
