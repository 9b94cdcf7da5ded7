//! Arguments of `prompts`.

use std::path::PathBuf;

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum PromptsCommand {
    /// Show which files are new, changed or missing, and what making them costs
    ///
    /// Nothing is made. Examples:
    ///   dispatcher prompts status demo/scripts/prompts.toml -o prompts/
    #[command(verbatim_doc_comment)]
    Status {
        /// The table: TOML, or CSV with the columns id, text or ssml, voice, model, language, formats
        table: PathBuf,
        /// The folder of the files
        #[arg(short = 'o', long = "output", value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Make what is new or would sound otherwise; the rest stays
    ///
    /// Examples:
    ///   dispatcher prompts make demo/scripts/prompts.toml -o prompts/
    ///   dispatcher prompts make prompts.csv -o prompts/ --only welcome --only goodbye
    #[command(verbatim_doc_comment)]
    Make {
        /// The table of prompts
        table: PathBuf,
        /// Where the files lie
        #[arg(short = 'o', long = "output", value_name = "FOLDER")]
        folder: PathBuf,
        /// Only this prompt; may be given several times
        #[arg(long, value_name = "ID")]
        only: Vec<String>,
        /// Remove the files of rows that are gone
        #[arg(long)]
        prune: bool,
    },
    /// Note that prompts were heard and found good; a remade file loses it
    ///
    /// Examples:
    ///   dispatcher prompts approve prompts.csv welcome goodbye -o prompts/
    ///   dispatcher prompts approve prompts.csv --all -o prompts/
    #[command(verbatim_doc_comment)]
    Approve {
        /// The table of prompts
        table: PathBuf,
        /// The prompts
        ids: Vec<String>,
        /// All of them
        #[arg(long, conflicts_with = "ids")]
        all: bool,
        /// Where the files lie
        #[arg(short = 'o', long = "output", value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Put all files into a ZIP archive; refused while any is not as the table says
    ///
    /// Examples:
    ///   dispatcher prompts archive prompts.csv prompts.zip -o prompts/
    #[command(verbatim_doc_comment)]
    Archive {
        /// The table of prompts
        table: PathBuf,
        /// The archive
        output: PathBuf,
        /// Where the files lie
        #[arg(short = 'o', long = "folder", value_name = "FOLDER")]
        folder: PathBuf,
        /// Refuse also what was not found good by ear
        #[arg(long)]
        approved: bool,
        /// Overwrite the archive
        #[arg(long)]
        force: bool,
    },
}
