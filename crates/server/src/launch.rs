//! From a configuration to a running service, and its end.

use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;

use dispatcher_engines::{EngineError, Fetcher};
use dispatcher_gateway::{Gateway, GatewayError, Host, JobsPlace, Registry, StorageRoom, Traces, now_micros};
use dispatcher_store::{NewVersion, Store, StoreError, VersionOrigin, VersionedKind};
use dispatcher_vault::VaultError;
use figment::Figment;
use rocket::{Build, Ignite, Rocket};

use crate::answers::Answers;
use crate::body::BodyRoom;
use crate::connections::Connections;
use crate::document_reader::DocumentReader;
use crate::drain::Drain;
use crate::idempotency::Idempotency;
use crate::public_url::PublicUrl;
use crate::sheet_files::load_engines;
use crate::sign_in::SignIn;
use crate::spool::Spool;
use crate::uploads::Uploads;
use crate::{Config, catchers, headers, origins, preparation, routes};

/// Why the service does not run.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    #[error("the data folder {path} cannot be used")]
    Data { path: PathBuf, source: std::io::Error },
    #[error("cannot listen on {address}: {source}; choose another port with --port")]
    Listen { address: SocketAddr, source: std::io::Error },
    #[error("the environment variable {0}, which holds the root key or its passphrase, is not set")]
    Variable(String),
    #[error("the environment variable {0}, which holds the password of the mail server, is not set")]
    MailPassword(String),
    #[error("[mail] has the user {0} and no password; set password_file or password_variable")]
    MailLogin(String),
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
    answers: Answers,
    uploads: Uploads,
    local: SocketAddr,
    #[cfg(test)]
    pub(crate) store: Store,
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

/// A free port is taken by binding once: Rocket does not report its own.
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
        let folder = preparation::prepare_data(&config.data)?;
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
        preparation::check_root_file(config, &store).await?;
        let roots = preparation::roots(config)?;
        preparation::first_start(&store, &config.data).await?;
        let endpoints = config.engines.iter();
        let host = Host {
            currency: config.currency,
            fetcher: Fetcher::through(config.proxy.as_deref())?,
            endpoints: endpoints.filter_map(|(name, it)| Some((name.clone(), it.endpoint.clone()?))).collect(),
            clips: Some(config.data.join("clips")),
            jobs: Some(JobsPlace {
                folder: config.data.join("jobs"),
                keep: std::time::Duration::from_secs(u64::from(config.keep_days) * 86_400),
                held: config.demo,
            }),
            fetch_hosts: config.fetch_hosts.clone(),
            webhooks: Some(preparation::webhooks(config)?),
            signer: Some(std::sync::Arc::new(preparation::audio_signer(config)?)),
            mail: preparation::mail(config)?,
            traces: config.trace_endpoint.as_deref().map(Traces::new).transpose()?,
            room: Some(room),
        };
        let mut registry = Registry::default();
        for (engine, source, file) in load_engines(&config.sheets, &host)? {
            let (kind, name) = (VersionedKind::Sheet, engine.sheet().name.clone());
            let origin = VersionOrigin::File(file);
            let new = NewVersion { kind, name, app: None, always: false, document: source, origin };
            store.put_version(new, now_micros()).await?;
            registry.add(engine);
        }
        #[cfg(test)]
        let records = store.clone();
        let gateway = Gateway::start(store, roots, registry, host).await?;
        preparation::check_roots(config, &gateway).await?;
        let port = settle_port(config)?;
        let url =
            config.public_url.clone().unwrap_or_else(|| format!("http://{}", SocketAddr::new(config.address, port)));
        let url = url.trim_end_matches('/').to_owned();
        let sign_in = SignIn::default();
        let linked = Answers::new(&config.data, spool.room.clone());
        let linked = linked.map_err(|source| ServeError::Data { path: config.data.join("answers"), source })?;
        let limit = config.upload_megabytes * 1_000_000;
        let uploads = Uploads::new(config.data.join("uploads"), limit, spool.room.clone());
        let rocket = build(config, port, &url, gateway.clone(), spool).manage(sign_in.clone());
        let rocket = rocket.manage(linked.clone()).manage(preparation::link_signer(config)?);
        let rocket = rocket.manage(uploads.clone());
        let drain = Drain::default();
        let connections = Connections::new(config.connections.min(file_limit() / 2).max(16));
        let [requests, answers] = connections.fairing();
        let rocket = rocket.manage(drain.clone()).manage(connections.clone()).attach(requests).attach(answers);
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
            answers: linked,
            uploads,
            local: SocketAddr::new(config.address, port),
            #[cfg(test)]
            store: records,
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
        let sweeping = tokio::spawn(self.answers.look_after());
        let aging = tokio::spawn(self.uploads.look_after(self.gateway.clone()));
        let ended = self.rocket.launch().await;
        looking.abort();
        sweeping.abort();
        aging.abort();
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
    let rocket = rocket::custom(Figment::from(settings))
        .manage(gateway)
        .manage(PublicUrl(url.to_owned()))
        .manage(Idempotency::default())
        .manage(spool)
        .manage(BodyRoom::default())
        .manage(DocumentReader::default())
        .attach(headers::fairing())
        .attach(origins::fairing())
        .register("/", catchers::all());
    routes::mount(rocket)
}

/// Runs a service until it is asked to end (SIGTERM, Ctrl-C).
///
/// # Errors
/// Why it cannot run, with what to do about it.
pub async fn launch(config: &Config) -> Result<(), ServeError> {
    let running = Service::new(config).await?.start();
    running.ready().await;
    if !running.gateway().has_people().await? {
        // Standard error and not the log: a link is as good as a password.
        eprintln!("The console is at {}. To sign in once, open {}", running.url(), running.sign_in_link());
    }
    running.until_signalled().await
}

#[cfg(test)]
mod tests {
    use super::*;

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
