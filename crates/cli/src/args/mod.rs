//! Commands and their options.

mod alerts;
mod apps;
mod beside;
mod canaries;
mod catalogue;
mod convert;
mod exchange;
mod jobs;
mod money;
mod prompts;
mod records;
mod serve;
#[cfg(test)]
mod tests;
mod transcripts;

pub(crate) use alerts::*;
pub(crate) use apps::*;
pub(crate) use beside::*;
pub(crate) use canaries::*;
pub(crate) use catalogue::*;
pub(crate) use convert::*;
pub(crate) use exchange::*;
pub(crate) use jobs::*;
pub(crate) use money::*;
pub(crate) use prompts::*;
pub(crate) use records::*;
pub(crate) use serve::*;
pub(crate) use transcripts::*;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// One gateway for all speech engines: synthesis and recognition.
///
/// The client takes the address and key of the service from DISPATCHER_URL and
/// DISPATCHER_KEY, or from a profile in its configuration file.
#[derive(Parser)]
#[command(name = "dispatcher", version, propagate_version = true, max_term_width = 100)]
pub(crate) struct Cli {
    /// Print the API's JSON instead of text
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Use this profile from the client's configuration file
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
    /// Transcribe audio live, while it is recorded
    Caption(Box<CaptionArgs>),
    /// Make a link that anyone can fetch without a key until it expires
    Link(LinkArgs),
    /// Send speech or text to the app's reply hook, and get its spoken reply
    Exchange(Box<ExchangeArgs>),
    /// Compare transcripts: error rates, agreement and a consensus
    Compare(CompareArgs),
    /// List, show, correct and remove kept transcripts
    #[command(subcommand)]
    Transcript(TranscriptCommand),
    /// Names and terms for recognition: show, add, remove, try
    Vocabulary(VocabularyArgs),
    /// Phrases that are commands: show and set
    Phrases(PhrasesArgs),
    /// What transcripts mask, such as card numbers: show and set
    Masks(MasksArgs),
    /// Convert audio files to another format, without the service
    Convert(ConvertArgs),
    /// Check who made audio files, and that nobody changed them
    Provenance(ProvenanceArgs),
    /// Show the plan and cost of a request; nothing is sent to an engine
    Estimate(Box<EstimateArgs>),
    /// Report how each engine would handle a script, without the service
    Lint(LintArgs),
    /// List the voices of all engines
    Voices(VoicesArgs),
    /// List, show, add, check and retire engines
    #[command(subcommand)]
    Engine(EngineCommand),
    /// Add, list, replace and revoke credentials
    #[command(subcommand)]
    Credential(CredentialCommand),
    /// Change the root key, under which all credentials are sealed
    #[command(subcommand)]
    RootKey(RootKeyCommand),
    /// List, show, set and retire routes
    #[command(subcommand)]
    Route(RouteCommand),
    /// List, add and change apps, and manage their keys
    #[command(subcommand)]
    App(AppCommand),
    /// List, add, replace and retire presets: named audio formats
    #[command(subcommand)]
    Preset(PresetCommand),
    /// List, add, replace and retire lexicons: how words are pronounced
    #[command(subcommand)]
    Lexicon(LexiconCommand),
    /// List, add, fetch and remove clips: audio that scripts insert
    #[command(subcommand)]
    Clip(ClipCommand),
    /// List, add and remove people who sign in to the console
    #[command(subcommand)]
    Person(PersonCommand),
    /// Add, follow and fetch jobs: long documents and recordings
    #[command(subcommand)]
    Job(JobCommand),
    /// Keep a table of prompts in step with their audio files
    #[command(subcommand)]
    Prompts(PromptsCommand),
    /// Check the ledger: the record of all that was held and charged
    #[command(subcommand)]
    Ledger(LedgerCommand),
    /// List, set and retire tariffs: how engines charge
    #[command(subcommand)]
    Tariff(TariffCommand),
    /// List, set and retire credits: what engines include
    #[command(subcommand)]
    Credit(CreditCommand),
    /// List, set and retire rates between currencies
    #[command(subcommand)]
    Rate(RateCommand),
    /// Set how long records are kept
    #[command(subcommand)]
    Retention(RetentionCommand),
    /// Compare an engine's statement with the ledger
    #[command(subcommand)]
    Statement(StatementCommand),
    /// Show usage and cost
    Usage(UsageArgs),
    /// Show or export the audit log: who changed or used what
    Audit(AuditArgs),
    /// Show how engines, voices, models and routes performed recently
    Health(HealthArgs),
    /// List, set, test and retire alerts: messages when something is wrong
    #[command(subcommand)]
    Alert(AlertCommand),
    /// List, set, run and retire canaries: sentences that show when a voice changes
    #[command(subcommand)]
    Canary(CanaryCommand),
    /// List dispatches (requests), or show one with its attempts
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

/// Voice and delivery; shared by speak, estimate and job add.
#[derive(Args)]
pub(crate) struct VoiceArgs {
    /// A route, or a voice as engine/voice
    #[arg(long, value_name = "VOICE", conflicts_with_all = ["languages", "gender", "site"])]
    pub(crate) voice: Option<String>,
    /// Any voice with these languages, such as pt-PT or "pt en"
    #[arg(long, value_name = "RANGES")]
    pub(crate) languages: Option<String>,
    /// Any voice of this gender
    #[arg(long, value_parser = ["female", "male", "neutral"])]
    pub(crate) gender: Option<String>,
    /// Any voice whose engine runs there; nothing of the request is sent elsewhere
    #[arg(long, value_parser = ["local", "cloud"])]
    pub(crate) site: Option<String>,
    /// Region of the engine; engines without this region are not used
    #[arg(long, value_name = "REGION")]
    pub(crate) region: Option<String>,
    /// Any voice with this style; with --voice: the style of that voice
    #[arg(long)]
    pub(crate) style: Option<String>,
    /// Strength of the style, 0 to 1
    #[arg(long, value_name = "STRENGTH", requires = "style")]
    pub(crate) strength: Option<f64>,
    /// Speaking rate: 90%, +10%, slow, fast
    #[arg(long, value_name = "RATE")]
    pub(crate) rate: Option<String>,
    /// Pitch: +2st, -10%, low, high
    #[arg(long, value_name = "PITCH", allow_hyphen_values = true)]
    pub(crate) pitch: Option<String>,
    /// Volume: -3dB, soft, loud
    #[arg(long, value_name = "VOLUME", allow_hyphen_values = true)]
    pub(crate) volume: Option<String>,
    /// Instruction on how to speak, for models that take one
    #[arg(long, value_name = "TEXT")]
    pub(crate) direction: Option<String>,
    /// How much repeated takes may vary, 0 to 1
    #[arg(long)]
    pub(crate) variation: Option<f64>,
    /// Seed of the take: the same seed gives the same take, with engines that take one
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Model of the engine
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// Language of the text, such as en-GB
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Media type, extension or preset: mp3, opus, web, phone, audio/L16;rate=16000
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<String>,
    /// Sample rate in hertz
    #[arg(long, value_name = "HERTZ")]
    pub(crate) sample_rate: Option<u32>,
    /// The text is SSML (detected when it begins with <speak)
    #[arg(long)]
    pub(crate) ssml: bool,
    /// Fail if the engine cannot do something, instead of adapting the request
    #[arg(long)]
    pub(crate) strict: bool,
}

#[derive(Args)]
#[command(after_help = r#"Examples:
  dispatcher speak "The 06:15 to Gullsay is delayed." -o late.mp3
  dispatcher speak --file notice.txt --voice heron/pellin --model fine -o out/
  dispatcher speak "The gate code is 4711." --site local --languages en -o code.wav
  echo "The ramp is closing" | dispatcher speak --languages en-GB --format wav > ramp.wav"#)]
pub(crate) struct SpeakArgs {
    /// The text; without it, standard input is read
    pub(crate) text: Option<String>,
    /// Read the text from this file, - for standard input
    #[arg(long, value_name = "FILE", conflicts_with = "text")]
    pub(crate) file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) voice: VoiceArgs,
    /// Output file, folder (ending in /), or - for standard output
    #[arg(short, long, value_name = "PATH")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
    /// Play the audio with aplay
    #[arg(long, conflicts_with = "output")]
    pub(crate) play: bool,
}

/// Who recognises audio, what is known of it, and how it is written.
#[derive(Args)]
pub(crate) struct HearerArgs {
    /// Use this route
    #[arg(long, conflicts_with = "engine")]
    pub(crate) route: Option<String>,
    /// Use this engine
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// Model of the engine
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// Site of the engine; the audio is not sent elsewhere
    #[arg(long, value_parser = ["local", "cloud"])]
    pub(crate) site: Option<String>,
    /// Region of the engine; engines without this region are not used
    #[arg(long, value_name = "REGION")]
    pub(crate) region: Option<String>,
    /// Language of the audio, such as en-GB, or auto (default: the language of the app)
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Likely words, separated by commas
    #[arg(long, value_name = "WORDS")]
    pub(crate) hints: Option<String>,
    /// Media type of audio that has no header: audio/pcm;rate=16000
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: Option<String>,
}

impl HearerArgs {
    /// The parameters of the API that have a text as their value.
    pub(crate) fn parameters(&self) -> [(&'static str, Option<&str>); 6] {
        [
            ("route", self.route.as_deref()),
            ("engine", self.engine.as_deref()),
            ("model", self.model.as_deref()),
            ("site", self.site.as_deref()),
            ("region", self.region.as_deref()),
            ("language", self.language.as_deref()),
        ]
    }
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher transcribe drill.wav
  dispatcher transcribe drill.mp3 --route captions --format vtt > drill.vtt
  dispatcher transcribe drill.wav --site local --language en-US
  dispatcher transcribe https://sounds.example/drill.mp3
  cat call.wav | dispatcher transcribe - --engine pocketsphinx --language en-US")]
pub(crate) struct TranscribeArgs {
    /// The audio file, - for standard input, or a URL that the service fetches
    pub(crate) audio: PathBuf,
    #[command(flatten)]
    pub(crate) hearer: HearerArgs,
    /// Languages of which one is spoken, such as en-GB,fr-FR: the first 8 seconds are
    /// recognised in each, and charged
    #[arg(long, value_name = "TAGS", conflicts_with = "language")]
    pub(crate) languages: Option<String>,
    /// Text that precedes the audio
    #[arg(long, value_name = "TEXT")]
    pub(crate) context: Option<String>,
    /// Label the speakers
    #[arg(long)]
    pub(crate) speakers: bool,
    /// Recognise each of two channels by itself, as a speaker of its own; each is charged
    #[arg(long)]
    pub(crate) channels: bool,
    /// Number of alternative transcripts (with --format json)
    #[arg(long, value_name = "COUNT")]
    pub(crate) alternatives: Option<u64>,
    /// Fail if the engine cannot do something, instead of omitting it
    #[arg(long)]
    pub(crate) strict: bool,
    /// Format of the transcript
    #[arg(long, value_enum, default_value_t = TranscriptFormat::Text)]
    pub(crate) format: TranscriptFormat,
    /// Output file (default: standard output)
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher caption --microphone --route captions
  dispatcher caption drill.wav --times
  arecord -q -t raw -f S16_LE -r 16000 | dispatcher caption - --type 'audio/pcm;rate=16000'")]
pub(crate) struct CaptionArgs {
    /// The audio file, - for standard input
    #[arg(conflicts_with = "microphone")]
    pub(crate) audio: Option<PathBuf>,
    /// Listen to the microphone, through arecord; Ctrl-C ends it
    #[arg(long, conflicts_with = "kind")]
    pub(crate) microphone: bool,
    #[command(flatten)]
    pub(crate) hearer: HearerArgs,
    /// Send raw samples in real time
    #[arg(long)]
    pub(crate) real_time: bool,
    /// Show the start of each caption, in seconds
    #[arg(long)]
    pub(crate) times: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TranscriptFormat {
    Text,
    Json,
    Vtt,
    Srt,
    /// A line for each word
    Csv,
    /// Time-marked words, for scoring tools
    Ctm,
    /// Who speaks when, for scoring tools
    Rttm,
}

#[derive(Args)]
#[command(after_help = r#"Examples:
  dispatcher estimate "The 06:15 to Gullsay is delayed." --voice quayside
  dispatcher estimate --audio drill.wav --route captions
  dispatcher estimate --audio drill.wav --engine pocketsphinx"#)]
pub(crate) struct EstimateArgs {
    /// The text; without it, standard input is read
    pub(crate) text: Option<String>,
    /// Read the text from this file, - for standard input
    #[arg(long, value_name = "FILE", conflicts_with = "text")]
    pub(crate) file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) voice: VoiceArgs,
    /// Estimate the recognition of this audio file instead
    #[arg(long, value_name = "FILE", conflicts_with_all = ["text", "file", "voice"])]
    pub(crate) audio: Option<PathBuf>,
    /// With --audio: use this route
    #[arg(long, value_name = "NAME", requires = "audio", conflicts_with = "engine")]
    pub(crate) route: Option<String>,
    /// With --audio: use this engine
    #[arg(long, value_name = "NAME", requires = "audio")]
    pub(crate) engine: Option<String>,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher lint safety.ssml
  dispatcher lint safety.ssml --sheets /etc/dispatcher/sheets --engine heron --strict

An element is native (the engine takes it), rewritten (expressed in another way), emulated
(done in the gateway's own audio code), plain (its text alone is spoken) or omitted. Lexicons and clips
are read from the folder of the file; nothing is fetched.")]
pub(crate) struct LintArgs {
    /// The script: SSML or text; without it or with -, standard input is read
    #[arg(value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// Also use the engine sheets in this folder; may be given several times
    #[arg(long, value_name = "DIR")]
    pub(crate) sheets: Vec<PathBuf>,
    /// Report on this engine only; may be given several times
    #[arg(long = "engine", value_name = "NAME")]
    pub(crate) engines: Vec<String>,
    /// Language of the text, as a BCP 47 tag
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Apply this lexicon to the whole text; may be given several times
    #[arg(long = "lexicon", value_name = "FILE")]
    pub(crate) lexicons: Vec<PathBuf>,
    /// Assume that audio at this host can be fetched, as with fetch_hosts of the
    /// service; may be given several times
    #[arg(long = "fetch-host", value_name = "HOST")]
    pub(crate) fetch_hosts: Vec<String>,
    /// Fail if any engine loses an element
    #[arg(long)]
    pub(crate) strict: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher usage
  dispatcher usage --by day,app --from 2026-11-01
  dispatcher usage --csv > november.csv")]
pub(crate) struct UsageArgs {
    /// Group by one or two of app, key, engine, voice, model, route, language, work, day, hour
    #[arg(long, default_value = "app,engine")]
    pub(crate) by: String,
    /// First day, YYYY-MM-DD (default: the first of this month)
    #[arg(long, value_name = "DAY")]
    pub(crate) from: Option<String>,
    /// Last day, YYYY-MM-DD (default: today)
    #[arg(long, value_name = "DAY")]
    pub(crate) to: Option<String>,
    /// Usage of this app only
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
  dispatcher dispatches 01a22a98261671c2")]
pub(crate) struct DispatchesArgs {
    /// Show the dispatch with this id (or unique beginning of an id) and its attempts
    pub(crate) id: Option<String>,
    /// Dispatches of this app only
    #[arg(long)]
    pub(crate) app: Option<String>,
    /// Dispatches whose last attempt was on this engine
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// Work: synthesis or recognition
    #[arg(long)]
    pub(crate) work: Option<String>,
    /// Dispatches of this job (its id, or a unique beginning)
    #[arg(long, value_name = "ID")]
    pub(crate) job: Option<String>,
    /// State: done, failed, abandoned, running or uncertain
    #[arg(long)]
    pub(crate) state: Option<String>,
    /// Maximum number of dispatches, newest first
    #[arg(long, default_value_t = 20)]
    pub(crate) limit: u32,
}
