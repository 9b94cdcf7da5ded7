//! Arguments of `job`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::VoiceArgs;

#[derive(Subcommand)]
pub(crate) enum JobCommand {
    /// Add a job: speak a document of any length, or transcribe a long recording
    ///
    /// The job runs in the service and continues if this command ends.
    Add(Box<JobAddArgs>),
    /// List jobs, newest first
    List(JobListArgs),
    /// Show one job
    Show {
        /// Id of the job, or a unique beginning of it
        id: String,
    },
    /// Wait for a job and show its progress; exit with 1 if the job fails
    ///
    /// Examples:
    ///   dispatcher job wait 01a22a98261671c2 -o handbook/
    #[command(verbatim_doc_comment)]
    Wait {
        /// Id of the job, or a unique beginning of it
        id: String,
        /// Fetch the files of the job into this folder
        #[arg(short, long, value_name = "FOLDER")]
        output: Option<PathBuf>,
        /// Overwrite existing files
        #[arg(long, requires = "output")]
        force: bool,
    },
    /// Fetch the files of a job
    ///
    /// Examples:
    ///   dispatcher job fetch 01a22a98261671c2 -o handbook/
    #[command(verbatim_doc_comment)]
    Fetch {
        /// Id of the job, or a unique beginning of it
        id: String,
        /// Output folder
        #[arg(short, long, value_name = "FOLDER")]
        output: PathBuf,
        /// Overwrite existing files
        #[arg(long)]
        force: bool,
    },
    /// Cancel a job; files that are finished are kept
    Cancel {
        /// Id of the job, or a unique beginning of it
        id: String,
    },
    /// Resume a job that failed or was cancelled, without paying again for finished parts
    ///
    /// Examples:
    ///   dispatcher job resume 01a22a98261671c2
    #[command(verbatim_doc_comment)]
    Resume {
        /// Id of the job, or a unique beginning of it
        id: String,
    },
    /// Remove a job and its files
    Remove {
        /// Id of the job, or a unique beginning of it
        id: String,
    },
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher job add handbook.md --split heading --voice quayside --format mp3
  dispatcher job add handbook.md --voice quayside --dry-run
  dispatcher job add timetable.pdf --voice quayside --wait -o timetable/
  dispatcher job add drill.mp3 --route captions --wait -o drill/")]
pub(crate) struct JobAddArgs {
    /// Document (text, Markdown, SSML, HTML, EPUB, PDF) or recording, - for text
    /// from standard input
    pub(crate) file: PathBuf,
    /// For a recording: use this route
    #[arg(long, conflicts_with = "engine")]
    pub(crate) route: Option<String>,
    /// For a recording: use this engine
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// How to split a document into files: none, heading, heading:1 to heading:6,
    /// line, or minutes:COUNT
    #[arg(long, value_name = "WHERE")]
    pub(crate) split: Option<String>,
    /// URL to notify when the job ends; the service must allow its host
    #[arg(long, value_name = "URL")]
    pub(crate) webhook: Option<String>,
    /// Title of the job (default: title of the document, or the file name)
    #[arg(long)]
    pub(crate) title: Option<String>,
    #[command(flatten)]
    pub(crate) voice: VoiceArgs,
    /// Show the estimate only; no job is added and no engine is called
    #[arg(long, conflicts_with = "wait")]
    pub(crate) dry_run: bool,
    /// Wait until the job ends
    #[arg(long)]
    pub(crate) wait: bool,
    /// With --wait: fetch the files of the job into this folder
    #[arg(short, long, value_name = "FOLDER", requires = "wait")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite existing files
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher job list
  dispatcher job list --state running")]
pub(crate) struct JobListArgs {
    /// State: queued, running, waiting, done, failed or cancelled
    #[arg(long)]
    pub(crate) state: Option<String>,
    /// Jobs of this app only
    #[arg(long)]
    pub(crate) app: Option<String>,
    /// Maximum number of jobs, newest first
    #[arg(long, default_value_t = 20)]
    pub(crate) limit: u32,
}
