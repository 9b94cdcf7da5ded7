//! Arguments of `job`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::VoiceArgs;

#[derive(Subcommand)]
pub(crate) enum JobCommand {
    /// Have a document of any length spoken, or a long recording written down
    ///
    /// The work goes on in the service, whatever becomes of this command.
    Add(Box<JobAddArgs>),
    /// List jobs, newest first
    List(JobListArgs),
    /// Show one job
    Show {
        /// Its id, or the end of it
        id: String,
    },
    /// Wait for a job, with its progress; exits with 1 where it fails
    ///
    /// Examples:
    ///   dispatcher job wait 5d21c0 -o handbook/
    #[command(verbatim_doc_comment)]
    Wait {
        /// Its id, or the end of it
        id: String,
        /// Then fetch its files into this folder
        #[arg(short, long, value_name = "FOLDER")]
        output: Option<PathBuf>,
        /// Overwrite files that are there
        #[arg(long, requires = "output")]
        force: bool,
    },
    /// Fetch the files of a job
    ///
    /// Examples:
    ///   dispatcher job fetch 5d21c0 -o handbook/
    #[command(verbatim_doc_comment)]
    Fetch {
        /// Its id, or the end of it
        id: String,
        /// Into this folder
        #[arg(short, long, value_name = "FOLDER")]
        output: PathBuf,
        /// Overwrite files that are there
        #[arg(long)]
        force: bool,
    },
    /// End a job; what is made of it stays
    Cancel {
        /// Its id, or the end of it
        id: String,
    },
    /// Resume a job that failed or was cancelled, from what is paid for
    ///
    /// Examples:
    ///   dispatcher job resume 5d21c0
    #[command(verbatim_doc_comment)]
    Resume {
        /// Its id, or the end of it
        id: String,
    },
    /// Remove a job with its files
    Remove {
        /// Its id, or the end of it
        id: String,
    },
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher job add handbook.md --split heading --voice quayside --format mp3
  dispatcher job add timetable.pdf --voice quayside --wait -o timetable/
  dispatcher job add drill.mp3 --route captions --wait -o drill/")]
pub(crate) struct JobAddArgs {
    /// The document (text, Markdown, SSML, HTML, EPUB, PDF) or the recording, -
    /// for a text on standard input
    pub(crate) file: PathBuf,
    /// Of a recording: use this route
    #[arg(long, conflicts_with = "engine")]
    pub(crate) route: Option<String>,
    /// Of a recording: use this engine
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// Where a document is parted into files: none, heading, heading:1 to
    /// heading:6, line, or minutes:COUNT
    #[arg(long, value_name = "WHERE")]
    pub(crate) split: Option<String>,
    /// An address that is told of the end; the service must allow its host
    #[arg(long, value_name = "URL")]
    pub(crate) webhook: Option<String>,
    /// What the job is known by; the document's title or the file's name unless given
    #[arg(long)]
    pub(crate) title: Option<String>,
    #[command(flatten)]
    pub(crate) voice: VoiceArgs,
    /// Wait until it is over
    #[arg(long)]
    pub(crate) wait: bool,
    /// With --wait: fetch its files into this folder
    #[arg(short, long, value_name = "FOLDER", requires = "wait")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite files that are there
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher job list
  dispatcher job list --state running")]
pub(crate) struct JobListArgs {
    /// queued, running, waiting, done, failed or cancelled
    #[arg(long)]
    pub(crate) state: Option<String>,
    /// Those of one app
    #[arg(long)]
    pub(crate) app: Option<String>,
    /// How many, the newest first
    #[arg(long, default_value_t = 20)]
    pub(crate) limit: u32,
}
