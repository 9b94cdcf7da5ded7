//! Arguments of `voices`, `engine` and `credential`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher voices
  dispatcher voices --languages pt --gender female --sort price
  dispatcher voices pilot --use announcements --format audio/mpeg
  dispatcher voices --favourites
  dispatcher voices --hear heron/pellin -o pellin.mp3")]
pub(crate) struct VoicesArgs {
    /// Beginnings of words in the id, name, character, styles or uses
    pub(crate) search: Option<String>,
    /// Language ranges; pt finds pt-PT and pt-BR
    #[arg(long, value_name = "RANGES")]
    pub(crate) languages: Option<String>,
    /// The gender that the engine gives it
    #[arg(long, value_parser = ["female", "male", "neutral"])]
    pub(crate) gender: Option<String>,
    /// A way of speaking that it has, such as calm
    #[arg(long)]
    pub(crate) style: Option<String>,
    /// What it was made for, such as announcements
    #[arg(long = "use", value_name = "PURPOSE")]
    pub(crate) purpose: Option<String>,
    /// Voices of this engine alone
    #[arg(long)]
    pub(crate) engine: Option<String>,
    /// Voices that this model speaks with
    #[arg(long)]
    pub(crate) model: Option<String>,
    /// A media type that its engine makes
    #[arg(long, value_name = "TYPE")]
    pub(crate) format: Option<String>,
    /// The most that a thousand characters may cost
    #[arg(long, value_name = "AMOUNT")]
    pub(crate) price: Option<String>,
    /// cloud or local
    #[arg(long, value_parser = ["cloud", "local"])]
    pub(crate) site: Option<String>,
    /// What comes first
    #[arg(long, value_parser = ["best", "name", "language", "price"])]
    pub(crate) sort: Option<String>,
    /// Only voices that were marked
    #[arg(long)]
    pub(crate) favourites: bool,
    /// Mark a voice, so that --favourites finds it
    #[arg(long, value_name = "VOICE", conflicts_with_all = ["forget", "hear"])]
    pub(crate) mark: Option<String>,
    /// Take the mark from a voice
    #[arg(long, value_name = "VOICE", conflicts_with = "hear")]
    pub(crate) forget: Option<String>,
    /// Hear a voice: a sentence in its own language, kept so that it costs once
    #[arg(long, value_name = "VOICE", requires = "output")]
    pub(crate) hear: Option<String>,
    /// With --hear: say this instead
    #[arg(long, value_name = "TEXT", requires = "hear")]
    pub(crate) text: Option<String>,
    /// With --hear: where to write the MP3, - for standard output
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// With --hear: overwrite the file
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Subcommand)]
pub(crate) enum EngineCommand {
    /// List engines with their state
    List,
    /// Show one engine: endpoint, voices, formats, price, how to get access
    ///
    /// Examples:
    ///   dispatcher engine show heron
    ///   dispatcher engine show heron --sheet > heron.toml
    #[command(verbatim_doc_comment)]
    Show {
        /// The name of the engine
        name: String,
        /// Print its sheet instead
        #[arg(long)]
        sheet: bool,
    },
    /// Put in an engine by its sheet, or a new version of it
    ///
    /// The sheet is checked first; faults are told with line and column.
    /// Examples:
    ///   dispatcher engine add gull.toml
    ///   dispatcher engine add gull.toml --try
    #[command(verbatim_doc_comment)]
    Add {
        /// The sheet, - for standard input
        sheet: PathBuf,
        /// Only check it
        #[arg(long = "try")]
        only_try: bool,
    },
    /// Compare what an engine's sheet claims with what is seen
    ///
    /// Real calls, charged to the app of the key: voices, models, formats,
    /// controls, limits, errors, the catalogue. Examples:
    ///   dispatcher engine check heron
    ///   dispatcher engine check turnstone --voice heron/pellin --json
    #[command(verbatim_doc_comment)]
    Check {
        /// The name of the engine
        name: String,
        /// Leave out limits, which take long texts
        #[arg(long)]
        quick: bool,
        /// Who speaks what a recogniser is to hear
        #[arg(long, value_name = "VOICE")]
        voice: Option<String>,
    },
    /// Draft a sheet from a pasted curl call, without the service
    ///
    /// The sheet goes to standard output; what stood there as a secret is
    /// replaced by a part of a credential and is not shown. Examples:
    ///   dispatcher engine draft < call.sh > gull.toml
    ///   dispatcher engine draft --name gull call.sh > gull.toml
    #[command(verbatim_doc_comment)]
    Draft {
        /// The file with the command; standard input where it is missing
        command: Option<PathBuf>,
        /// The name of the engine
        #[arg(long)]
        name: Option<String>,
    },
    /// Ask an engine for its voices now
    Refresh {
        /// The name of the engine
        name: String,
    },
    /// Take an engine out of use
    Retire {
        /// The name of the engine
        name: String,
    },
    /// Print the JSON Schema of sheets, for editors
    Schema,
}

#[derive(Subcommand)]
pub(crate) enum CredentialCommand {
    /// Add a credential; the secret is asked for, or read from a file or standard input
    ///
    /// One secret, or a JSON object whose members are the parts that the
    /// engine's sheet names. It comes into force once the engine takes it;
    /// what was in force stays until then. Examples:
    ///   dispatcher credential add heron
    ///   dispatcher credential add heron --file token.txt
    ///   pass show heron | dispatcher credential add heron
    #[command(verbatim_doc_comment)]
    Add {
        /// The name of the engine
        engine: String,
        /// The credential's name (default: the engine's)
        #[arg(long)]
        name: Option<String>,
        /// Read the secret from this file, - for standard input
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
    },
    /// Import a credential from a key file, a dotenv file or the environment
    ///
    /// A key file is JSON; the engine's sheet says where in it the parts lie.
    /// Of a dotenv file or the environment the parts are taken by the names
    /// ENGINE_PART, or by --map. Examples:
    ///   dispatcher credential import avocet --file key.json
    ///   dispatcher credential import godwit --dotenv .env
    ///   dispatcher credential import heron --env --map token=FERRY_SPEECH_TOKEN
    #[command(verbatim_doc_comment)]
    Import {
        /// The name of the engine
        engine: String,
        /// The credential's name (default: the engine's)
        #[arg(long)]
        name: Option<String>,
        /// A key file of JSON
        #[arg(long, value_name = "FILE", conflicts_with_all = ["dotenv", "env"])]
        file: Option<PathBuf>,
        /// A file of NAME=value lines
        #[arg(long, value_name = "FILE", conflicts_with = "env")]
        dotenv: Option<PathBuf>,
        /// The environment of this command
        #[arg(long)]
        env: bool,
        /// Where a part is, if not in ENGINE_PART
        #[arg(long, value_name = "PART=NAME")]
        map: Vec<String>,
    },
    /// List credentials; never a secret
    List,
    /// Tell whether the engine takes a credential, and what it may do
    Check {
        /// The name of the credential
        name: String,
    },
    /// Put in the next version of a credential; no running call is broken
    ///
    /// Examples:
    ///   dispatcher credential rotate heron
    ///   dispatcher credential rotate heron --file new-token.txt
    #[command(verbatim_doc_comment)]
    Rotate {
        /// The name of the credential
        name: String,
        /// Read the secret from this file, - for standard input
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
    },
    /// Let a credential go to where its engine is called now
    Confirm {
        /// The name of the credential
        name: String,
    },
    /// Revoke a credential and overwrite what was kept
    Revoke {
        /// The name of the credential
        name: String,
    },
    /// Change the root key that all credentials are sealed under
    Rekey,
}
