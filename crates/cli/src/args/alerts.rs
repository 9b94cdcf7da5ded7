//! Arguments of `alert`.

use clap::{Args, Subcommand, ValueEnum};

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher alert set night-watch --on breaker-open --to https://watch.saltmarsh.example/
  dispatcher alert set keys --on credential-ending --to mailto:watch@saltmarsh.example
  dispatcher alert try night-watch
  dispatcher alert notices")]
pub(crate) enum AlertCommand {
    /// List alerts
    List,
    /// Add an alert, or replace it with a new version
    ///
    /// The service checks every 5 seconds. It sends one message when the condition
    /// begins and another when it is over. Webhooks are signed (HTTP message signatures,
    /// RFC 9421); the service must allow their hosts (webhook_hosts). Mail is sent
    /// over the server given under [mail] in dispatcher.toml. Examples:
    ///   dispatcher alert set errors --on error-share --threshold 10 --engine heron \
    ///     --to mailto:watch@saltmarsh.example
    ///   dispatcher alert set night-watch --on breaker-open --after 60 --quiet 22:00-06:00 \
    ///     --to https://watch.saltmarsh.example/alerts
    #[command(verbatim_doc_comment)]
    Set(AlertArgs),
    /// Send a test message to each address of an alert
    Try {
        /// Name of the alert
        name: String,
    },
    /// Retire an alert
    Retire {
        /// Name of the alert
        name: String,
    },
    /// List notices: open ones first
    Notices {
        /// Maximum number
        #[arg(long, value_name = "COUNT", default_value_t = 20)]
        limit: u32,
    },
}

#[derive(Args)]
pub(crate) struct AlertArgs {
    /// 1 to 40 small letters, digits and hyphens
    pub(crate) name: String,
    /// Condition
    #[arg(long, value_enum)]
    pub(crate) on: AlertOn,
    /// Address: https://… (webhook) or mailto:…; can be repeated
    #[arg(long, value_name = "ADDRESS", required = true)]
    pub(crate) to: Vec<String>,
    /// Name of an engine (default: all); can be repeated
    #[arg(long = "engine", value_name = "NAME")]
    pub(crate) engines: Vec<String>,
    /// Threshold: days before the end of a credential (default: 14), percentage of failed calls (20),
    /// waiting calls (20), or free megabytes (2000)
    #[arg(long, value_name = "NUMBER")]
    pub(crate) threshold: Option<f64>,
    /// Seconds that the condition must last before a message is sent
    #[arg(long, value_name = "SECONDS", default_value_t = 0)]
    pub(crate) after: u64,
    /// Minimum number of minutes between two messages about the same subject
    #[arg(long, value_name = "MINUTES", default_value_t = 30)]
    pub(crate) pause: u64,
    /// Quiet hours in UTC, such as 22:00-06:00
    #[arg(long, value_name = "FROM-TO")]
    pub(crate) quiet: Option<String>,
    /// Note that is included in each message
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub(crate) note: String,
}

/// Conditions of alerts.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum AlertOn {
    /// The breaker of an engine is open after repeated failures
    BreakerOpen,
    /// An engine rejects a credential
    CredentialRefused,
    /// A credential expires soon (see credential add --ends)
    CredentialEnding,
    /// A voice used by a route or an app is no longer available
    VoiceWithdrawn,
    /// Many calls of an engine fail
    ErrorShare,
    /// Many calls are waiting for an engine
    QueueFull,
    /// The disk of the data folder is nearly full
    DiskLow,
    /// An app or a key has used most of an allowance
    AllowanceShare,
    /// A credit of an engine ends or will be used soon
    CreditEnding,
    /// A voice has changed, or its canary failed (see canary set)
    VoiceChanged,
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
            AlertOn::AllowanceShare => "allowance-share",
            AlertOn::CreditEnding => "credit-ending",
            AlertOn::VoiceChanged => "voice-changed",
        }
    }
}
