//! Log lines: where they go, and which are left out.

use tracing_subscriber::filter::filter_fn;
use tracing_subscriber::layer::SubscriberExt as _;
use tracing_subscriber::util::SubscriberInitExt as _;

use crate::{Config, LogFormat};

/// Log lines to standard error.
pub fn init_logging(config: &Config) {
    // Rocket's own lines say nothing that ours do not.
    let quiet = "rocket=off,_=off,launch=off,launch_=off";
    let filter = tracing_subscriber::EnvFilter::try_new(format!("{},{quiet}", config.log_level))
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new(format!("info,{quiet}")));
    // Rocket writes a line for each request that a guard refuses, under the
    // module of the route: anybody could fill the log with them.
    let events = filter_fn(|metadata| !metadata.target().ends_with("::_"));
    let lines = tracing_subscriber::fmt::layer()
        .with_writer(std::io::stderr)
        .with_ansi(std::io::IsTerminal::is_terminal(&std::io::stderr()));
    let registry = tracing_subscriber::registry().with(filter).with(events);
    let set = match config.log {
        LogFormat::Human => registry.with(lines.with_target(false)).try_init(),
        LogFormat::Json => registry.with(lines.json()).try_init(),
    };
    if let Err(error) = set {
        tracing::debug!(%error, "logging was set up before");
    }
}
