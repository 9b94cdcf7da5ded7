//! Commands and their options.

mod beside;
mod catalogue;
mod convert;
mod jobs;
mod prompts;
#[cfg(test)]
mod tests;

pub(crate) use beside::*;
pub(crate) use catalogue::*;
pub(crate) use convert::*;
pub(crate) use jobs::*;
pub(crate) use prompts::*;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// One gateway for every engine that speaks or listens.
///
/// The client finds the service by DISPATCHER_URL and DISPATCHER_KEY, or by a
/// profile of its configuration file.
#[derive(Parser)]
#[command(name = "dispatcher", version, propagate_version = true, max_term_width = 100)]
pub(crate) struct Cli {
    /// Print the API's JSON instead of text
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Use this profile of the client's configuration file
    #[arg(long, global = true, value_name = "NAME")]
    pub(crate) profile: Option<String>,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// Run the service
    Serve(ServeArgs),
    /// Run the service with demo data and simulated engines
    Demo(DemoArgs),
    /// Turn text into audio
    Speak(Box<SpeakArgs>),
    /// Turn audio into text
    Transcribe(TranscribeArgs),
    /// Turn audio files into another format, without the service
    Convert(ConvertArgs),
    /// Show what a request would do and cost; nothing is sent to an engine
    Estimate(Box<EstimateArgs>),
    /// Show what each engine would do with a script, without the service
    Lint(LintArgs),
    /// List the voices of all engines
    Voices(VoicesArgs),
    /// List, show and check engines
    #[command(subcommand)]
    Engine(EngineCommand),
    /// Add, list and revoke credentials
    #[command(subcommand)]
    Credential(CredentialCommand),
    /// List and show routes
    #[command(subcommand)]
    Route(RouteCommand),
    /// List and add apps, and make keys for them
    #[command(subcommand)]
    App(AppCommand),
    /// List, keep and retire named audio formats
    #[command(subcommand)]
    Preset(PresetCommand),
    /// List, keep and retire lexicons: how words are pronounced
    #[command(subcommand)]
    Lexicon(LexiconCommand),
    /// List, keep and remove sounds that scripts put in
    #[command(subcommand)]
    Clip(ClipCommand),
    /// List, add and remove people who sign in to the console
    #[command(subcommand)]
    Person(PersonCommand),
    /// Have long work done, follow it, fetch what it made
    #[command(subcommand)]
    Job(JobCommand),
    /// Keep a table of prompts in step with their audio files
    #[command(subcommand)]
    Prompts(PromptsCommand),
    /// Show what was used and what it cost
    Usage(UsageArgs),
    /// List requests, or show one with its attempts
    Dispatches(DispatchesArgs),
    /// Print completions for a shell
    ///
    /// Examples:
    ///   dispatcher completions bash > ~/.local/share/bash-completion/completions/dispatcher
    ///   dispatcher completions fish | source
    #[command(verbatim_doc_comment)]
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher serve
  dispatcher serve --data /var/lib/dispatcher --port 7420
  DISPATCHER_LOG=json dispatcher serve --config /etc/dispatcher.toml")]
pub(crate) struct ServeArgs {
    /// Read this configuration file (default: dispatcher.toml here, if there is one)
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Keep records, the root key and spooled audio here (default: data)
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// Listen on this address (default: 127.0.0.1)
    #[arg(long)]
    pub(crate) address: Option<std::net::IpAddr>,
    /// Listen on this port, 0 for a free one (default: 7420)
    #[arg(long)]
    pub(crate) port: Option<u16>,
    /// Read engine sheets from this folder; may be given several times
    #[arg(long, value_name = "DIR")]
    pub(crate) sheets: Vec<PathBuf>,
    /// How log lines look
    #[arg(long, value_enum)]
    pub(crate) log: Option<Log>,
    /// What to log, such as info or dispatcher_gateway=debug
    #[arg(long, value_name = "FILTER")]
    pub(crate) log_level: Option<String>,
    /// Revoke the credentials whose root key is lost, and start without them
    #[arg(long)]
    pub(crate) forget_credentials: bool,
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum Log {
    Human,
    Json,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher demo
  dispatcher demo --data /tmp/ferries --port 7500
  dispatcher demo --once --out /tmp/ferries")]
pub(crate) struct DemoArgs {
    /// Keep the demo's data here (default: data/demo; with --once a folder that is removed)
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// Listen on this port, 0 for a free one (default: 7420; with --once a free one)
    #[arg(long)]
    pub(crate) port: Option<u16>,
    /// Settings to start with (default: dispatcher.toml, if that exists); the
    /// demo keeps to its own data folder, port and simulated engines
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Run the whole example once and exit
    #[arg(long)]
    pub(crate) once: bool,
    /// With --once: leave audio and transcripts here
    #[arg(long, value_name = "DIR", requires = "once")]
    pub(crate) out: Option<PathBuf>,
}

/// Who should speak, and how; shared by speak and estimate.
#[derive(Args)]
pub(crate) struct VoiceArgs {
    /// A route, or a voice as engine/voice
    #[arg(long, value_name = "VOICE", conflicts_with_all = ["languages", "gender"])]
    pub(crate) voice: Option<String>,
    /// Any voice that speaks these languages, such as pt-PT or "pt en"
    #[arg(long, value_name = "RANGES")]
    pub(crate) languages: Option<String>,
    /// Any voice of this gender
    #[arg(long, value_parser = ["female", "male", "neutral"])]
    pub(crate) gender: Option<String>,
    /// Any voice with this style; with --voice: speak in this style
    #[arg(long)]
    pub(crate) style: Option<String>,
    /// How strong the style is, 0 to 1
    #[arg(long, value_name = "STRENGTH", requires = "style")]
    pub(crate) strength: Option<f64>,
    /// How fast: 90%, +10%, slow, fast
    #[arg(long, value_name = "RATE")]
    pub(crate) rate: Option<String>,
    /// How high: +2st, -10%, low, high
    #[arg(long, value_name = "PITCH", allow_hyphen_values = true)]
    pub(crate) pitch: Option<String>,
    /// How loud: -3dB, soft, loud
    #[arg(long, value_name = "VOLUME", allow_hyphen_values = true)]
    pub(crate) volume: Option<String>,
    /// An instruction on how to speak, for models that take one
    #[arg(long, value_name = "TEXT")]
    pub(crate) direction: Option<String>,
    /// How much one take differs from another, 0 to 1
    #[arg(long)]
    pub(crate) variation: Option<f64>,
    /// The same seed gives the same take, where an engine takes one
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// A model of the engine
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// The language of the text, such as en-GB
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// A media type, an extension or a preset: mp3, opus, web, phone, audio/L16;rate=16000
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<String>,
    /// Hertz
    #[arg(long, value_name = "HERTZ")]
    pub(crate) sample_rate: Option<u32>,
    /// The text is SSML (told by itself where it begins with <speak)
    #[arg(long)]
    pub(crate) ssml: bool,
    /// Refuse what an engine cannot do rather than adapt it
    #[arg(long)]
    pub(crate) strict: bool,
}

#[derive(Args)]
#[command(after_help = r#"Examples:
  dispatcher speak "The 06:15 to Gullsay is delayed." -o late.mp3
  dispatcher speak --file notice.txt --voice heron/pellin --model fine -o out/
  echo "The ramp is closing" | dispatcher speak --languages en-GB --format wav > gap.wav"#)]
pub(crate) struct SpeakArgs {
    /// The text; read from standard input where it is missing
    pub(crate) text: Option<String>,
    /// Read the text from this file, - for standard input
    #[arg(long, value_name = "FILE", conflicts_with = "text")]
    pub(crate) file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) voice: VoiceArgs,
    /// A file, a folder (ending in /), or - for standard output
    #[arg(short, long, value_name = "PATH")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
    /// Play it with the host's aplay
    #[arg(long, conflicts_with = "output")]
    pub(crate) play: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher transcribe drill.wav
  dispatcher transcribe drill.mp3 --route captions --format vtt > drill.vtt
  cat call.wav | dispatcher transcribe - --engine pocketsphinx --language en-US")]
pub(crate) struct TranscribeArgs {
    /// The audio file, - for standard input
    pub(crate) audio: PathBuf,
    /// Use this route
    #[arg(long, conflicts_with = "engine")]
    pub(crate) route: Option<String>,
    /// Use this engine
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// A model of the engine
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// What is spoken, such as en-GB
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Words that are likely, separated by commas
    #[arg(long, value_name = "WORDS")]
    pub(crate) hints: Option<String>,
    /// What was said before
    #[arg(long, value_name = "TEXT")]
    pub(crate) context: Option<String>,
    /// Tell who speaks
    #[arg(long)]
    pub(crate) speakers: bool,
    /// So many other readings (with --format json)
    #[arg(long, value_name = "COUNT")]
    pub(crate) alternatives: Option<u64>,
    /// Refuse what an engine cannot do rather than leave it out
    #[arg(long)]
    pub(crate) strict: bool,
    /// What the audio is, where it does not tell: audio/pcm;rate=16000
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: Option<String>,
    /// How to write the transcript
    #[arg(long, value_enum, default_value_t = TranscriptFormat::Text)]
    pub(crate) format: TranscriptFormat,
    /// Write to this file instead of standard output
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TranscriptFormat {
    Text,
    Json,
    Vtt,
    Srt,
}

#[derive(Args)]
#[command(after_help = r#"Examples:
  dispatcher estimate "The 06:15 to Gullsay is delayed." --voice quayside
  dispatcher estimate --audio drill.wav --route captions"#)]
pub(crate) struct EstimateArgs {
    /// The text; read from standard input where it is missing
    pub(crate) text: Option<String>,
    /// Read the text from this file, - for standard input
    #[arg(long, value_name = "FILE", conflicts_with = "text")]
    pub(crate) file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) voice: VoiceArgs,
    /// Estimate the recognition of this audio file instead
    #[arg(long, value_name = "FILE", conflicts_with_all = ["text", "file", "voice"])]
    pub(crate) audio: Option<PathBuf>,
    /// With --audio: an engine or a route
    #[arg(long, value_name = "NAME", requires = "audio")]
    pub(crate) route: Option<String>,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher lint safety.ssml
  dispatcher lint safety.ssml --sheets /etc/dispatcher/sheets --engine heron --strict

An element is native (the engine takes it), rewritten (expressed in another way), emulated
(done in the gateway's own audio code), plain (its text alone is spoken) or omitted. Lexicons and sounds
are looked for beside the file; nothing is fetched.")]
pub(crate) struct LintArgs {
    /// The script: SSML, or text; standard input where it is missing or -
    #[arg(value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// Look at the engine sheets of this folder too; may be given several times
    #[arg(long, value_name = "DIR")]
    pub(crate) sheets: Vec<PathBuf>,
    /// Look at this engine alone; may be given several times
    #[arg(long = "engine", value_name = "NAME")]
    pub(crate) engines: Vec<String>,
    /// The language of the text, as a BCP 47 tag
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Take this lexicon to hold for all the text; may be given several times
    #[arg(long = "lexicon", value_name = "FILE")]
    pub(crate) lexicons: Vec<PathBuf>,
    /// Take sounds at this host to be there, as fetch_hosts of the service lets
    /// it have them; may be given several times
    #[arg(long = "fetch-host", value_name = "HOST")]
    pub(crate) fetch_hosts: Vec<String>,
    /// Fail when something is lost with any engine
    #[arg(long)]
    pub(crate) strict: bool,
}

#[derive(Subcommand)]
pub(crate) enum RouteCommand {
    /// List routes
    List,
    /// Show one route with its legs
    Show {
        /// The name of the route
        name: String,
    },
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher preset list
  dispatcher preset set gate-screen --type mp3 --sample-rate 16000 --purpose 'screens at the gates'
  dispatcher speak \"Gate 4 is closing.\" --format gate-screen -o gate.mp3
  dispatcher preset retire gate-screen")]
pub(crate) enum PresetCommand {
    /// List named audio formats: those that are built in and your own
    List,
    /// Keep a named audio format, or replace one
    Set {
        /// 1 to 40 small letters, digits and hyphens
        name: String,
        /// A media type or a file extension
        #[arg(long = "type", value_name = "TYPE")]
        kind: String,
        /// Hertz
        #[arg(long, value_name = "HERTZ")]
        sample_rate: Option<u32>,
        /// 1 or 2
        #[arg(long, value_name = "COUNT")]
        channels: Option<u8>,
        /// Bits a second, for MP3 and Opus
        #[arg(long, value_name = "BITS")]
        bitrate: Option<u32>,
        /// A variable bit rate, for MP3
        #[arg(long, conflicts_with = "bitrate")]
        vbr: bool,
        /// What it is for, in a line
        #[arg(long, value_name = "TEXT", default_value = "")]
        purpose: String,
    },
    /// Retire a named audio format of your own
    Retire {
        /// The name of the format
        name: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum AppCommand {
    /// List apps
    List,
    /// Add an app
    ///
    /// Examples:
    ///   dispatcher app add quay-announcer --default-voice heron/pellin
    ///   dispatcher app add help-line --default-format phone --rehearsal
    #[command(verbatim_doc_comment)]
    Add {
        /// 1 to 40 small letters, digits and hyphens
        name: String,
        /// A name for people
        #[arg(long)]
        title: Option<String>,
        /// The voice or route of requests that name none
        #[arg(long, value_name = "VOICE")]
        default_voice: Option<String>,
        /// The engine or route of recognitions that name none
        #[arg(long, value_name = "NAME")]
        default_recognition: Option<String>,
        /// The audio of requests that name none: a preset, an extension or a media type
        #[arg(long, value_name = "FORMAT")]
        default_format: Option<String>,
        /// Same calls and checks, no engine called, nothing charged
        #[arg(long)]
        rehearsal: bool,
    },
    /// Make a key for an app; it is shown once
    ///
    /// Examples:
    ///   dispatcher app key quay-announcer
    #[command(verbatim_doc_comment)]
    Key {
        /// The name of the app
        name: String,
        /// What it is for
        #[arg(long, default_value = "")]
        label: String,
        /// Revoke the key of this id instead
        #[arg(long, value_name = "ID", conflicts_with = "list")]
        revoke: Option<String>,
        /// List the app's keys instead
        #[arg(long)]
        list: bool,
    },
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher usage
  dispatcher usage --by day,app --from 2026-11-01
  dispatcher usage --csv > november.csv")]
pub(crate) struct UsageArgs {
    /// One or two of app, engine, day, model
    #[arg(long, default_value = "app,engine")]
    pub(crate) by: String,
    /// First day, YYYY-MM-DD (default: the first of this month)
    #[arg(long, value_name = "DAY")]
    pub(crate) from: Option<String>,
    /// Last day, YYYY-MM-DD (default: today)
    #[arg(long, value_name = "DAY")]
    pub(crate) to: Option<String>,
    /// Only this app
    #[arg(long)]
    pub(crate) app: Option<String>,
    /// Print comma-separated values
    #[arg(long, conflicts_with = "json")]
    pub(crate) csv: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher dispatches
  dispatcher dispatches --state failed
  dispatcher dispatches 019ac0de…")]
pub(crate) struct DispatchesArgs {
    /// Show this one with its attempts
    pub(crate) id: Option<String>,
    /// Those of one app
    #[arg(long)]
    pub(crate) app: Option<String>,
    /// Those that an engine took part in
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// done, failed, abandoned, running or uncertain
    #[arg(long)]
    pub(crate) state: Option<String>,
    /// How many, the newest first
    #[arg(long, default_value_t = 20)]
    pub(crate) limit: u32,
}
