//! `dispatcher serve`.

use std::net::IpAddr;
use std::path::PathBuf;

use dispatcher_server::{Config, LogFormat, init_logging, launch};
use serde::Serialize;

use crate::args::{Log, ServeArgs};
use crate::error::CliError;

/// Only the flags that were given.
#[derive(Serialize)]
struct Flags {
    #[serde(skip_serializing_if = "Option::is_none")]
    data: Option<PathBuf>,
    #[serde(skip_serializing_if = "Option::is_none")]
    address: Option<IpAddr>,
    #[serde(skip_serializing_if = "Option::is_none")]
    port: Option<u16>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    sheets: Vec<PathBuf>,
    #[serde(skip_serializing_if = "Option::is_none")]
    log: Option<LogFormat>,
    #[serde(skip_serializing_if = "Option::is_none")]
    log_level: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    forget_credentials: Option<bool>,
}

pub(crate) async fn run(args: ServeArgs) -> Result<(), CliError> {
    let log = args.log.map(|log| match log {
        Log::Human => LogFormat::Human,
        Log::Json => LogFormat::Json,
    });
    let flags = Flags {
        data: args.data,
        address: args.address,
        port: args.port,
        sheets: args.sheets,
        log,
        log_level: args.log_level,
        forget_credentials: args.forget_credentials.then_some(true),
    };
    let config = Config::load(args.config.as_deref(), &flags)?;
    init_logging(&config);
    Ok(launch(&config).await?)
}
