//! Arguments of `lexicon` and `clip`: what scripts name beside their text.

use std::path::PathBuf;

use clap::Subcommand;

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher lexicon put saltmarsh names.pls --app quay-announcer
  dispatcher lexicon put drill drill.pls --on-request
  dispatcher lexicon list
  dispatcher lexicon show saltmarsh > names.pls

With --on-request a script asks for it: <lexicon uri=\"drill\" xml:id=\"d\"/> and
<lookup ref=\"d\">…</lookup>.")]
pub(crate) enum LexiconCommand {
    /// List lexicons: how words are pronounced
    List,
    /// Print a lexicon, as PLS 1.0
    Show {
        /// The name of the lexicon
        name: String,
    },
    /// List the versions of a lexicon
    Versions {
        /// The name of the lexicon
        name: String,
    },
    /// Keep a lexicon as its next version
    Put {
        /// 1 to 40 small letters, digits and hyphens
        name: String,
        /// A document of PLS 1.0; standard input where it is missing or -
        file: Option<PathBuf>,
        /// It is this app's alone; every app's unless given
        #[arg(long, value_name = "NAME")]
        app: Option<String>,
        /// It holds only where a script asks for it, and not for all text in its language
        #[arg(long)]
        on_request: bool,
    },
    /// Retire a lexicon
    Retire {
        /// The name of the lexicon
        name: String,
    },
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher person add ada
  dispatcher person list
  dispatcher person remove ada")]
pub(crate) enum PersonCommand {
    /// List people who can sign in with a password
    List,
    /// Add a person, or set the password anew; it is read from standard input, or asked for at a terminal
    Add {
        /// The name that the person signs in with
        name: String,
        /// Read the password from this file, - for standard input
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
    },
    /// Remove a person; the person's sessions end
    Remove {
        /// The name of the person
        name: String,
    },
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher clip add chime.wav
  dispatcher clip list
  dispatcher clip fetch 5d41402abc4b -o chime.wav

A script puts it in as <audio src=\"clip:ID\">text in its place</audio>, or by its title.")]
pub(crate) enum ClipCommand {
    /// List sounds that scripts may put in
    List,
    /// Keep a sound
    Add {
        /// A file of sound
        file: PathBuf,
        /// What it is, and a name for scripts (default: the file's name)
        #[arg(long, value_name = "TEXT")]
        title: Option<String>,
    },
    /// Fetch a sound
    Fetch {
        /// Its id, or the beginning of it
        id: String,
        /// Into this file; standard output unless given
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Overwrite a file that is there
        #[arg(long, requires = "output")]
        force: bool,
    },
    /// Remove a sound
    Remove {
        /// Its id, or the beginning of it
        id: String,
    },
}
