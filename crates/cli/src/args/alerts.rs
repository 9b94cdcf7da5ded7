//! Arguments of `alert`.

use clap::{Args, Subcommand, ValueEnum};

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher alert set night-watch --on breaker-open --to https://watch.saltmarsh.example/alerts
  dispatcher alert set keys --on credential-ending --threshold 21 --to mailto:watch@saltmarsh.example
  dispatcher alert try night-watch
  dispatcher alert notices")]
pub(crate) enum AlertCommand {
    /// List alerts
    List,
    /// Add an alert, or replace it with a new version
    ///
    /// The service looks every 5 seconds. A message is sent when something begins,
    /// and another when it is over. Webhooks are signed (HTTP message signatures,
    /// RFC 9421); the service must allow their hosts (webhook_hosts). Mail is sent
    /// over the server that dispatcher.toml names under [mail]. Examples:
    ///   dispatcher alert set errors --on error-share --threshold 10 --engine heron --to mailto:watch@saltmarsh.example
    ///   dispatcher alert set night-watch --on breaker-open --after 60 --pause 120 --quiet 22:00-06:00 --to https://watch.saltmarsh.example/alerts
    #[command(verbatim_doc_comment)]
    Set(AlertArgs),
    /// Send a message to each address of an alert that says that nothing is wrong
    Try {
        /// Name of the alert
        name: String,
    },
    /// Retire an alert
    Retire {
        /// Name of the alert
        name: String,
    },
    /// List what alerts have told: first what still lasts
    Notices {
        /// How many at the most
        #[arg(long, value_name = "COUNT", default_value_t = 20)]
        limit: u32,
    },
}

#[derive(Args)]
pub(crate) struct AlertArgs {
    /// 1 to 40 small letters, digits and hyphens
    pub(crate) name: String,
    /// What it watches
    #[arg(long, value_enum)]
    pub(crate) on: AlertOn,
    /// Where it is sent: https://… (webhook) or mailto:…; may be given several times
    #[arg(long, value_name = "ADDRESS", required = true)]
    pub(crate) to: Vec<String>,
    /// Engine that it is about (default: all); may be given several times
    #[arg(long = "engine", value_name = "NAME")]
    pub(crate) engines: Vec<String>,
    /// From which measure on it is told: days before a credential's end (default: 14), per cent of
    /// failed calls (20), waiting calls (20), or free megabytes (2000)
    #[arg(long, value_name = "NUMBER")]
    pub(crate) threshold: Option<f64>,
    /// Seconds that it must last before it is told
    #[arg(long, value_name = "SECONDS", default_value_t = 0)]
    pub(crate) after: u64,
    /// Minutes in which the same is told once at the most
    #[arg(long, value_name = "MINUTES", default_value_t = 30)]
    pub(crate) pause: u64,
    /// Part of the day in UTC in which nothing is sent, such as 22:00-06:00
    #[arg(long, value_name = "FROM-TO")]
    pub(crate) quiet: Option<String>,
    /// Note that is sent with each message
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub(crate) note: String,
}

/// What alerts watch.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum AlertOn {
    /// An engine is not called for a while, since it has failed
    BreakerOpen,
    /// An engine does not take a credential any more
    CredentialRefused,
    /// A credential ends soon (its end is given when it is added)
    CredentialEnding,
    /// A voice that a route or an app names is gone
    VoiceWithdrawn,
    /// Many calls of an engine fail
    ErrorShare,
    /// Many calls wait for an engine
    QueueFull,
    /// The disk of the data folder is nearly full
    DiskLow,
}

impl AlertOn {
    /// The word of the API.
    pub(crate) fn name(self) -> &'static str {
        match self {
            AlertOn::BreakerOpen => "breaker-open",
            AlertOn::CredentialRefused => "credential-refused",
            AlertOn::CredentialEnding => "credential-ending",
            AlertOn::VoiceWithdrawn => "voice-withdrawn",
            AlertOn::ErrorShare => "error-share",
            AlertOn::QueueFull => "queue-full",
            AlertOn::DiskLow => "disk-low",
        }
    }
}
