//! What goes wrong on the command line, and what to do next.

use std::path::PathBuf;
use std::process::ExitCode;

use dispatcher_server::{ConfigError, ServeError};

/// A problem document of the service.
#[derive(Debug, Clone, Default, serde::Deserialize)]
pub(crate) struct Problem {
    /// Its kind: an address that ends in its name.
    #[serde(default, rename = "type")]
    pub(crate) kind: String,
    #[serde(default)]
    pub(crate) title: String,
    #[serde(default)]
    pub(crate) status: u16,
    #[serde(default)]
    pub(crate) detail: String,
    #[serde(default)]
    pub(crate) help: String,
    #[serde(default)]
    pub(crate) nearest: Vec<String>,
    #[serde(default)]
    pub(crate) dispatch: Option<String>,
}

/// What to do in the words of this client, where the service advises header
/// fields and settings.
const ADVICE: [(&str, &str); 4] = [
    ("audio-too-long", "Have it recognised as a job: dispatcher job add FILE"),
    ("text-too-long", "Shorten the text, choose another engine, or have it spoken as a job: dispatcher job add FILE"),
    ("too-large", "Send it as a job: dispatcher job add FILE"),
    ("unsupported", "Leave out what the errors name, or leave out --strict."),
];

impl Problem {
    /// Whether it is of a kind, by its name.
    pub(crate) fn is(&self, name: &str) -> bool {
        self.kind.rsplit('/').next() == Some(name)
    }

    fn advice(&self) -> &str {
        ADVICE.iter().find(|(name, _)| self.is(name)).map_or(&self.help, |(_, advice)| advice)
    }
}

/// Errors of a command.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CliError {
    #[error("{0}")]
    Usage(String),
    #[error("{}: {}", .0.title, .0.detail)]
    Problem(Box<Problem>),
    #[error("{url} does not answer")]
    Unreachable { url: String, source: reqwest::Error },
    #[error("the answer broke off; nothing was kept")]
    Broken(#[source] reqwest::Error),
    #[error("{path}: {source}")]
    File { path: PathBuf, source: std::io::Error },
    #[error("{0} is there already; use --force to overwrite it")]
    Exists(PathBuf),
    #[error(transparent)]
    Config(#[from] ConfigError),
    #[error(transparent)]
    Serve(#[from] ServeError),
    #[error("{0}")]
    Failed(String),
    #[error("output: {0}")]
    Output(#[from] std::io::Error),
}

impl CliError {
    pub(crate) fn exit_code(&self) -> ExitCode {
        // A reader that has had enough is no failure of ours.
        match self {
            CliError::Usage(_) => ExitCode::from(2),
            CliError::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
            _ => ExitCode::FAILURE,
        }
    }

    /// Says what went wrong, why, and what to do next.
    pub(crate) fn report(&self) {
        if matches!(self, CliError::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe) {
            return;
        }
        eprintln!("{} {self}", crate::output::paint("error:", crate::output::Colour::Bad));
        let mut source = std::error::Error::source(self);
        while let Some(inner) = source {
            eprintln!("  because: {inner}");
            source = inner.source();
        }
        match self {
            CliError::Problem(problem) => {
                if !problem.nearest.is_empty() && !problem.detail.contains("near it") {
                    eprintln!("  near it: {}", problem.nearest.join(", "));
                }
                if let Some(dispatch) = &problem.dispatch {
                    eprintln!("  to see what was tried: dispatcher dispatches {dispatch}");
                }
                if !problem.advice().is_empty() {
                    eprintln!("  {}", problem.advice());
                }
            }
            CliError::Unreachable { .. } => {
                eprintln!("  Start it with `dispatcher serve` or `dispatcher demo`, or set DISPATCHER_URL.");
            }
            _ => {}
        }
    }
}
