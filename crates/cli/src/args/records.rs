//! Arguments of commands that list and set records.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub(crate) enum RouteCommand {
    /// List routes
    List,
    /// Show one route with its legs
    Show {
        /// Name of the route
        name: String,
    },
    /// Add a route, or replace it with a new version
    ///
    /// Legs are tried in order. Each is ENGINE or ENGINE/VOICE, then options:
    /// model, deadline (milliseconds), credential, weight (how often the leg is
    /// tried first), and conditions: languages, formats, apps (each may name several,
    /// separated by spaces), hours (UTC), region (in which the engine is called), site
    /// (local or cloud: the leg is taken only while its engine runs there). Criteria are given in a file, as the API takes
    /// them. Examples:
    ///   dispatcher route set evening --leg heron/pellin,deadline=1500 --leg flite/slt
    ///   dispatcher route set private --leg espeak-ng,site=local --leg flite/slt,site=local
    ///   dispatcher route set saver --order cheapest --leg heron --leg godwit
    ///   dispatcher route set night --leg heron,hours=22:00-06:00 --leg espeak-ng
    ///   dispatcher route set halves --leg heron,weight=1 --leg godwit,weight=1
    ///   dispatcher route set swift --hedge --leg heron/pellin --leg godwit
    ///   dispatcher route set notes --recognition --leg turnstone --leg pocketsphinx
    ///   dispatcher route set evening --file evening.json
    #[command(verbatim_doc_comment)]
    Set {
        /// 1 to 40 small letters, digits and hyphens
        name: String,
        /// A leg, in the order in which legs are tried; may be given several times
        #[arg(long = "leg", value_name = "ENGINE[/VOICE][,OPTION=VALUE…]", required_unless_present = "file")]
        legs: Vec<String>,
        /// The route is for recognition (default: synthesis)
        #[arg(long, conflicts_with = "file")]
        recognition: bool,
        /// Order in which legs are tried
        #[arg(long, value_enum, default_value_t = RouteOrder::Listed, conflicts_with = "file")]
        order: RouteOrder,
        /// Also call the next leg if one takes longer than usual; the first one to return audio is used
        #[arg(long, conflicts_with_all = ["file", "recognition"])]
        hedge: bool,
        /// Note on the purpose of the route
        #[arg(long, value_name = "TEXT", conflicts_with = "file")]
        note: Option<String>,
        /// Read the route from this JSON file, - for standard input
        #[arg(long, value_name = "FILE", conflicts_with = "legs")]
        file: Option<PathBuf>,
    },
    /// Show what each leg would do with a request, without sending it
    Try(RouteTryArgs),
    /// List the versions of a route: who changed it, when, and its legs
    Versions {
        /// Name of the route
        name: String,
    },
    /// Retire a route
    ///
    /// Examples:
    ///   dispatcher route retire evening
    #[command(verbatim_doc_comment)]
    Retire {
        /// Name of the route
        name: String,
    },
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher preset list
  dispatcher preset add gate-screen --type mp3 --sample-rate 16000 --purpose 'screens at the gates'
  dispatcher preset replace gate-screen --type mp3 --sample-rate 22050
  dispatcher speak \"Gate 4 is closing.\" --format gate-screen -o gate.mp3
  dispatcher preset retire gate-screen")]
pub(crate) enum PresetCommand {
    /// List presets: the built-in ones and your own
    List,
    /// Add a preset
    Add(PresetArgs),
    /// Replace a preset of your own with a new version
    Replace(PresetArgs),
    /// Retire a preset of your own
    Retire {
        /// Name of the preset
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct PresetArgs {
    /// 1 to 40 small letters, digits and hyphens
    pub(crate) name: String,
    /// Media type or file extension
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: String,
    /// Sample rate in hertz
    #[arg(long, value_name = "HERTZ")]
    pub(crate) sample_rate: Option<u32>,
    /// Number of channels, 1 or 2
    #[arg(long, value_name = "COUNT")]
    pub(crate) channels: Option<u8>,
    /// Bits per second, for MP3 and Opus
    #[arg(long, value_name = "BITS")]
    pub(crate) bitrate: Option<u32>,
    /// Use a variable bit rate, for MP3
    #[arg(long, conflicts_with = "bitrate")]
    pub(crate) vbr: bool,
    /// Purpose of the preset, in one line; a replaced preset keeps its own unless given
    #[arg(long, value_name = "TEXT")]
    pub(crate) purpose: Option<String>,
}

/// What health is shown of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum HealthScope {
    Engine,
    Voice,
    Model,
    Route,
}

impl HealthScope {
    /// The name in the API.
    pub(crate) fn name(self) -> &'static str {
        match self {
            HealthScope::Engine => "engine",
            HealthScope::Voice => "voice",
            HealthScope::Model => "model",
            HealthScope::Route => "route",
        }
    }
}

#[derive(Args)]
#[command(after_help = "A breaker that is open keeps calls from an engine that failed again and again;
to call the engine at once: dispatcher engine reset NAME

Examples:
  dispatcher health
  dispatcher health --scope route --hours 1
  dispatcher health --json")]
pub(crate) struct HealthArgs {
    /// What to show
    #[arg(long, value_enum, default_value_t = HealthScope::Engine)]
    pub(crate) scope: HealthScope,
    /// Number of hours to show, 1 to 168, the current one included
    #[arg(long, default_value_t = 24, value_parser = clap::value_parser!(u32).range(1..=168))]
    pub(crate) hours: u32,
}

/// In which order the legs of a route are tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum RouteOrder {
    /// As they are listed
    Listed,
    /// By what the request would cost
    Cheapest,
    /// By the usual time to the first audio, as measured
    Fastest,
    /// By how much of the script each would lose
    Faithful,
}

impl RouteOrder {
    /// The name in routes.
    pub(crate) fn name(self) -> &'static str {
        match self {
            RouteOrder::Listed => "listed",
            RouteOrder::Cheapest => "cheapest",
            RouteOrder::Fastest => "fastest",
            RouteOrder::Faithful => "faithful",
        }
    }
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher route try quayside
  dispatcher route try quayside \"Cast off.\" --language en-GB --app quay-announcer
  dispatcher route try harbour-phone --file greeting.ssml --format phone
  dispatcher route try captions --seconds 600 --language en-GB")]
pub(crate) struct RouteTryArgs {
    /// Name of the route
    pub(crate) name: String,
    /// The text, or SSML (default: a sentence in the language)
    pub(crate) text: Option<String>,
    /// Read the text from this file, - for standard input
    #[arg(long, value_name = "FILE", conflicts_with = "text")]
    pub(crate) file: Option<PathBuf>,
    /// Language of the text or the audio, as a BCP 47 tag
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Model of the engine
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// Audio format: a file extension, a media type or a preset
    #[arg(long, value_name = "FORMAT", conflicts_with = "seconds")]
    pub(crate) format: Option<String>,
    /// The app to try it for (default: that of the key)
    #[arg(long)]
    pub(crate) app: Option<String>,
    /// Seconds of audio, for a route for recognition (default: 60)
    #[arg(long, conflicts_with_all = ["text", "file", "model"])]
    pub(crate) seconds: Option<f64>,
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher ledger check
  dispatcher ledger check --json > check.json")]
pub(crate) enum LedgerCommand {
    /// Check that the entries agree with each other and with the dispatches; exit with 1 if not
    Check,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher audit
  dispatcher audit --action key.add --from 2026-12-01
  dispatcher audit --from 2026-11-01 --to 2026-11-30 --export november.jsonl")]
pub(crate) struct AuditArgs {
    /// First day (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub(crate) from: Option<String>,
    /// Last day (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub(crate) to: Option<String>,
    /// Only entries of this key id, person or host
    #[arg(long, value_name = "WHO")]
    pub(crate) who: Option<String>,
    /// Only entries of this action, such as key.add
    #[arg(long, value_name = "ACTION")]
    pub(crate) action: Option<String>,
    /// Number of entries that are shown
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    pub(crate) limit: u32,
    /// Write all entries to this file as JSON lines, - for standard output
    #[arg(long, value_name = "FILE", conflicts_with = "limit")]
    pub(crate) export: Option<PathBuf>,
}

#[derive(Subcommand)]
#[command(
    after_help = "Entries of the ledger and sums of the usage always stay, and allowances still count what removed
dispatches used. The results of a job are kept for keep_days of dispatcher.toml, and an upload for a
day after its last part.

Examples:
  dispatcher retention list
  dispatcher retention set dispatches 90
  dispatcher retention remove --dry-run
  dispatcher retention end dispatches"
)]
pub(crate) enum RetentionCommand {
    /// List kinds of records, and how long they are kept
    List,
    /// Keep records of a kind for a number of days
    Set {
        /// dispatches, transcripts, kept-answers, exchanges, comparisons or audit
        kind: String,
        /// Days; older records are removed every hour
        days: u32,
    },
    /// End the rule of a kind: its records stay
    End {
        /// The kind
        kind: String,
    },
    /// Remove old records now, as is done every hour
    Remove {
        /// Only count what would be removed
        #[arg(long)]
        dry_run: bool,
    },
}
