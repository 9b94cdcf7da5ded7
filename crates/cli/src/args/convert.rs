//! Arguments of `convert`.

use std::path::PathBuf;

use clap::Args;

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher convert call.wav call.mp3
  dispatcher convert call.mp3 call.ulaw --format phone
  dispatcher convert *.aiff ferries/ --format flac
  dispatcher convert call.wav slow.wav --rate 80% --loudness --trim
  dispatcher convert bell.wav call.mp3 both.opus --join --gap 0.4 --loudness
  dispatcher convert --show call.m4a")]
pub(crate) struct ConvertArgs {
    /// Input files, then the output file or folder; - for standard input or output
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only show what the files contain
    #[arg(long)]
    pub(crate) show: bool,
    /// Media type, extension or preset: web, phone, editor, device, assistive
    #[arg(long, value_name = "FORMAT", conflicts_with = "show")]
    pub(crate) format: Option<String>,
    /// Sample rate in hertz (default: that of the input, if the format allows it)
    #[arg(long, value_name = "HERTZ", conflicts_with = "show")]
    pub(crate) sample_rate: Option<u32>,
    /// Bits per second, for MP3 and Opus
    #[arg(long, value_name = "BITS", conflicts_with = "show")]
    pub(crate) bitrate: Option<u32>,
    /// Use a variable bit rate, for MP3
    #[arg(long, conflicts_with_all = ["show", "bitrate"])]
    pub(crate) vbr: bool,
    /// Number of channels, 1 or 2 (default: that of the input, at most 2)
    #[arg(long, value_name = "COUNT", conflicts_with = "show")]
    pub(crate) channels: Option<u8>,
    /// Speaking rate at the same pitch, 50% to 200%: 85%, 1.2, slow, fast
    #[arg(long, value_name = "RATE", value_parser = rate, conflicts_with = "show")]
    pub(crate) rate: Option<f64>,
    /// Pitch shift at the same tempo, in semitones: -12 to 12
    #[arg(long, value_name = "SEMITONES", allow_negative_numbers = true, conflicts_with = "show")]
    pub(crate) pitch: Option<f64>,
    /// With --pitch: keep the formants, and so the character of the voice
    #[arg(long, requires = "pitch")]
    pub(crate) keep_formants: bool,
    /// Normalise to this loudness by EBU R 128 (default: -18 LUFS), with no peak above -1 dBTP
    #[arg(long, value_name = "LUFS", num_args = 0..=1, require_equals = true, default_missing_value = "-18", allow_negative_numbers = true, conflicts_with = "show")]
    pub(crate) loudness: Option<f64>,
    /// Gain in decibels: -60 to 60
    #[arg(long, value_name = "DECIBELS", allow_negative_numbers = true, conflicts_with_all = ["show", "loudness"])]
    pub(crate) gain: Option<f64>,
    /// Remove silence from both ends
    #[arg(long, conflicts_with = "show")]
    pub(crate) trim: bool,
    /// Duration of a fade-in, in seconds
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) fade_in: Option<f64>,
    /// Duration of a fade-out, in seconds
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) fade_out: Option<f64>,
    /// Silence to add at the start, in seconds
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) pad_start: Option<f64>,
    /// Silence to add at the end, in seconds
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) pad_end: Option<f64>,
    /// Position in the input to start at, in seconds
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) start: Option<f64>,
    /// Position in the input to end at, in seconds
    #[arg(long, value_name = "SECONDS", conflicts_with = "show")]
    pub(crate) end: Option<f64>,
    /// Join the inputs into one file; other options apply to each input
    #[arg(long, conflicts_with = "show")]
    pub(crate) join: bool,
    /// With --join: silence between the inputs, 0 to 60 seconds
    #[arg(long, value_name = "SECONDS", requires = "join", value_parser = seconds)]
    pub(crate) gap: Option<f64>,
    /// Title of the output; its other tags are those of the input
    #[arg(long, value_name = "TEXT", conflicts_with = "show")]
    pub(crate) title: Option<String>,
    /// With --show --json: number of points of the waveform to print
    #[arg(long, value_name = "COUNT", requires = "show", value_parser = clap::value_parser!(u16).range(2..))]
    pub(crate) peaks: Option<u16>,
    /// Allow a small file to expand to audio of any duration
    #[arg(long)]
    pub(crate) any_length: bool,
    /// Refuse damaged files; otherwise they are read as far as possible, with a warning
    #[arg(long)]
    pub(crate) strict: bool,
    /// Media type of input that has no header: audio/pcm;rate=16000
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: Option<String>,
    /// Overwrite existing files
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

#[derive(Args)]
#[command(
    after_help = "Complete audio is signed (Ed25519): files of jobs and prompt sets, kept answers, and utterances
in JSON, by link, or with whole = true. A stream is not, since its end is not known when its tags are
sent. The signature covers the whole file with its tags; audio/pcm and other formats without tags
have none.

Exits with 1 if a file is not verified.

Examples:
  dispatcher provenance welcome.mp3
  dispatcher provenance *.ogg --public-key 11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"
)]
pub(crate) struct ProvenanceArgs {
    /// Audio files
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// Public key of the gateway in base64url, as GET /api/v1/provenance-key has it (default: ask the gateway)
    #[arg(long, value_name = "KEY")]
    pub(crate) public_key: Option<String>,
}
