//! The command line: the service, the demo, and the client.
//!
//! Data goes to standard output, everything else to standard error. A command
//! exits with 0 only when its work was done, with 2 for wrong usage.

mod args;
mod client;
mod commands;
mod demo;
mod error;
mod files;
mod output;
mod profile;

use std::process::ExitCode;

use clap::Parser as _;

use crate::args::{Cli, Command, EngineCommand};
use crate::error::CliError;
use crate::output::OutputForm;

/// Damaged files make some decoders panic, which is caught and reported as an
/// error of the file: no trace of it is printed beside.
fn quiet_caught_panics() {
    let report = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !dispatcher_audio::expects_panic() && !dispatcher_documents::expects_panic() {
            report(panic);
        }
    }));
}

/// Parses the arguments, runs the command, and says what went wrong.
pub fn main() -> ExitCode {
    quiet_caught_panics();
    // A service starts itself again to read a document.
    if let Some(done) = dispatcher_server::read_document_main() {
        return done;
    }
    let cli = Cli::parse();
    // Blocking work takes turns of its own: more threads would only hold memory.
    let mut runtime = tokio::runtime::Builder::new_multi_thread();
    let runtime = match runtime.enable_all().max_blocking_threads(16).build() {
        Ok(runtime) => runtime,
        Err(error) => {
            eprintln!("error: the runtime cannot start: {error}");
            return ExitCode::FAILURE;
        }
    };
    // Spawned, so that the command's large future lives on the heap.
    let outcome = runtime.block_on(async { tokio::spawn(run(cli)).await });
    match outcome {
        Ok(Ok(())) => ExitCode::SUCCESS,
        Ok(Err(error)) => {
            error.report();
            error.exit_code()
        }
        Err(error) => {
            eprintln!("error: {error}");
            ExitCode::FAILURE
        }
    }
}

async fn run(cli: Cli) -> Result<(), CliError> {
    let Cli { json, profile, command } = cli;
    let form = if json { OutputForm::Json } else { OutputForm::Text };
    let client = || client::Client::new(profile.as_deref());
    match command {
        Command::Serve(args) => commands::serve::run(args).await,
        Command::Demo(args) => demo::run(args, form).await,
        Command::Completions { shell } => commands::completions(shell),
        Command::Speak(args) => commands::speak::run(&client()?, *args, form).await,
        Command::Transcribe(args) => commands::transcribe::run(&client()?, args, form).await,
        Command::Lint(args) => commands::lint::run(&args, form),
        Command::Convert(args) => commands::convert::run(&args, form),
        Command::Provenance(args) => commands::provenance::run(client, args, form).await,
        Command::Estimate(args) => commands::estimate::run(&client()?, *args, form).await,
        Command::Voices(args) => commands::voices::run(&client()?, args, form).await,
        Command::Engine(EngineCommand::Draft { command, name }) => {
            commands::draft::run(command.as_deref(), name.as_deref(), form)
        }
        Command::Engine(command) => commands::engine::run(&client()?, command, form).await,
        Command::Credential(command) => commands::credential::run(&client()?, command, form).await,
        Command::RootKey(command) => commands::credential::root_key(&client()?, command, form).await,
        Command::Preset(command) => commands::preset::run(&client()?, command, form).await,
        Command::Lexicon(command) => commands::lexicon::run(&client()?, command, form).await,
        Command::Person(command) => commands::person::run(&client()?, command, form).await,
        Command::Clip(command) => commands::clip::run(&client()?, command, form).await,
        Command::Route(command) => commands::route::run(&client()?, command, form).await,
        Command::App(command) => commands::app::run(&client()?, command, form).await,
        Command::Job(command) => commands::job::run(&client()?, command, form).await,
        Command::Prompts(command) => commands::prompts::run(&client()?, command, form).await,
        Command::Ledger(command) => commands::ledger::run(&client()?, command, form).await,
        Command::Credit(command) => commands::credit::run(&client()?, command, form).await,
        Command::Retention(command) => commands::retention::run(&client()?, command, form).await,
        Command::Rate(command) => commands::rate::run(&client()?, command, form).await,
        Command::Statement(command) => commands::statement::run(&client()?, command, form).await,
        Command::Tariff(command) => commands::tariff::run(&client()?, command, form).await,
        Command::Usage(args) => commands::usage::run(&client()?, args, form).await,
        Command::Caption(args) => commands::caption::run(&client()?, *args, form).await,
        Command::Link(args) => commands::link::run(&client()?, args, form).await,
        Command::Exchange(args) => commands::exchange::run(&client()?, *args, form).await,
        Command::Compare(args) => commands::compare::run(&client()?, args, form).await,
        Command::Transcript(command) => commands::transcript::run(&client()?, command, form).await,
        Command::Vocabulary(args) => commands::transcript_rules::vocabulary(&client()?, args, form).await,
        Command::Phrases(args) => commands::transcript_rules::phrases(&client()?, args, form).await,
        Command::Masks(args) => commands::transcript_rules::masks(&client()?, args, form).await,
        Command::Canary(command) => commands::canary::run(&client()?, command, form).await,
        Command::Alert(command) => commands::alert::run(&client()?, command, form).await,
        Command::Audit(args) => commands::audit::run(&client()?, args, form).await,
        Command::Health(args) => commands::health::run(&client()?, args, form).await,
        Command::Dispatches(args) => commands::dispatches::run(&client()?, args, form).await,
    }
}
