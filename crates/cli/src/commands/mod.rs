//! One module a command.

pub(crate) mod alert;
pub(crate) mod app;
pub(crate) mod audit;
pub(crate) mod canary;
pub(crate) mod caption;
pub(crate) mod clip;
pub(crate) mod compare;
mod compare_voices;
pub(crate) mod convert;
pub(crate) mod credential;
pub(crate) mod credit;
pub(crate) mod dispatches;
pub(crate) mod draft;
pub(crate) mod engine;
pub(crate) mod estimate;
pub(crate) mod exchange;
pub(crate) mod health;
pub(crate) mod job;
pub(crate) mod ledger;
pub(crate) mod lexicon;
pub(crate) mod link;
pub(crate) mod lint;
mod live_audio;
pub(crate) mod person;
pub(crate) mod preset;
pub(crate) mod prompts;
pub(crate) mod provenance;
pub(crate) mod rate;
pub(crate) mod retention;
pub(crate) mod route;
pub(crate) mod serve;
pub(crate) mod speak;
pub(crate) mod statement;
pub(crate) mod tariff;
pub(crate) mod transcribe;
pub(crate) mod transcript;
pub(crate) mod transcript_rules;
mod upload;
pub(crate) mod usage;
pub(crate) mod voices;

use clap::CommandFactory as _;

use crate::error::CliError;

/// Prints completions for a shell.
pub(crate) fn completions(shell: clap_complete::Shell) -> Result<(), CliError> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut crate::args::Cli::command(), "dispatcher", &mut script);
    crate::output::print(&String::from_utf8_lossy(&script))
}
