//! Arguments of `exchange` and `link`.

use std::path::PathBuf;

use clap::Args;

#[derive(Args)]
#[command(after_help = r#"Examples:
  dispatcher exchange question.wav -o reply.mp3
  dispatcher exchange --text "When is the next ferry to Gullsay?" --voice quayside -o reply.wav
  dispatcher exchange --text "What does this flag mean?" --attach flag.png --play
  dispatcher exchange question.wav --site local --engine pocketsphinx --voice flite/slt --play
  dispatcher exchange --microphone
  dispatcher exchange --list"#)]
pub(crate) struct ExchangeArgs {
    /// Audio file to send, - for standard input
    #[arg(required_unless_present_any = ["text", "microphone", "list"], conflicts_with_all = ["text", "microphone", "list"])]
    pub(crate) audio: Option<PathBuf>,
    /// Send a text in place of audio
    #[arg(long, value_name = "TEXT", conflicts_with_all = ["microphone", "list"])]
    pub(crate) text: Option<String>,
    /// Live conversation through arecord and aplay; Ctrl-C ends it
    #[arg(long, conflicts_with_all = ["list", "output", "kind", "attach"])]
    pub(crate) microphone: bool,
    /// List recorded exchanges with the latency of each stage
    #[arg(long)]
    pub(crate) list: bool,
    /// Recognise with this route
    #[arg(long, conflicts_with = "engine")]
    pub(crate) route: Option<String>,
    /// Recognise with this engine
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// Language of the audio, such as en-GB
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Media type of audio that has no header: audio/pcm;rate=16000
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: Option<String>,
    /// Voice or route of the reply (default: the app's)
    #[arg(long, value_name = "VOICE")]
    pub(crate) voice: Option<String>,
    /// Site of all stages; with local, nothing leaves the machine
    #[arg(long, value_parser = ["local", "cloud"])]
    pub(crate) site: Option<String>,
    /// File for the hook, such as a picture
    #[arg(long, value_name = "FILE")]
    pub(crate) attach: Option<PathBuf>,
    /// Context for the hook, as JSON
    #[arg(long, value_name = "JSON")]
    pub(crate) context: Option<String>,
    /// Seconds until the first text of the reply (default: 8)
    #[arg(long, value_name = "SECONDS")]
    pub(crate) within: Option<f64>,
    /// Media type, extension or preset of the reply's audio (default: by the name of the file)
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<String>,
    /// Output file for the audio of the reply
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
    /// Play the reply with aplay
    #[arg(long, conflicts_with = "output")]
    pub(crate) play: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher link /api/v1/jobs/01a22a98261671c2/files/rounds.mp3
  dispatcher link /api/v1/prompt-sets/helpline/archive --expires-in 86400
  dispatcher link /api/v1/jobs/01a22a98261671c2/archive --app quay-announcer")]
pub(crate) struct LinkArgs {
    /// Path of a file of a job or prompt set, of an archive, or of a clip
    pub(crate) path: String,
    /// Seconds until it expires, 60 to 2592000 (default: 3600)
    #[arg(long, value_name = "SECONDS")]
    pub(crate) expires_in: Option<u32>,
    /// For operators: the app to which the file belongs
    #[arg(long, value_name = "APP")]
    pub(crate) app: Option<String>,
}
