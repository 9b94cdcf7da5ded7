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
    /// Faults of the request, each with its place.
    #[serde(default)]
    pub(crate) errors: Vec<Fault>,
}

/// One fault of a request: a JSON Pointer (RFC 6901), or a line and column.
#[derive(Debug, Clone, Default, serde::Deserialize)]
pub(crate) struct Fault {
    #[serde(default)]
    pub(crate) pointer: Option<String>,
    #[serde(default)]
    pub(crate) line: Option<u64>,
    #[serde(default)]
    pub(crate) column: Option<u64>,
    #[serde(default)]
    pub(crate) detail: String,
}

impl std::fmt::Display for Fault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.line, self.column, &self.pointer) {
            (Some(line), Some(column), _) => write!(f, "line {line}, column {column}: ")?,
            (_, _, Some(pointer)) => write!(f, "{pointer}: ")?,
            _ => {}
        }
        f.write_str(&self.detail)
    }
}

/// What to do in the words of this client, where the service advises header
/// fields and settings.
const ADVICE: [(&str, &str); 4] = [
    ("audio-too-long", "Transcribe it as a job: dispatcher job add FILE"),
    ("text-too-long", "Shorten the text, choose another engine, or speak it as a job: dispatcher job add FILE"),
    ("too-large", "Send it as a job: dispatcher job add FILE"),
    ("unsupported", "Remove the items given in the errors, or leave out --strict."),
];

impl Problem {
    /// Whether it is of a kind, by its name.
    pub(crate) fn is(&self, name: &str) -> bool {
        self.kind.rsplit('/').next() == Some(name)
    }

    /// The detail, which says what the title says and more.
    fn message(&self) -> &str {
        if self.detail.is_empty() { &self.title } else { &self.detail }
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
    #[error("{}", .0.message())]
    Problem(Box<Problem>),
    #[error("{url} does not answer")]
    Unreachable { url: String, source: reqwest::Error },
    #[error("the answer was cut off; nothing was kept")]
    Broken(#[source] reqwest::Error),
    #[error("{path}: {source}")]
    File { path: PathBuf, source: std::io::Error },
    #[error("{0} exists already; use --force to overwrite it")]
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

    /// The first cause, where the message does not state it already.
    fn innermost(&self) -> Option<String> {
        let mut source = std::error::Error::source(self)?;
        while let Some(inner) = source.source() {
            source = inner;
        }
        let cause = source.to_string();
        (!self.to_string().contains(&cause)).then_some(cause)
    }

    /// Says what went wrong, why, and what to do next.
    pub(crate) fn report(&self) {
        if matches!(self, CliError::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe) {
            return;
        }
        eprintln!("{} {self}", crate::output::paint("error:", crate::output::Colour::Bad));
        if let Some(cause) = self.innermost() {
            eprintln!("  because: {cause}");
        }
        match self {
            CliError::Problem(problem) => {
                for fault in problem.errors.iter().filter(|fault| !problem.detail.contains(&fault.detail)) {
                    eprintln!("  {fault}");
                }
                if !problem.nearest.is_empty() && !problem.detail.contains("similar") {
                    eprintln!("  similar: {}", problem.nearest.join(", "));
                }
                if let Some(dispatch) = &problem.dispatch {
                    eprintln!("  To see the attempts: dispatcher dispatches {}", crate::output::short(dispatch));
                }
                if !problem.advice().is_empty() {
                    eprintln!("  {}", problem.advice());
                }
            }
            CliError::Unreachable { .. } => {
                eprintln!("  Start the service with `dispatcher serve` or `dispatcher demo`, or set DISPATCHER_URL.");
            }
            _ => {}
        }
    }
}
