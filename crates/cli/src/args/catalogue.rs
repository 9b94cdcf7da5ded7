//! Arguments of `voices`, `engine` and `credential`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher voices
  dispatcher voices --languages pt --gender female --sort price
  dispatcher voices pilot --use announcements --format audio/mpeg
  dispatcher voices --max-price 0.02
  dispatcher voices --favourite heron/pellin
  dispatcher voices --favourites
  dispatcher voices --audition heron/pellin -o pellin.mp3")]
pub(crate) struct VoicesArgs {
    /// Words of the id, name, language, character, styles or uses; beginnings suffice
    pub(crate) search: Option<String>,
    /// Language ranges: pt finds pt-PT and pt-BR
    #[arg(long, value_name = "RANGES")]
    pub(crate) languages: Option<String>,
    /// Gender of the voice
    #[arg(long, value_parser = ["female", "male", "neutral"])]
    pub(crate) gender: Option<String>,
    /// Style of speaking, such as calm
    #[arg(long)]
    pub(crate) style: Option<String>,
    /// Intended use, such as announcements
    #[arg(long = "use", value_name = "PURPOSE")]
    pub(crate) purpose: Option<String>,
    /// Voices of this engine only
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// Voices of this model
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// Media type that the engine produces
    #[arg(long, value_name = "TYPE")]
    pub(crate) format: Option<String>,
    /// Maximum list price of 1,000 characters
    #[arg(long, value_name = "AMOUNT")]
    pub(crate) max_price: Option<String>,
    /// Where the engine runs
    #[arg(long, value_parser = ["cloud", "local"])]
    pub(crate) site: Option<String>,
    /// Sort order
    #[arg(long, value_parser = ["best", "name", "language", "price"])]
    pub(crate) sort: Option<String>,
    /// List favourites only
    #[arg(long)]
    pub(crate) favourites: bool,
    /// Make a voice a favourite
    #[arg(long, value_name = "VOICE", conflicts_with_all = ["unfavourite", "audition"])]
    pub(crate) favourite: Option<String>,
    /// Remove a voice from the favourites
    #[arg(long, value_name = "VOICE", conflicts_with = "audition")]
    pub(crate) unfavourite: Option<String>,
    /// Audition a voice: a sample sentence in its language, charged the first time only
    #[arg(long, value_name = "VOICE", requires = "output")]
    pub(crate) audition: Option<String>,
    /// With --audition: speak this text instead
    #[arg(long, value_name = "TEXT", requires = "audition")]
    pub(crate) text: Option<String>,
    /// With --audition: output file (MP3), - for standard output
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// With --audition: overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Subcommand)]
pub(crate) enum EngineCommand {
    /// List engines with their state
    List,
    /// Show one engine: endpoint, voices, formats, price and how to get access
    ///
    /// Examples:
    ///   dispatcher engine show heron
    ///   dispatcher engine show heron --sheet > heron.toml
    #[command(verbatim_doc_comment)]
    Show {
        /// Name of the engine
        name: String,
        /// Print the sheet instead
        #[arg(long)]
        sheet: bool,
    },
    /// Add an engine by its sheet
    ///
    /// The sheet is checked first; faults are reported with line and column.
    /// Examples:
    ///   dispatcher engine add gull.toml
    ///   dispatcher engine add gull.toml --dry-run
    #[command(verbatim_doc_comment)]
    Add(SheetArgs),
    /// Replace the sheet of an engine with a new version
    ///
    /// Examples:
    ///   dispatcher engine replace gull.toml
    #[command(verbatim_doc_comment)]
    Replace(SheetArgs),
    /// Compare the claims of an engine's sheet with how the engine behaves
    ///
    /// Makes real calls, charged to the app of the key: voices, models, formats,
    /// controls, limits, errors, catalogue. Examples:
    ///   dispatcher engine check heron
    ///   dispatcher engine check turnstone --voice heron/pellin --json
    #[command(verbatim_doc_comment)]
    Check {
        /// Name of the engine
        name: String,
        /// Skip the limits, which need long texts
        #[arg(long)]
        quick: bool,
        /// Voice that speaks the test audio for a recogniser
        #[arg(long, value_name = "VOICE")]
        voice: Option<String>,
    },
    /// Draft a sheet from a pasted curl call, without the service
    ///
    /// The sheet is written to standard output. Secrets in the command become
    /// parts of a credential and are not shown. Examples:
    ///   dispatcher engine draft < call.sh > gull.toml
    ///   dispatcher engine draft --name gull call.sh > gull.toml
    #[command(verbatim_doc_comment)]
    Draft {
        /// File with the command; without it, standard input is read
        command: Option<PathBuf>,
        /// Name of the engine
        #[arg(long)]
        name: Option<String>,
    },
    /// Fetch the list of voices from an engine now
    Refresh {
        /// Name of the engine
        name: String,
    },
    /// Close the circuit breakers of an engine, so that it is called again at once
    ///
    /// Closes its circuit breakers; dispatcher health shows them.
    Reset {
        /// Name of the engine
        name: String,
    },
    /// Retire an engine
    Retire {
        /// Name of the engine
        name: String,
    },
    /// Print the JSON Schema of engine sheets, for editors
    Schema,
}

#[derive(Subcommand)]
pub(crate) enum CredentialCommand {
    /// Add a credential; the secret is read from a prompt, a file or standard input
    ///
    /// The input is one secret, or a JSON object whose members are the parts
    /// named in the engine's sheet. The new credential is used once the engine
    /// accepts it; until then the previous one stays in use. Examples:
    ///   dispatcher credential add heron
    ///   dispatcher credential add heron --file token.txt --ends 2027-03-31
    ///   pass show heron | dispatcher credential add heron
    #[command(verbatim_doc_comment)]
    Add {
        /// Name of the engine
        engine: String,
        /// Name of the credential (default: the engine's name)
        #[arg(long)]
        name: Option<String>,
        /// Read the secret from this file, - for standard input
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
        /// Last day of the credential, for alerts
        #[arg(long, value_name = "YYYY-MM-DD")]
        ends: Option<String>,
    },
    /// Import a credential from a key file, a dotenv file or the environment
    ///
    /// A key file is JSON; the engine's sheet says where it contains the parts.
    /// From a dotenv file or the environment, the parts are read by the names
    /// ENGINE_PART, or as given by --map. Examples:
    ///   dispatcher credential import avocet --file key.json
    ///   dispatcher credential import godwit --dotenv .env
    ///   dispatcher credential import heron --env --map token=FERRY_SPEECH_TOKEN
    #[command(verbatim_doc_comment)]
    Import {
        /// Name of the engine
        engine: String,
        /// Name of the credential (default: the engine's name)
        #[arg(long)]
        name: Option<String>,
        /// Key file (JSON)
        #[arg(long, value_name = "FILE", conflicts_with_all = ["dotenv", "env"])]
        file: Option<PathBuf>,
        /// File of NAME=value lines
        #[arg(long, value_name = "FILE", conflicts_with = "env")]
        dotenv: Option<PathBuf>,
        /// Read the environment of this command
        #[arg(long)]
        env: bool,
        /// Name of the variable of a part, if it is not ENGINE_PART
        #[arg(long, value_name = "PART=NAME")]
        map: Vec<String>,
    },
    /// List credentials, without their secrets
    List,
    /// Check whether the engine accepts a credential, and which rights it has
    Check {
        /// Name of the credential
        name: String,
    },
    /// Replace a credential with a new version; running calls are not interrupted
    ///
    /// Examples:
    ///   dispatcher credential replace heron
    ///   dispatcher credential replace heron --file new-token.txt
    #[command(verbatim_doc_comment)]
    Replace {
        /// Name of the credential
        name: String,
        /// Read the secret from this file, - for standard input
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
        /// Last day of the new version, for alerts
        #[arg(long, value_name = "YYYY-MM-DD")]
        ends: Option<String>,
    },
    /// Confirm that a credential may be sent to the current host of its engine
    Confirm {
        /// Name of the credential
        name: String,
    },
    /// Revoke a credential and erase its secret
    Revoke {
        /// Name of the credential
        name: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum RootKeyCommand {
    /// Change the root key; all credentials are sealed again under the new one
    Change,
}

#[derive(Args)]
pub(crate) struct SheetArgs {
    /// Sheet file, - for standard input
    pub(crate) sheet: PathBuf,
    /// Only check the sheet; change nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
}
