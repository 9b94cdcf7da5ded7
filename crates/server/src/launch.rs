//! From a configuration to a running service, and its end.

use std::net::{IpAddr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};

use dispatcher_engines::{Engine, EngineError, Fetcher, WebhookClient};
use dispatcher_gateway::{
    Gateway, GatewayError, Host, JobsPlace, Registry, RootKeys, StorageRoom, Webhooks, now_micros,
};
use dispatcher_store::{AccessKey, App, Store, StoreError};
use dispatcher_vault::{KeyKind, RootKey, VaultError, new_key, random_token};
use figment::Figment;
use rocket::{Build, Ignite, Rocket};
use secrecy::{ExposeSecret as _, SecretString};
use tracing_subscriber::filter::filter_fn;
use tracing_subscriber::layer::SubscriberExt as _;
use tracing_subscriber::util::SubscriberInitExt as _;

use crate::body::BodyRoom;
use crate::connections::Connections;
use crate::document_reader::DocumentReader;
use crate::drain::Drain;
use crate::idempotency::Idempotency;
use crate::sign_in::SignIn;
use crate::spool::Spool;
use crate::uploads::Uploads;
use crate::{Config, LogFormat, api, catchers, console, headers, openapi};

/// The sheets that are part of the product.
const SHIPPED: [(&str, &str); 3] = [
    ("espeak-ng.toml", include_str!("../../../sheets/espeak-ng.toml")),
    ("flite.toml", include_str!("../../../sheets/flite.toml")),
    ("pocketsphinx.toml", include_str!("../../../sheets/pocketsphinx.toml")),
];

/// How the service is reached from outside.
pub(crate) struct PublicUrl(pub(crate) String);

impl PublicUrl {
    pub(crate) fn is_https(&self) -> bool {
        self.0.starts_with("https://")
    }

    /// Whether a `Host` field names this service: by its own name, by an
    /// address, or as `localhost`, which no stranger's name server answers for.
    pub(crate) fn is_host(&self, host: &str) -> bool {
        let own = self.0.split_once("://").map_or("", |(_, rest)| rest.split('/').next().unwrap_or_default());
        let name = host.rsplit_once(':').filter(|(_, port)| port.bytes().all(|byte| byte.is_ascii_digit()));
        let name = name.map_or(host, |(name, _)| name);
        let bare = name.trim_start_matches('[').trim_end_matches(']');
        !host.is_empty()
            && (host.eq_ignore_ascii_case(own)
                || name.eq_ignore_ascii_case("localhost")
                || bare.parse::<IpAddr>().is_ok())
    }
}

/// Why the service does not run.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    #[error("the data folder {path} cannot be used")]
    Data { path: PathBuf, source: std::io::Error },
    #[error("cannot listen on {address}: {source}; choose another port with --port")]
    Listen { address: SocketAddr, source: std::io::Error },
    #[error("the environment variable {0}, which holds the root key or its passphrase, is not set")]
    Variable(String),
    #[error(
        "the root key {path} is missing, and {sealed} credentials are sealed with it; \
         put the file back from its backup, or revoke the credentials: start once with --forget-credentials"
    )]
    RootKeyLost { path: PathBuf, sealed: usize },
    #[error(
        "the root key opens none of the {sealed} sealed credentials; \
         give the one that they were sealed with, or start once with --forget-credentials to revoke them"
    )]
    RootKeyWrong { sealed: usize },
    #[error(
        "{path} holds sample data of the demo, which must not mix with real records; \
         give another folder with --data, or run dispatcher demo"
    )]
    SampleData { path: PathBuf },
    #[error("the sheet folder {path} cannot be read")]
    Sheets { path: PathBuf, source: std::io::Error },
    #[error(transparent)]
    Sheet(#[from] dispatcher_core::SheetError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Vault(#[from] VaultError),
    #[error(transparent)]
    Gateway(#[from] GatewayError),
    #[error(transparent)]
    Engine(#[from] EngineError),
    #[error("the server stopped: {0}")]
    Rocket(String),
}

/// A service that is ready to run.
pub struct Service {
    rocket: Rocket<Ignite>,
    gateway: Gateway,
    sign_in: SignIn,
    drain: Drain,
    grace: std::time::Duration,
    url: String,
    connections: Connections,
    local: SocketAddr,
}

/// What can be done with a service while it runs.
pub struct RunningService {
    gateway: Gateway,
    sign_in: SignIn,
    drain: Drain,
    grace: std::time::Duration,
    url: String,
    /// Where it listens, whatever it is called outside.
    local: SocketAddr,
    shutdown: rocket::Shutdown,
    task: tokio::task::JoinHandle<Result<(), ServeError>>,
}

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

/// The engines that ship and those of these folders, without any records.
///
/// # Errors
/// When a folder cannot be read or a sheet has a fault.
pub fn offline_registry(sheets: &[PathBuf]) -> Result<Registry, ServeError> {
    let host = Host::alone(Fetcher::new()?);
    let mut registry = Registry::default();
    for (engine, ..) in load_engines(sheets, &host)? {
        registry.add(engine);
    }
    Ok(registry)
}

fn load_engines(sheets: &[PathBuf], host: &Host) -> Result<Vec<(Engine, String, String)>, ServeError> {
    let mut engines = Vec::new();
    let mut load = |source: &str, file: &str| -> Result<(), ServeError> {
        engines.push((host.engine(source, file)?, source.to_owned(), file.to_owned()));
        Ok(())
    };
    for (file, source) in SHIPPED {
        load(source, file)?;
    }
    for folder in sheets {
        let failed = |source| ServeError::Sheets { path: folder.clone(), source };
        let mut files: Vec<PathBuf> = std::fs::read_dir(folder)
            .map_err(failed)?
            .filter_map(|entry| entry.ok().map(|entry| entry.path()))
            .filter(|path| path.extension().is_some_and(|extension| extension == "toml"))
            .collect();
        files.sort();
        for file in files {
            let source = std::fs::read_to_string(&file).map_err(failed)?;
            load(&source, &file.to_string_lossy())?;
        }
    }
    Ok(engines)
}

/// Makes the data folder, for the service's own user alone, and gives the one
/// in it where bodies are spooled.
fn prepare_data(folder: &Path) -> Result<PathBuf, ServeError> {
    use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
    let failed = |source| ServeError::Data { path: folder.into(), source };
    // Every file from here on, SQLite's own among them.
    rustix::process::umask(rustix::fs::Mode::RWXG | rustix::fs::Mode::RWXO);
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(failed)?;
    let mode = std::fs::metadata(folder).map_err(failed)?.permissions().mode() & 0o777;
    if mode & 0o077 != 0 {
        tracing::warn!(
            path = %folder.display(),
            mode = format!("{mode:03o}"),
            "the data folder is readable by others; run chmod 700 on it"
        );
    }
    let spool = folder.join("spool");
    // What an earlier run left behind belongs to nobody.
    match std::fs::remove_dir_all(&spool) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(failed(error)),
        _ => {}
    }
    std::fs::create_dir_all(&spool).map_err(failed)?;
    make_private(folder).map_err(failed)?;
    Ok(spool)
}

/// Takes what an earlier version wrote away from others: mode 0600 for files
/// and 0700 for folders, whatever they had.
fn make_private(folder: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt as _;
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_symlink() {
            continue;
        }
        let mode = entry.metadata()?.permissions().mode();
        if mode & 0o077 != 0 {
            std::fs::set_permissions(entry.path(), std::fs::Permissions::from_mode(mode & 0o700))?;
        }
        if kind.is_dir() {
            make_private(&entry.path())?;
        }
    }
    Ok(())
}

fn root_file(config: &Config) -> PathBuf {
    config.root_key.clone().unwrap_or_else(|| config.data.join("root.key"))
}

/// A lost root key is never replaced in silence: what is sealed with it could
/// not be opened any more.
async fn check_root_file(config: &Config, store: &Store) -> Result<(), ServeError> {
    let path = root_file(config);
    let elsewhere = config.root_passphrase_variable.is_some() || config.root_key_variable.is_some();
    let sealed = store.credentials().await?.iter().filter(|row| !row.ciphertext.is_empty()).count();
    if elsewhere || sealed == 0 || path.exists() {
        return Ok(());
    }
    if config.forget_credentials {
        store.forget_credentials("host".into(), now_micros()).await?;
        tracing::warn!(sealed, "the credentials were revoked, since their root key is lost");
        return Ok(());
    }
    Err(ServeError::RootKeyLost { path, sealed })
}

/// The root key from where the host keeps it.
fn roots(config: &Config) -> Result<RootKeys, ServeError> {
    let given = |name: &str| std::env::var(name).ok().filter(|text| !text.is_empty()).map(SecretString::from);
    let needed = |name: &str| given(name).ok_or_else(|| ServeError::Variable(name.to_owned()));
    let made = |text: SecretString, salt: &str| match config.root_passphrase_variable {
        Some(_) => RootKey::from_passphrase(text.expose_secret(), &config.data.join(salt), &mut rand::rng()),
        None => RootKey::from_text(text.expose_secret()),
    };
    match config.root_passphrase_variable.as_ref().or(config.root_key_variable.as_ref()) {
        Some(name) => {
            let current = made(needed(name)?, "root.salt")?;
            let next = given(&format!("{name}_NEXT")).map(|text| made(text, "root.salt")).transpose()?;
            Ok(RootKeys::given(current, next))
        }
        None => Ok(RootKeys::of_file(&root_file(config))?),
    }
}

/// Who may be told of the end of a job; the key is made at the first start.
fn webhooks(config: &Config) -> Result<Webhooks, ServeError> {
    let path = config.data.join("webhook.key");
    let failed = |source| ServeError::Data { path: path.clone(), source };
    if !path.exists() {
        write_private(&path, WebhookClient::new_key()?.expose_secret().trim()).map_err(failed)?;
    }
    let key = SecretString::from(std::fs::read_to_string(&path).map_err(failed)?);
    Ok(Webhooks { webhook_client: WebhookClient::new(key)?, hosts: config.webhook_hosts.clone() })
}

/// At the first start: the app that pays for the console, and an operator key
/// in a file of mode 0600.
async fn first_start(store: &Store, data: &Path) -> Result<(), ServeError> {
    if store.apps().await?.iter().any(|app| app.name == "console") {
        return Ok(());
    }
    let console = App::new("console", "Console", now_micros());
    store.add_app(console, "host".into()).await?;
    let path = data.join("operator.key");
    let key = add_operator_key(store, "made at the first start").await?;
    write_private(&path, key.expose_secret()).map_err(|source| ServeError::Data { path: path.clone(), source })?;
    tracing::info!(path = %path.display(), "the first operator key was written to this file");
    Ok(())
}

async fn add_operator_key(store: &Store, label: &str) -> Result<SecretString, StoreError> {
    let made = new_key(KeyKind::Operator, &mut rand::rng());
    let row = AccessKey {
        id: random_token(&mut rand::rng())[..12].to_owned(),
        app: "console".into(),
        operator: 1,
        hash: made.hash,
        hint: made.hint,
        label: label.into(),
        created_at: now_micros(),
        last_used_at: None,
        revoked_at: None,
    };
    store.add_key(row, "host".into()).await?;
    Ok(made.secret)
}

/// A root key that opens nothing is the wrong one.
async fn check_roots(config: &Config, gateway: &Gateway) -> Result<(), ServeError> {
    let (sealed, opened) = gateway.sealed_credentials().await?;
    if sealed == 0 || opened > 0 {
        return Ok(());
    }
    if config.forget_credentials {
        gateway.store().forget_credentials("host".into(), now_micros()).await?;
        tracing::warn!(sealed, "the credentials were revoked, since the root key does not open them");
        return Ok(());
    }
    Err(ServeError::RootKeyWrong { sealed })
}

fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    use std::os::unix::fs::OpenOptionsExt as _;
    let mut file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    writeln!(file, "{text}")
}

/// A free port is taken by binding once: Rocket cannot tell the one it got.
fn settle_port(config: &Config) -> Result<u16, ServeError> {
    let address = SocketAddr::new(config.address, config.port);
    let listener = TcpListener::bind(address).map_err(|source| ServeError::Listen { address, source })?;
    let bound = listener.local_addr().map_err(|source| ServeError::Listen { address, source })?;
    Ok(bound.port())
}

/// More open files than the usual 1,024 are needed for many callers.
fn raise_file_limit() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let raised = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    if let Err(error) = raised {
        tracing::warn!(%error, "the limit on open files stays as it is");
    }
}

/// Files that may be open at once.
fn file_limit() -> usize {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current;
    limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX)
}

impl Service {
    /// Prepares everything and ignites; nothing is served yet.
    ///
    /// # Errors
    /// With what to do about it.
    pub async fn new(config: &Config) -> Result<Service, ServeError> {
        raise_file_limit();
        let folder = prepare_data(&config.data)?;
        let room = StorageRoom {
            folder: config.data.clone(),
            reserve: config.reserve_megabytes.saturating_mul(1_000_000),
            quota: config.app_megabytes.saturating_mul(1_000_000),
        };
        let spool = Spool { folder, limit: config.body_megabytes * 1_000_000, room: room.clone() };
        let store = Store::open(&config.data.join("records.db"))?;
        if !config.demo && store.has_samples().await? {
            return Err(ServeError::SampleData { path: config.data.clone() });
        }
        check_root_file(config, &store).await?;
        let roots = roots(config)?;
        first_start(&store, &config.data).await?;
        let endpoints = config.engines.iter();
        let host = Host {
            fetcher: Fetcher::through(config.proxy.as_deref())?,
            endpoints: endpoints.filter_map(|(name, it)| Some((name.clone(), it.endpoint.clone()?))).collect(),
            clips: Some(config.data.join("clips")),
            jobs: Some(JobsPlace {
                folder: config.data.join("jobs"),
                keep: std::time::Duration::from_secs(u64::from(config.keep_days) * 86_400),
                held: config.demo,
            }),
            fetch_hosts: config.fetch_hosts.clone(),
            webhooks: Some(webhooks(config)?),
            room: Some(room),
        };
        let mut registry = Registry::default();
        for (engine, source, file) in load_engines(&config.sheets, &host)? {
            store.put_sheet(engine.sheet().name.clone(), source, file, now_micros()).await?;
            registry.add(engine);
        }
        let gateway = Gateway::start(store, roots, registry, host).await?;
        check_roots(config, &gateway).await?;
        let port = settle_port(config)?;
        let url =
            config.public_url.clone().unwrap_or_else(|| format!("http://{}", SocketAddr::new(config.address, port)));
        let url = url.trim_end_matches('/').to_owned();
        let sign_in = SignIn::default();
        let rocket = build(config, port, &url, gateway.clone(), spool).manage(sign_in.clone());
        let drain = Drain::default();
        let connections = Connections::new(config.connections.min(file_limit() / 2).max(16));
        let [requests, answers] = connections.fairing();
        let rocket = rocket.manage(drain.clone()).attach(requests).attach(answers);
        let rocket = rocket.ignite().await.map_err(|error| ServeError::Rocket(error.to_string()))?;
        let grace = std::time::Duration::from_secs(config.grace.into());
        Ok(Service {
            rocket,
            gateway,
            sign_in,
            drain,
            grace,
            url,
            connections,
            local: SocketAddr::new(config.address, port),
        })
    }

    /// What is served, to be called without a network.
    #[cfg(test)]
    pub(crate) fn into_rocket(self) -> Rocket<Ignite> {
        self.rocket
    }

    /// The gateway behind it.
    #[cfg(test)]
    pub(crate) fn gateway(&self) -> &Gateway {
        &self.gateway
    }

    /// Serves in a task of its own.
    pub fn start(self) -> RunningService {
        RunningService {
            gateway: self.gateway.clone(),
            sign_in: self.sign_in.clone(),
            drain: self.drain.clone(),
            grace: self.grace,
            url: self.url.clone(),
            local: self.local,
            shutdown: self.rocket.shutdown(),
            task: tokio::spawn(self.run()),
        }
    }

    async fn run(self) -> Result<(), ServeError> {
        tracing::info!(url = %self.url, "listening");
        let looking = tokio::spawn(self.connections.look_after(self.local.port()));
        let ended = self.rocket.launch().await;
        looking.abort();
        // Work goes on after the last answer: settlements are written first.
        self.gateway.finish().await;
        ended.map(drop).map_err(|error| ServeError::Rocket(error.to_string()))
    }
}

impl RunningService {
    /// How the service is reached.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The gateway behind it.
    pub fn gateway(&self) -> &Gateway {
        &self.gateway
    }

    /// Takes no new work, lets running requests finish for at most the
    /// configured grace, and then ends the server.
    pub async fn stop(&self) {
        self.drain.begin();
        self.gateway.pause_jobs();
        let begun = std::time::Instant::now();
        while !self.drain.is_idle() || self.gateway.is_busy() {
            if begun.elapsed() > self.grace {
                tracing::warn!("some requests were still running at the end of the grace and are broken off");
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        self.shutdown.clone().notify();
    }

    /// Waits until the service has ended.
    ///
    /// # Errors
    /// Why it ended, where that was not asked for.
    pub async fn ended(self) -> Result<(), ServeError> {
        self.task.await.unwrap_or_else(|error| Err(ServeError::Rocket(error.to_string())))
    }

    /// Runs until SIGTERM or Ctrl-C, and ends cleanly.
    ///
    /// # Errors
    /// Why it ended, where that was not asked for.
    pub async fn until_signalled(mut self) -> Result<(), ServeError> {
        let failed = |error: std::io::Error| ServeError::Rocket(error.to_string());
        let mut terminate =
            tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).map_err(failed)?;
        tokio::select! {
            ended = &mut self.task => return ended.unwrap_or_else(|error| Err(ServeError::Rocket(error.to_string()))),
            _ = terminate.recv() => {}
            _ = tokio::signal::ctrl_c() => {}
        }
        tracing::info!("stopping: running requests may finish");
        self.stop().await;
        self.ended().await
    }

    /// Waits until the service answers.
    pub async fn ready(&self) {
        while tokio::net::TcpStream::connect(self.local).await.is_err() {
            if self.task.is_finished() {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        }
    }

    /// A link that signs in to the console once.
    pub fn sign_in_link(&self) -> String {
        format!("{}/sign-in/{}", self.url, self.sign_in.new_link())
    }
}

fn build(config: &Config, port: u16, url: &str, gateway: Gateway, spool: Spool) -> Rocket<Build> {
    let uploads = Uploads::new(config.data.join("uploads"), config.upload_megabytes * 1_000_000, spool.room.clone());
    // The signals are ours: Rocket would wait the whole grace for any idle
    // connection, where [`RunningService::stop`] waits for work alone.
    let shutdown = rocket::config::Shutdown {
        ctrlc: false,
        signals: std::collections::HashSet::new(),
        grace: 1,
        mercy: 1,
        ..rocket::config::Shutdown::default()
    };
    let settings = rocket::Config {
        address: config.address,
        port,
        // Anybody could forge the header; the peer's address is the truth.
        ip_header: None,
        temp_dir: spool.folder.clone().into(),
        shutdown,
        log_level: rocket::config::LogLevel::Off,
        cli_colors: false,
        ident: rocket::config::Ident::none(),
        ..rocket::Config::release_default()
    };
    rocket::custom(Figment::from(settings))
        .manage(gateway)
        .manage(PublicUrl(url.to_owned()))
        .manage(Idempotency::default())
        .manage(spool)
        .manage(uploads)
        .manage(BodyRoom::default())
        .manage(DocumentReader::default())
        .attach(headers::fairing())
        .register("/", catchers::all())
        .mount("/api/v1", api::routes())
        .mount("/", rocket::routes![openapi::serve, api::service::health, api::service::metrics])
        .mount("/", console::all())
}

/// Runs a service until it is asked to end (SIGTERM, Ctrl-C).
///
/// # Errors
/// Why it cannot run, with what to do about it.
pub async fn launch(config: &Config) -> Result<(), ServeError> {
    let running = Service::new(config).await?.start();
    running.ready().await;
    if !running.gateway().store().has_people().await? {
        // Standard error and not the log: a link is as good as a password.
        eprintln!("The console is at {}. To sign in once, open {}", running.url(), running.sign_in_link());
    }
    running.until_signalled().await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access;

    #[tokio::test]
    async fn every_route_stands_in_the_table_and_in_the_document() {
        let folder = tempfile::tempdir().expect("folder");
        let config = Config { data: folder.path().into(), port: 0, ..Config::default() };
        let service = Service::new(&config).await.expect("service");
        let mut mounted: Vec<(String, String)> = Vec::new();
        for route in service.rocket.routes() {
            let pattern = route.uri.to_string();
            let known = access::TABLE.iter().any(|row| row.0 == route.method && row.1 == pattern);
            assert!(known, "{} {pattern} is not in the authorisation table", route.method);
            mounted.push((route.method.to_string(), pattern));
        }
        for row in access::TABLE {
            let there = mounted.iter().any(|(method, pattern)| *method == row.0.to_string() && pattern == row.1);
            assert!(there, "{} {} is in the table and not mounted", row.0, row.1);
        }
        let document = serde_json::to_value(openapi::document()).expect("document");
        let mut documented = Vec::new();
        for (path, item) in document["paths"].as_object().expect("paths") {
            for method in item.as_object().expect("methods").keys() {
                documented.push((method.to_uppercase(), path.replace('{', "<").replace('}', ">")));
            }
        }
        let wanted: Vec<(String, String)> = mounted
            .into_iter()
            .map(|(method, pattern)| (method, pattern.split('?').next().unwrap_or_default().to_owned()))
            .filter(|(_, path)| path.starts_with("/api/v1") || path == "/health" || path == "/metrics")
            .collect();
        for call in &wanted {
            assert!(documented.contains(call), "{call:?} is not in the OpenAPI document");
        }
        assert_eq!(documented.len(), wanted.len(), "the document has calls that are not mounted");
        service.gateway.finish().await;
    }

    #[test]
    fn the_service_is_reached_by_its_own_name_or_an_address() {
        let url = PublicUrl("https://speech.saltmarsh.example:8443".into());
        for host in ["speech.saltmarsh.example:8443", "127.0.0.1:7420", "[::1]:7420", "LOCALHOST:1", "192.0.2.7"] {
            assert!(url.is_host(host), "{host}");
        }
        for host in ["", "speech.saltmarsh.example", "evil.example", "127.0.0.1.evil.example:7420", "localhost.x"] {
            assert!(!url.is_host(host), "{host}");
        }
        assert!(url.is_https() && !PublicUrl("http://127.0.0.1".into()).is_https());
    }

    #[tokio::test]
    async fn http2_is_off_and_a_taken_port_is_named() {
        let folder = tempfile::tempdir().expect("folder");
        let taken = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = taken.local_addr().expect("address").port();
        let config = Config { data: folder.path().into(), port, ..Config::default() };
        let error = Service::new(&config).await.err().expect("the port is taken");
        assert!(error.to_string().contains("--port"), "{error}");
        let lock = include_str!("../../../Cargo.lock");
        let rocket =
            lock.split("[[package]]").find(|package| package.contains("name = \"rocket_http\"")).expect("rocket");
        assert!(!rocket.contains("\"h2\""), "HTTP/2 was turned on by a dependency");
    }
}
