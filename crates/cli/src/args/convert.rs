//! What `dispatcher convert` takes.

use std::path::PathBuf;

use clap::Args;

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher convert call.wav call.mp3
  dispatcher convert call.mp3 call.ulaw --format phone
  dispatcher convert *.aiff ferries/ --format flac
  dispatcher convert call.wav slow.wav --rate 0.8 --loudness --trim
  dispatcher convert bell.wav call.mp3 both.opus --join --gap 0.4 --loudness
  dispatcher convert --show call.m4a")]
pub(crate) struct ConvertArgs {
    /// The files, and last the file or folder to write; - for standard input or output
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only tell what the files are
    #[arg(long)]
    pub(crate) show: bool,
    /// A media type, an extension or a preset: web, phone, editor, device, assistive
    #[arg(long, value_name = "FORMAT", conflicts_with = "show")]
    pub(crate) format: Option<String>,
    /// Hertz (default: as it is, where the format can carry that)
    #[arg(long, value_name = "HERTZ", conflicts_with = "show")]
    pub(crate) sample_rate: Option<u32>,
    /// Bits a second, for MP3 and Opus
    #[arg(long, value_name = "BITS", conflicts_with = "show")]
    pub(crate) bitrate: Option<u32>,
    /// A variable bit rate, for MP3
    #[arg(long, conflicts_with_all = ["show", "bitrate"])]
    pub(crate) vbr: bool,
    /// 1 or 2 (default: as it is, at most 2)
    #[arg(long, value_name = "COUNT", conflicts_with = "show")]
    pub(crate) channels: Option<u8>,
    /// Pace at the same pitch, 50% to 200%: 85%, 1.2, slow, fast
    #[arg(long, value_name = "RATE", value_parser = rate, conflicts_with = "show")]
    pub(crate) rate: Option<f64>,
    /// Higher or lower at the same tempo, in semitones: -12 to 12
    #[arg(long, value_name = "SEMITONES", allow_negative_numbers = true, conflicts_with = "show")]
    pub(crate) pitch: Option<f64>,
    /// With --pitch: keep the colour of the voice
    #[arg(long, requires = "pitch")]
    pub(crate) keep_formants: bool,
    /// Bring to this loudness by EBU R 128 (-18 LUFS unless given), no peak above -1 dBTP
    #[arg(long, value_name = "LUFS", num_args = 0..=1, require_equals = true, default_missing_value = "-18", allow_negative_numbers = true, conflicts_with = "show")]
    pub(crate) loudness: Option<f64>,
    /// Louder or softer, in decibels: -60 to 60
    #[arg(long, value_name = "DECIBELS", allow_negative_numbers = true, conflicts_with_all = ["show", "loudness"])]
    pub(crate) gain: Option<f64>,
    /// Take silence off both ends
    #[arg(long, conflicts_with = "show")]
    pub(crate) trim: bool,
    /// Let the sound rise over so many seconds at its beginning
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) fade_in: Option<f64>,
    /// Let it fall over so many seconds at its end
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) fade_out: Option<f64>,
    /// Put so many seconds of silence before it
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) pad_start: Option<f64>,
    /// Put so many seconds of silence behind it
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) pad_end: Option<f64>,
    /// Begin at this second of the input
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) start: Option<f64>,
    /// End at this second of the input
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) end: Option<f64>,
    /// Make one file of several, one behind the other; what else is asked is done to each
    #[arg(long, conflicts_with = "show")]
    pub(crate) join: bool,
    /// With --join: seconds of silence between them: 0 to 60
    #[arg(long, value_name = "SECONDS", requires = "join", value_parser = seconds)]
    pub(crate) gap: Option<f64>,
    /// A title for the output; its other tags are those of the input
    #[arg(long, value_name = "TEXT", conflicts_with = "show")]
    pub(crate) title: Option<String>,
    /// With --show --json: the outline of the sound in at most so many parts, to be drawn
    #[arg(long, value_name = "COUNT", requires = "show", value_parser = clap::value_parser!(u16).range(2..))]
    pub(crate) peaks: Option<u16>,
    /// Let a small file become any length of sound
    #[arg(long)]
    pub(crate) any_length: bool,
    /// Refuse damaged files; otherwise they are read as far as possible, with a warning
    #[arg(long)]
    pub(crate) strict: bool,
    /// What the input is, where it does not tell: audio/pcm;rate=16000
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: Option<String>,
    /// Overwrite files
    #[arg(long)]
    pub(crate) force: bool,
}

fn seconds(text: &str) -> Result<f64, String> {
    let seconds = text.parse::<f64>().ok().filter(|seconds| (0.0..=60.0).contains(seconds));
    seconds.ok_or_else(|| "seconds from 0 to 60 are wanted".into())
}

/// A rate in the forms of SSML's `prosody`, as a factor.
fn rate(text: &str) -> Result<f64, String> {
    dispatcher_markup::prosody::rate(text).map_err(|error| error.to_string())
}
