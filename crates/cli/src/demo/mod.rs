//! `dispatcher demo`: the service with the Saltmarsh Ferries scenario and
//! simulated engines.

mod history;
mod once;
mod samples;
mod scenario;
mod standins;

use std::path::{Path, PathBuf};

use dispatcher_server::{Config, RunningService, Service, init_logging, make_data_folder};
use secrecy::{ExposeSecret as _, SecretString};

use self::standins::{StandInSecrets, StandIns};
use crate::args::DemoArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::output::{self, OutputForm};

/// A demo that runs: the service, the stand-ins, and the keys to call it with.
struct Demo {
    service: RunningService,
    standins: StandIns,
    operator_key: SecretString,
    app_key: SecretString,
}

pub(crate) async fn run(args: DemoArgs, form: OutputForm) -> Result<(), CliError> {
    if args.once {
        return run_once(args, form).await;
    }
    let data = args.data.unwrap_or_else(|| PathBuf::from("data/demo"));
    let port = args.port.unwrap_or(7_420);
    let demo = start(&data, port, "info", args.config.as_deref(), !args.empty).await?;
    let environment = write_environment(&data, &demo)?;
    let (url, data) = (demo.service.url(), absolute(&data));
    let path = path_line();
    output::print(&format!(
        "Saltmarsh Ferries is open.\n\n\
         Console   {url}\n\
         Sign in   {}   (works once)\n\
         Data      {}\n\
         Weather   {}\n\n\
         To try three commands in another terminal:\n\n\
         {path}\
         \x20 . {}\n\
         \x20 dispatcher speak \"The 06:15 to Gullsay is delayed by twenty minutes.\" --voice quayside -o late.mp3\n\
         \x20 dispatcher transcribe late.mp3 --route captions\n\
         \x20 dispatcher dispatches\n\n\
         Ctrl-C ends it.",
        demo.service.sign_in_link(),
        data.display(),
        demo.standins.weathers(),
        environment.display(),
    ))?;
    // The stand-ins live as long as the service.
    let Demo { service, standins: _standins, .. } = demo;
    Ok(service.until_signalled().await?)
}

/// The line that lets a shell find this program by its name; empty if
/// it does already.
fn path_line() -> String {
    let Ok(program) = std::env::current_exe() else { return String::new() };
    let Some(folder) = program.parent() else { return String::new() };
    let name = program.file_name().unwrap_or_default();
    let known = std::env::var_os("PATH").unwrap_or_default();
    let found = std::env::split_paths(&known).map(|folder| folder.join(name)).find(|path| path.is_file());
    match found.is_some_and(|found| absolute(&found) == absolute(&program)) {
        true => String::new(),
        false => format!("\x20 export PATH=\"{}:$PATH\"\n", folder.display()),
    }
}

async fn run_once(args: DemoArgs, form: OutputForm) -> Result<(), CliError> {
    let temporary = tempfile::tempdir()?;
    let data = args.data.unwrap_or_else(|| temporary.path().to_owned());
    let out = args.output.unwrap_or_else(|| PathBuf::from("demo-out"));
    std::fs::create_dir_all(&out).map_err(|source| CliError::File { path: out.clone(), source })?;
    let demo = start(&data, args.port.unwrap_or(0), "error", args.config.as_deref(), false).await?;
    let url = demo.service.url().to_owned();
    let example = once::Example {
        app: Client::to(url.clone(), Some(demo.app_key.clone()))?,
        operator: Client::to(url, Some(demo.operator_key.clone()))?,
        heron: demo.standins.url("heron"),
        out,
    };
    let outcome = example.run(form).await;
    demo.service.stop().await;
    demo.service.ended().await?;
    outcome
}

fn absolute(path: &Path) -> PathBuf {
    std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned())
}

/// `samples`: a new data folder is filled with samples.
async fn start(
    data: &Path,
    port: u16,
    log_level: &str,
    config: Option<&Path>,
    samples: bool,
) -> Result<Demo, CliError> {
    let secrets = StandInSecrets::new()?;
    let standins = StandIns::start(&secrets).await?;
    let sheets = data.join("sheets");
    // Never among the records of something else.
    let samples = samples && !data.join("records.db").exists();
    make_data_folder(data)?;
    scenario::write_sheets(&sheets)?;
    if samples {
        samples::write_sheet_versions(data, &sheets).await?;
    }
    // The settings of the host count here too, but for where and with whom.
    let flags = serde_json::json!({"data": data, "port": port, "log_level": log_level});
    let settings = Config::load(config, &flags)?;
    let config = Config {
        sheets: settings.sheets.iter().cloned().chain([sheets]).collect(),
        engines: settings.engines.clone().into_iter().chain(standins.endpoints()).collect(),
        webhook_hosts: settings.webhook_hosts.iter().cloned().chain([host_of(&standins.reply_hook())]).collect(),
        demo: true,
        ..settings
    };
    init_logging(&config);
    let service = Service::new(&config).await?.start();
    service.ready().await;
    let gateway = service.gateway();
    scenario::fill(gateway, secrets.credentials(), &standins.reply_hook()).await.map_err(failed)?;
    gateway.resume_jobs().await.map_err(failed)?;
    let operator_key =
        gateway.add_app_key("console", dispatcher_gateway::NewKey::labelled("demo"), "demo").await.map_err(failed)?.1;
    let app_key = gateway
        .add_app_key("quay-announcer", dispatcher_gateway::NewKey::labelled("demo"), "demo")
        .await
        .map_err(failed)?
        .1;
    if samples {
        eprintln!("Making the samples of the demo: four weeks of history, two jobs, prompts. Once only.");
        let client = |key: &SecretString| Client::to(service.url().to_owned(), Some(key.clone()));
        samples::fill(service.gateway(), &client(&operator_key)?, &client(&app_key)?).await?;
        samples::add_bills(service.gateway(), data).await?;
    }
    Ok(Demo { service, standins, operator_key, app_key })
}

fn host_of(address: &str) -> String {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    rest.split('/').next().unwrap_or_default().to_owned()
}

fn failed(error: dispatcher_gateway::GatewayError) -> CliError {
    CliError::Failed(format!("the demo scenario cannot be set up: {error}"))
}

/// What a shell sources to become a client of the demo.
fn write_environment(data: &Path, demo: &Demo) -> Result<PathBuf, CliError> {
    use std::io::Write as _;
    use std::os::unix::fs::OpenOptionsExt as _;
    let path = absolute(data).join("demo.env");
    let text = format!(
        "export DISPATCHER_URL={}\nexport DISPATCHER_KEY={}\nexport DISPATCHER_APP_KEY={}\n",
        demo.service.url(),
        demo.operator_key.expose_secret(),
        demo.app_key.expose_secret(),
    );
    let failed = |source| CliError::File { path: path.clone(), source };
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    Ok(path)
}
