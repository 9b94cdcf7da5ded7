//! A sound, files that tools make of it, and how close what is read comes.

use std::path::{Path, PathBuf};
use std::process::Command;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Layout, Transcoder, decode_all, encode_all, measure, sniff};

pub struct Bench {
    pub folder: tempfile::TempDir,
    pub rate: u32,
    pub channels: u8,
    /// Interleaved.
    pub sound: Vec<f32>,
}

impl Bench {
    /// Two and a bit seconds of a voice-like sound, the channels unlike.
    pub fn new(rate: u32, channels: u8) -> Bench {
        let frames = rate * 2 + 321;
        let sound: Vec<f32> = (0..frames)
            .flat_map(|n| {
                (0..channels).map(move |channel| {
                    let t = n as f32 / rate as f32;
                    let swell = 0.5 + 0.5 * (std::f32::consts::TAU * 1.5 * t).sin();
                    let pitch = 180.0 + 60.0 * f32::from(channel);
                    0.15 * swell
                        * (1..=5).map(|k| (std::f32::consts::TAU * pitch * k as f32 * t).sin() / k as f32).sum::<f32>()
                })
            })
            .collect();
        let folder = tempfile::tempdir().unwrap();
        let format = Format { channels, ..Format::new(Codec::Wav, rate) };
        std::fs::write(folder.path().join("in.wav"), encode_all(&sound, format).unwrap()).unwrap();
        Bench { folder, rate, channels, sound }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Runs a command line in the folder.
    pub fn run(&self, line: &str) {
        let mut words = line.split_whitespace();
        let program = words.next().unwrap();
        let output = Command::new(program).args(words).current_dir(self.folder.path()).output();
        let output = output.unwrap_or_else(|error| panic!("{program}: {error}; make test installs it"));
        assert!(output.status.success(), "{line}: {}", String::from_utf8_lossy(&output.stderr));
    }

    /// What a command line writes to its standard output.
    pub fn output(&self, line: &str) -> Vec<u8> {
        let mut words = line.split_whitespace();
        let output = Command::new(words.next().unwrap()).args(words).current_dir(self.folder.path()).output().unwrap();
        assert!(output.status.success() && !output.stdout.is_empty(), "{line}");
        output.stdout
    }

    /// A file in two channels, as a stream would be.
    pub fn stereo(&self, bytes: &[u8], codec: Codec) -> Vec<f32> {
        let output = Format { channels: 2, ..Format::new(Codec::Pcm, self.rate) };
        let mut transcoder = Transcoder::new(Format::new(codec, self.rate), output).unwrap();
        let mut streamed = transcoder.push(&Bytes::copy_from_slice(bytes)).unwrap().to_vec();
        streamed.extend(transcoder.finish().unwrap());
        streamed.chunks_exact(2).map(|two| f32::from(i16::from_le_bytes([two[0], two[1]])) / 32_768.0).collect()
    }

    pub fn frames(&self) -> usize {
        self.sound.len() / usize::from(self.channels)
    }

    /// Compares with the sound: frames off in length, and the signal-to-noise
    /// ratio in decibels at the best shift within `reach` frames.
    pub fn compare(&self, samples: &[f32], layout: Layout, reach: i64) -> (i64, f32, i64) {
        assert_eq!(layout, Layout { rate: self.rate, channels: self.channels });
        let channels = i64::from(self.channels);
        let surplus = samples.len() as i64 / channels - self.frames() as i64;
        let middle = self.sound.len() as i64 / 4..self.sound.len() as i64 * 3 / 4;
        let best = (-reach..=reach)
            .map(|shift| {
                let (mut signal, mut noise) = (1e-12, 1e-12);
                for n in middle.clone() {
                    let wanted = self.sound[n as usize];
                    let got = usize::try_from(n + shift * channels).ok().and_then(|n| samples.get(n)).copied();
                    signal += wanted * wanted;
                    noise += (wanted - got.unwrap_or(0.0)).powi(2);
                }
                (10.0 * (signal / noise).log10(), shift)
            })
            .max_by(|a, b| a.0.total_cmp(&b.0))
            .unwrap();
        (surplus, best.0, best.1)
    }
}

/// Decodes as a stream would be, in pieces.
pub fn decode(path: &Path, codec: Codec) -> (Vec<f32>, Layout) {
    let bytes = std::fs::read(path).unwrap();
    let name = path.display();
    assert_eq!(sniff(&bytes[..bytes.len().min(256)]), Some(codec), "{name} is told by its first bytes");
    let told = Format::new(codec, 24_000);
    let (samples, layout) = decode_all(&bytes, told).unwrap_or_else(|error| panic!("{name}: {error}"));
    let length = measure(&bytes, None).unwrap().1;
    assert_eq!(length.frames, samples.len() as u64 / u64::from(layout.channels), "{name} is measured as it decodes");
    let output = Format { channels: layout.channels.min(2), ..Format::new(Codec::Pcm, layout.rate) };
    let mut transcoder = Transcoder::new(told, output).unwrap();
    let mut streamed = Vec::new();
    for piece in bytes.chunks(777) {
        streamed.extend(transcoder.push(&Bytes::copy_from_slice(piece)).unwrap());
    }
    streamed.extend(transcoder.finish().unwrap());
    assert_eq!(streamed.len(), samples.len() * 2, "{name}: in pieces as at once");
    (samples, layout)
}
