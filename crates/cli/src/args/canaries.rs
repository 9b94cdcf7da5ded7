//! Arguments of `canary`.

use clap::{Args, Subcommand};

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher canary set pier heron/pellin \"The ferry leaves at six.\" --app console --ear turnstone
  dispatcher canary run pier
  dispatcher canary show pier
  dispatcher canary accept pier
  dispatcher alert set voices --on voice-changed --to https://watch.saltmarsh.example/")]
pub(crate) enum CanaryCommand {
    /// List canaries with the state of their last run
    List,
    /// Add a canary, or replace it with a new version
    ///
    /// The service has the voice speak the text within half a minute, and then at the
    /// interval. It measures duration, loudness and pitch, and has an engine recognise the
    /// words. The first successful run is the reference of the later ones; a change is
    /// more than 15 % in duration, 3 LU in loudness, 2 semitones in pitch, a missing word,
    /// or 15 % more of the words misheard. Each run is charged to the app.
    #[command(verbatim_doc_comment)]
    Set(CanaryArgs),
    /// Show a canary and its runs, newest first
    Show {
        /// Name of the canary
        name: String,
        /// Maximum number of runs
        #[arg(long, value_name = "COUNT", default_value_t = 10)]
        limit: u32,
    },
    /// Run a canary now; exits with 1 if the voice has changed or the run failed
    Run {
        /// Name of the canary
        name: String,
    },
    /// Make the last run the reference: the voice sounds as it should
    Accept {
        /// Name of the canary
        name: String,
    },
    /// Retire a canary
    Retire {
        /// Name of the canary
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct CanaryArgs {
    /// 1 to 40 small letters, digits and hyphens
    pub(crate) name: String,
    /// Voice, as engine/voice
    pub(crate) voice: String,
    /// Text of 1 to 200 characters
    pub(crate) text: String,
    /// App that pays for the runs
    #[arg(long, value_name = "NAME")]
    pub(crate) app: String,
    /// Engine or route that recognises the audio (default: words are not compared)
    #[arg(long, value_name = "NAME")]
    pub(crate) ear: Option<String>,
    /// Language of the text, if the voice speaks several
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Minutes between two runs: 5 to 43200
    #[arg(long, value_name = "MINUTES", default_value_t = 1_440)]
    pub(crate) every: u64,
}
