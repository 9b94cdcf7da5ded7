//! Arguments of `serve` and `demo`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher serve
  dispatcher serve --data /var/lib/dispatcher --port 7420
  DISPATCHER_LOG=json dispatcher serve --config /etc/dispatcher.toml")]
pub(crate) struct ServeArgs {
    /// Read this configuration file (default: dispatcher.toml here, if it exists)
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
    /// Format of log lines
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
  dispatcher demo --once -o /tmp/ferries")]
pub(crate) struct DemoArgs {
    /// Keep the demo's data here (default: data/demo; with --once a folder that is removed)
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// Listen on this port, 0 for a free one (default: 7420; with --once a free one)
    #[arg(long)]
    pub(crate) port: Option<u16>,
    /// Read this configuration file (default: dispatcher.toml, if it exists); data
    /// folder, port and simulated engines are always the demo's own
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Start a new demo without samples: no history, no finished jobs, no prompt files
    #[arg(long)]
    pub(crate) empty: bool,
    /// Run the whole example once and exit
    #[arg(long)]
    pub(crate) once: bool,
    /// With --once: write audio and transcripts to this folder
    #[arg(short, long, value_name = "DIR", requires = "once")]
    pub(crate) output: Option<PathBuf>,
}
