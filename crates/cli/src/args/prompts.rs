//! Arguments of `prompts`.

use std::path::PathBuf;

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum PromptsCommand {
    /// Show which files are new, changed or missing, and the cost of making them
    ///
    /// No file is made. Examples:
    ///   dispatcher prompts status demo/scripts/prompts.toml --folder prompts/
    #[command(verbatim_doc_comment)]
    Status {
        /// Table of prompts: TOML, or CSV with the columns id, text or ssml, voice, model, language, formats
        table: PathBuf,
        /// Folder of the audio files
        #[arg(long, value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Make new and changed files; other files are not changed
    ///
    /// Examples:
    ///   dispatcher prompts make demo/scripts/prompts.toml -o prompts/
    ///   dispatcher prompts make prompts.csv -o prompts/ --only welcome --only goodbye
    #[command(verbatim_doc_comment)]
    Make {
        /// Table of prompts
        table: PathBuf,
        /// Output folder of the audio files
        #[arg(short = 'o', long = "output", value_name = "FOLDER")]
        folder: PathBuf,
        /// Make this prompt only; may be given several times
        #[arg(long, value_name = "ID")]
        only: Vec<String>,
        /// Remove files whose row is no longer in the table
        #[arg(long)]
        prune: bool,
    },
    /// Approve prompts after listening; a file that is made again loses its approval
    ///
    /// Examples:
    ///   dispatcher prompts approve prompts.csv welcome goodbye --folder prompts/
    ///   dispatcher prompts approve prompts.csv --all --folder prompts/
    #[command(verbatim_doc_comment)]
    Approve {
        /// Table of prompts
        table: PathBuf,
        /// Ids of the prompts
        ids: Vec<String>,
        /// Approve all prompts
        #[arg(long, conflicts_with = "ids")]
        all: bool,
        /// Folder of the audio files
        #[arg(long, value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Write all files to a ZIP archive; fails if a file does not match the table
    ///
    /// Examples:
    ///   dispatcher prompts archive prompts.csv --folder prompts/ -o prompts.zip
    #[command(verbatim_doc_comment)]
    Archive {
        /// Table of prompts
        table: PathBuf,
        /// Folder of the audio files
        #[arg(long, value_name = "FOLDER")]
        folder: PathBuf,
        /// Output file
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        /// Also refuse files that nobody has approved
        #[arg(long)]
        approved: bool,
        /// Overwrite the archive
        #[arg(long)]
        force: bool,
    },
}
