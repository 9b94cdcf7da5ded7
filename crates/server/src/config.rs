//! The host's configuration: defaults, then `dispatcher.toml`, then the
//! environment (`DISPATCHER_…`), then flags.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};

use dispatcher_core::Currency;
use dispatcher_gateway::MailSecurity;
use figment::Figment;
use figment::providers::{Env, Format as _, Serialized, Toml};
use serde::{Deserialize, Serialize};

/// How log lines look.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default)]
#[serde(rename_all = "lowercase")]
pub enum LogFormat {
    #[default]
    Human,
    Json,
}

/// What the host says of one engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub struct EngineOverride {
    /// Takes the place of the sheet's endpoint.
    pub endpoint: Option<String>,
}

/// The server that takes mail of alerts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MailServer {
    pub host: String,
    /// 587 unless set, 465 with `tls`, 25 with `none`.
    pub port: Option<u16>,
    /// `starttls` unless set; `tls` from the first byte; `none` for a server on this machine.
    #[serde(default)]
    pub security: MailSecurity,
    /// The sender, as `Dispatcher <dispatcher@saltmarsh.example>`.
    pub from: String,
    /// Who signs in there; nobody unless set.
    pub user: Option<String>,
    /// The environment variable that holds the password.
    pub password_variable: Option<String>,
    /// The file that holds the password, in place of the variable.
    pub password_file: Option<PathBuf>,
}

/// The configuration of one service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Where to listen; loopback unless set.
    pub address: IpAddr,
    /// 7420 unless set; 0 takes a free one.
    pub port: u16,
    /// Where the records, the root key and spooled audio lie.
    pub data: PathBuf,
    /// How the service is reached from outside; for links and problem types.
    pub public_url: Option<String>,
    /// The operator's currency (ISO 4217), in which sums of several currencies
    /// are shown; EUR unless set.
    pub currency: Currency,
    /// Folders of engine sheets; the only ones that may run programs.
    pub sheets: Vec<PathBuf>,
    /// The file of the root key; `root.key` in the data folder unless set.
    pub root_key: Option<PathBuf>,
    /// The environment variable that holds the root key (32 bytes in base64),
    /// in place of the file. While a variable of the same name with `_NEXT`
    /// is there too, the start changes to that one.
    pub root_key_variable: Option<String>,
    /// The environment variable that holds a passphrase, in place of the file;
    /// its salt is `root.salt` in the data folder.
    pub root_passphrase_variable: Option<String>,
    /// At this start, revokes the credentials that a lost root key has sealed.
    pub forget_credentials: bool,
    /// A proxy for engines on the public network; none is taken from the
    /// environment.
    pub proxy: Option<String>,
    pub log: LogFormat,
    /// A tracing filter, such as `info` or `dispatcher_gateway=debug`.
    pub log_level: String,
    /// The largest body, in megabytes.
    pub body_megabytes: u64,
    /// The largest upload in parts, in megabytes.
    pub upload_megabytes: u64,
    /// Megabytes that stay free on the disk of the data folder: below that,
    /// nothing more is taken.
    pub reserve_megabytes: u64,
    /// Megabytes of all uploads of one app, and the same again of its jobs.
    pub app_megabytes: u64,
    /// Connections at once; above, those that are idle longest are closed.
    pub connections: usize,
    /// Seconds that running requests get at a shutdown.
    pub grace: u32,
    /// Days that the results of a job are kept.
    pub keep_days: u32,
    /// Hosts that may be notified of the end of a job, or by an alert, each with its port where
    /// that is not the usual one; none unless set.
    pub webhook_hosts: Vec<String>,
    /// Hosts from which scripts may have sounds and lexicons fetched, each with
    /// its port where that is not the usual one; none unless set.
    pub fetch_hosts: Vec<String>,
    pub engines: BTreeMap<String, EngineOverride>,
    /// Traces are sent to this endpoint (OTLP over HTTP), such as
    /// `http://127.0.0.1:4318/v1/traces`; nowhere unless set.
    pub trace_endpoint: Option<String>,
    /// Alerts are sent by mail over this server; by none unless set.
    pub mail: Option<MailServer>,
    /// Set by the demo: sample data is allowed, and jobs of an earlier run wait
    /// until `Gateway::resume_jobs` is called.
    #[serde(skip)]
    pub demo: bool,
}

impl Default for Config {
    fn default() -> Self {
        Config {
            address: IpAddr::V4(Ipv4Addr::LOCALHOST),
            port: 7_420,
            data: PathBuf::from("data"),
            public_url: None,
            currency: Currency::EUR,
            sheets: Vec::new(),
            root_key: None,
            root_key_variable: None,
            root_passphrase_variable: None,
            forget_credentials: false,
            proxy: None,
            log: LogFormat::Human,
            log_level: "info".into(),
            body_megabytes: 100,
            upload_megabytes: 2_000,
            reserve_megabytes: 500,
            app_megabytes: 10_000,
            connections: 4_096,
            grace: 20,
            keep_days: 7,
            webhook_hosts: Vec::new(),
            fetch_hosts: Vec::new(),
            engines: BTreeMap::new(),
            mail: None,
            trace_endpoint: None,
            demo: false,
        }
    }
}

/// A fault in the configuration, with its source.
#[derive(Debug, thiserror::Error)]
#[error("the configuration cannot be used: {0}")]
pub struct ConfigError(String);

impl Config {
    /// Reads the configuration. `file` must exist where it is named; otherwise
    /// `dispatcher.toml` here is read if there is one. `flags` come last.
    ///
    /// # Errors
    /// Names the key and where it was set.
    pub fn load(file: Option<&Path>, flags: &impl Serialize) -> Result<Config, ConfigError> {
        if let Some(file) = file.filter(|file| !file.is_file()) {
            return Err(ConfigError(format!("there is no file {}", file.display())));
        }
        let file = file.unwrap_or(Path::new("dispatcher.toml"));
        let environment = Env::prefixed("DISPATCHER_")
            // The client's own variables are not settings of the service.
            .ignore(&["url", "key", "app_key", "config"])
            .split("__");
        let mut figment =
            Figment::from(Serialized::defaults(Config::default())).merge(Toml::file(file)).merge(environment);
        figment = figment.merge(Serialized::defaults(flags));
        figment.extract().map_err(|error| ConfigError(error.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flags_come_before_the_environment_and_that_before_the_file() {
        figment::Jail::expect_with(|jail| {
            jail.create_file(
                "d.toml",
                "port = 1\ngrace = 7\nlog = \"json\"\n[engines.heron]\nendpoint = \"http://h\"\n",
            )?;
            jail.set_env("DISPATCHER_PORT", "2");
            jail.set_env("DISPATCHER_GRACE", "8");
            jail.set_env("DISPATCHER_KEY", "dispatch_op_secret");
            let flags = BTreeMap::from([("port", 3)]);
            let config = Config::load(Some(Path::new("d.toml")), &flags).map_err(|e| e.to_string())?;
            assert_eq!((config.port, config.grace, config.log), (3, 8, LogFormat::Json));
            assert_eq!(config.engines["heron"].endpoint.as_deref(), Some("http://h"));
            Ok(())
        });
    }

    #[test]
    fn an_unknown_setting_is_named() {
        figment::Jail::expect_with(|jail| {
            jail.create_file("d.toml", "prot = 1\n")?;
            let error = Config::load(Some(Path::new("d.toml")), &BTreeMap::<&str, u8>::new()).expect_err("prot");
            assert!(error.to_string().contains("prot"), "{error}");
            let error = Config::load(Some(Path::new("none.toml")), &BTreeMap::<&str, u8>::new()).expect_err("none");
            assert!(error.to_string().contains("none.toml"), "{error}");
            Ok(())
        });
    }
}
