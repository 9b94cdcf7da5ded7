//! Arguments of `lexicon`, `clip` and `person`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher lexicon add saltmarsh names.pls --app quay-announcer
  dispatcher lexicon add drill drill.pls --on-request
  dispatcher lexicon replace saltmarsh names.pls
  dispatcher lexicon list
  dispatcher lexicon show saltmarsh > names.pls
  dispatcher lexicon word saltmarsh Gullsay --alias \"gull say\"

A lexicon added with --on-request is used by scripts that name it: <lexicon uri=\"drill\" xml:id=\"d\"/> and
<lookup ref=\"d\">…</lookup>.")]
pub(crate) enum LexiconCommand {
    /// List lexicons
    List,
    /// Print a lexicon as PLS 1.0
    Show {
        /// Name of the lexicon
        name: String,
    },
    /// List the versions of a lexicon
    Versions {
        /// Name of the lexicon
        name: String,
    },
    /// Add a lexicon
    Add(LexiconArgs),
    /// Replace a lexicon with a new version
    Replace(LexiconArgs),
    /// Add a word to a lexicon, or replace the word with the same spelling
    Word(LexiconWordArgs),
    /// Retire a lexicon
    Retire {
        /// Name of the lexicon
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct LexiconWordArgs {
    /// Name of the lexicon
    pub(crate) name: String,
    /// The word as it is written
    pub(crate) word: String,
    /// Words that are pronounced as it should be
    #[arg(long, value_name = "WORDS", required_unless_present = "phoneme", conflicts_with = "phoneme")]
    pub(crate) alias: Option<String>,
    /// Pronunciation in the International Phonetic Alphabet
    #[arg(long, value_name = "IPA")]
    pub(crate) phoneme: Option<String>,
    /// Language of the lexicon, if it does not exist yet
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
}

#[derive(Args)]
pub(crate) struct LexiconArgs {
    /// 1 to 40 small letters, digits and hyphens
    pub(crate) name: String,
    /// PLS 1.0 document; without it or with -, standard input is read
    pub(crate) file: Option<PathBuf>,
    /// Use the lexicon for this app only (default: all apps)
    #[arg(long, value_name = "NAME")]
    pub(crate) app: Option<String>,
    /// Use the lexicon only for scripts that name it, not for all text in its language
    #[arg(long)]
    pub(crate) on_request: bool,
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher person add ada
  dispatcher person add olga --role app-owner --app quay-announcer --app helpline
  dispatcher person role axel auditor
  dispatcher person replace ada --file password.txt
  dispatcher person list
  dispatcher person remove ada")]
pub(crate) enum PersonCommand {
    /// List people who can sign in with a password
    List,
    /// Add a person; the password is read from a prompt or standard input
    Add(PersonArgs),
    /// Replace the password of a person; all sessions of the person end
    Replace(PersonArgs),
    /// Change the role of a person; all sessions of the person end
    Role {
        /// Name of the person
        name: String,
        /// The new role
        role: RoleName,
        /// An app of an app owner; may be given several times, the first is the one that the person works for
        #[arg(long = "app", value_name = "APP")]
        apps: Vec<String>,
    },
    /// Remove a person; all sessions of the person end
    Remove {
        /// Name of the person
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct PersonArgs {
    /// Name that the person signs in with
    pub(crate) name: String,
    /// Read the password from this file, - for standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// What the person may do (default: operator for a new person)
    #[arg(long, value_enum)]
    pub(crate) role: Option<RoleName>,
    /// An app of an app owner; may be given several times
    #[arg(long = "app", value_name = "APP", requires = "role")]
    pub(crate) apps: Vec<String>,
}

/// What a person may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum RoleName {
    /// Everything
    Operator,
    /// What keys of some apps may do, the records of these apps, and their keys
    AppOwner,
    /// Read everything, change nothing
    Auditor,
}

impl RoleName {
    /// The name in the API.
    pub(crate) fn name(self) -> &'static str {
        match self {
            RoleName::Operator => "operator",
            RoleName::AppOwner => "app-owner",
            RoleName::Auditor => "auditor",
        }
    }
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher clip add chime.wav
  dispatcher clip list
  dispatcher clip fetch 5d41402abc4b -o chime.wav

A script inserts a clip as <audio src=\"clip:ID\">fallback text</audio>, or by its title.")]
pub(crate) enum ClipCommand {
    /// List clips
    List,
    /// Add a clip
    Add {
        /// Audio file
        file: PathBuf,
        /// Title, by which scripts can name the clip (default: the file name)
        #[arg(long, value_name = "TEXT")]
        title: Option<String>,
    },
    /// Fetch the audio of a clip
    Fetch {
        /// Id of the clip, or a unique beginning of it
        id: String,
        /// Output file (default: standard output)
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Overwrite the file
        #[arg(long, requires = "output")]
        force: bool,
    },
    /// Remove a clip
    Remove {
        /// Id of the clip, or a unique beginning of it
        id: String,
    },
}
