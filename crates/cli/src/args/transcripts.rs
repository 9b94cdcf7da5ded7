//! Arguments of `transcript`, `vocabulary`, `phrases`, `masks` and `compare`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::TranscriptFormat;

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher transcript list
  dispatcher transcript show 4k2p --format vtt > drill.vtt
  dispatcher transcript show 4k2p > drill.txt
  dispatcher transcript correct 4k2p drill.txt
  dispatcher transcript versions 4k2p
  dispatcher transcript remove 4k2p

Transcripts are kept for apps with transcript days: dispatcher app change APP --transcript-days 30")]
pub(crate) enum TranscriptCommand {
    /// List kept transcripts, newest first
    List {
        /// Transcripts of this app only
        #[arg(long, value_name = "NAME")]
        app: Option<String>,
    },
    /// Print a kept transcript
    Show {
        /// Id, or the beginning of it
        id: String,
        /// Version (default: the newest)
        #[arg(value_name = "VERSION")]
        number: Option<i64>,
        /// Format of the transcript
        #[arg(long, value_enum, default_value_t = TranscriptFormat::Text)]
        format: TranscriptFormat,
    },
    /// List the versions of a kept transcript
    Versions {
        /// Id, or the beginning of it
        id: String,
    },
    /// Replace the text; words that did not change keep their times
    Correct {
        /// Id, or the beginning of it
        id: String,
        /// The corrected text; without it or with -, standard input is read
        file: Option<PathBuf>,
        /// Version that was corrected; if it is no longer the newest, nothing is changed
        #[arg(long, value_name = "VERSION")]
        from: Option<i64>,
    },
    /// Remove a kept transcript with all its versions
    Remove {
        /// Id, or the beginning of it
        id: String,
    },
}

#[derive(Args)]
pub(crate) struct OfApp {
    /// App (default: the app of the key); for operator keys
    #[arg(long, global = true, value_name = "NAME")]
    pub(crate) app: Option<String>,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher vocabulary add Skerrow --alias 'scare oh' --alias 'sker row'
  dispatcher vocabulary add Ondina --phoneme ɒnˈdiːnə --app kiosk
  dispatcher vocabulary add 'MV Tern' --written 'M/V Tern'
  dispatcher vocabulary try 'the boat to scare oh is late'
  dispatcher vocabulary show --json > words.json
  dispatcher vocabulary set words.json
  dispatcher vocabulary remove Skerrow
  dispatcher vocabulary versions

Engines that take hints are given the words. In every transcript, words that sound like one of the
vocabulary are replaced, and each change is reported.")]
pub(crate) struct VocabularyArgs {
    #[command(flatten)]
    pub(crate) of: OfApp,
    #[command(subcommand)]
    pub(crate) command: VocabularyCommand,
}

#[derive(Subcommand)]
pub(crate) enum VocabularyCommand {
    /// List the words
    Show,
    /// Add a word, or replace the word with the same spelling
    Add {
        /// The word as it is spelt
        word: String,
        /// Other words that it is heard as; may be given several times
        #[arg(long, value_name = "WORDS")]
        alias: Vec<String>,
        /// Pronunciation in the International Phonetic Alphabet; may be given several times
        #[arg(long, value_name = "IPA")]
        phoneme: Vec<String>,
        /// Spelling in transcripts (default: the word)
        #[arg(long, value_name = "TEXT")]
        written: Option<String>,
    },
    /// Remove a word
    Remove {
        /// The word as it is spelt
        word: String,
    },
    /// Replace all words, from JSON: {"words": [{"grapheme": ["Skerrow"], "alias": ["scare oh"]}]}
    Set {
        /// The file; without it or with -, standard input is read
        file: Option<PathBuf>,
    },
    /// List the versions
    Versions,
    /// Show what vocabulary, phrases and masks make of a text
    Try {
        /// The text
        text: String,
    },
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher phrases set phrases.json --app kiosk
  dispatcher phrases show
  dispatcher phrases versions
  dispatcher vocabulary try 'next ferry to Skerrow'

A file of phrases:
  {\"phrases\": [{\"command\": \"next-departure\", \"phrase\": \"[when is the] next [ferry] to {place}\",
                \"slots\": {\"place\": [\"Skerrow\", \"Gullsay\"]}}]}

Words in brackets are optional; a slot without values takes any 1 to 8 words.")]
pub(crate) struct PhrasesArgs {
    #[command(flatten)]
    pub(crate) of: OfApp,
    #[command(subcommand)]
    pub(crate) command: RulesCommand,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher masks set masks.json --app kiosk
  dispatcher masks show --app kiosk
  dispatcher masks versions --app kiosk

A file of mask rules:
  {\"rules\": [{\"name\": \"card-number\"}, {\"name\": \"telephone-number\"},
             {\"name\": \"booking\", \"pattern\": \"SF-[0-9]{6}\"}, {\"name\": \"pin\", \"digits\": [4, 6]}]}

Without digits or pattern, a rule is card-number, telephone-number, email-address or bank-account.")]
pub(crate) struct MasksArgs {
    #[command(flatten)]
    pub(crate) of: OfApp,
    #[command(subcommand)]
    pub(crate) command: RulesCommand,
}

#[derive(Subcommand)]
pub(crate) enum RulesCommand {
    /// List the phrases or mask rules
    Show,
    /// Replace all phrases or mask rules, from JSON
    Set {
        /// The file; without it or with -, standard input is read
        file: Option<PathBuf>,
    },
    /// List the versions
    Versions,
}

#[derive(Args)]
#[command(after_help = "Examples:
  dispatcher compare drill.wav --engine turnstone --engine whimbrel --reference drill.txt
  dispatcher compare drill.wav --engine turnstone --reference drill.txt --report heard.html
  dispatcher compare --text one.txt --text two.txt --text three.txt
  dispatcher compare --text heard.txt --reference said.txt
  dispatcher compare --say \"Stand clear.\" --voice heron/pellin --voice flite/slt -o voices
  dispatcher compare --comparison 0193a2b4c5d6 --report voices.html

Voices are rated by ear, without their names, on the page Compare of the console.")]
pub(crate) struct CompareArgs {
    /// Audio file, transcribed by each engine; each call is charged
    #[arg(requires = "engine")]
    pub(crate) audio: Option<PathBuf>,
    /// Engine or route; may be given several times
    #[arg(long, value_name = "NAME", requires = "audio")]
    pub(crate) engine: Vec<String>,
    /// Text file of a transcript; may be given several times
    #[arg(long, value_name = "FILE", required_unless_present_any = ["audio", "say", "comparison"])]
    pub(crate) text: Vec<PathBuf>,
    /// Text file of what was said, to count errors
    #[arg(long, value_name = "FILE")]
    pub(crate) reference: Option<PathBuf>,
    /// Language of the audio or of the text to say, such as en-GB
    #[arg(long, value_name = "TAG", conflicts_with = "text")]
    pub(crate) language: Option<String>,
    /// Text that each voice speaks; each call is charged
    #[arg(long, value_name = "TEXT", requires = "voice", conflicts_with_all = ["audio", "text", "reference"])]
    pub(crate) say: Option<String>,
    /// Voice or route; give 2 to 6
    #[arg(long, value_name = "VOICE", requires = "say")]
    pub(crate) voice: Vec<String>,
    /// Show a comparison of voices by its id
    #[arg(long, value_name = "ID", conflicts_with_all = ["audio", "text", "say"])]
    pub(crate) comparison: Option<String>,
    /// Write the audio of the voices to this folder
    #[arg(short, long, value_name = "DIR", conflicts_with_all = ["audio", "text"])]
    pub(crate) output: Option<PathBuf>,
    /// Write a report to this HTML file: voices with their audio, transcripts with their errors
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Option<PathBuf>,
}
