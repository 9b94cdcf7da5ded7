//! Arguments of `app`.

use clap::{ArgGroup, Args, Subcommand};

#[derive(Subcommand)]
pub(crate) enum AppCommand {
    /// List apps
    List,
    /// Add an app
    ///
    /// Examples:
    ///   dispatcher app add quay-announcer --default-voice heron/pellin
    ///   dispatcher app add help-line --default-format phone --rehearsal
    ///   dispatcher app add sick-bay --default-voice espeak-ng/en-gb --site local
    ///   dispatcher app add gate-signs --default-voice heron/pellin --recall private
    ///   dispatcher app add kiosk --default-voice quayside --per-minute 60 --at-once 4
    ///   dispatcher app add captions --default-recognition whimbrel --transcript-days 30
    #[command(verbatim_doc_comment)]
    Add {
        /// 1 to 40 small letters, digits and hyphens
        name: String,
        #[command(flatten)]
        settings: Box<AppSettings>,
    },
    /// Change an app; settings that are not given keep their value
    ///
    /// The value none removes a setting.
    ///
    /// Examples:
    ///   dispatcher app change kiosk --transcript-days 30 --language en-GB
    ///   dispatcher app change kiosk --site none
    ///   dispatcher app change kiosk --origins https://timetable.saltmarsh.example
    ///   dispatcher app change kiosk --reply-hook https://desk.saltmarsh.example/answer
    #[command(verbatim_doc_comment)]
    Change {
        /// Name of the app
        name: String,
        #[command(flatten)]
        settings: Box<AppSettings>,
    },
    /// List, add and revoke the keys of an app
    #[command(subcommand)]
    Key(KeyCommand),
    /// Erase what an app said and heard: transcripts, exchanges, comparisons, answers, finished jobs
    ///
    /// Dispatches, the ledger and usage have no words, and stay. With an end user, only what was made
    /// for that one is erased, the user's tokens are revoked, and dispatches no longer name the user.
    /// Examples:
    ///   dispatcher app erase helpline --dry-run
    ///   dispatcher app erase helpline --end-user passenger-1207
    #[command(verbatim_doc_comment)]
    Erase {
        /// Name of the app
        name: String,
        /// Only what was made for this end user (field End-User of a request, or --end-user of a token)
        #[arg(long, value_name = "NAME")]
        end_user: Option<String>,
        /// Only count what would be erased
        #[arg(long)]
        dry_run: bool,
    },
    /// List, add and remove allowances: how much an app or a key may use
    #[command(subcommand)]
    Allowance(AllowanceCommand),
    /// List, add and revoke the tokens of an app
    #[command(subcommand)]
    Token(TokenCommand),
}

#[derive(Args)]
pub(crate) struct AppSettings {
    /// Display name
    #[arg(long)]
    pub(crate) title: Option<String>,
    /// Voice or route for requests that give none
    #[arg(long, value_name = "VOICE")]
    pub(crate) default_voice: Option<String>,
    /// Engine or route for recognition requests that give none
    #[arg(long, value_name = "NAME")]
    pub(crate) default_recognition: Option<String>,
    /// Audio format for requests that give none: preset, extension or media type
    #[arg(long, value_name = "FORMAT")]
    pub(crate) default_format: Option<String>,
    /// Rehearsal: the same calls and checks, but no engine is called and nothing is charged
    #[arg(long, num_args = 0..=1, default_missing_value = "true", value_name = "true|false")]
    pub(crate) rehearsal: Option<bool>,
    /// Nothing of its requests is sent to engines that run elsewhere
    #[arg(long, value_parser = ["local", "cloud", "none"])]
    pub(crate) site: Option<String>,
    /// Region of the engines; engines without this region are not used
    #[arg(long, value_name = "REGION")]
    pub(crate) region: Option<String>,
    /// Keep audio, so that equal requests cost nothing: for this app, or among all
    /// apps that share theirs (default: off)
    #[arg(long, value_parser = ["off", "private", "shared"])]
    pub(crate) recall: Option<String>,
    /// Maximum number of its requests for speech and recognition per minute (default: no limit)
    #[arg(long, value_name = "NUMBER")]
    pub(crate) per_minute: Option<String>,
    /// Maximum number of such requests at once (default: no limit)
    #[arg(long, value_name = "NUMBER")]
    pub(crate) at_once: Option<String>,
    /// Keep its transcripts for this many days (default: they are not kept)
    #[arg(long, value_name = "DAYS")]
    pub(crate) transcript_days: Option<String>,
    /// Language of its recordings, for requests that give none
    #[arg(long, value_name = "TAG")]
    pub(crate) language: Option<String>,
    /// Origins whose pages may call for it with its tokens, separated by commas
    #[arg(long, value_name = "ORIGINS")]
    pub(crate) origins: Option<String>,
    /// URL that is asked for the reply in its exchanges; the service must allow its host (webhook_hosts)
    #[arg(long, value_name = "URL")]
    pub(crate) reply_hook: Option<String>,
    /// Text that is spoken in its exchanges if the hook fails, stalls or goes on for too long
    #[arg(long, value_name = "TEXT")]
    pub(crate) apology: Option<String>,
    /// Where its answers say that they are synthetic speech: header, tag, both with a comma, or none
    #[arg(long, value_name = "PLACES")]
    pub(crate) disclosure: Option<String>,
    /// Text that is spoken before its texts, such as "This is a computer voice.", or none
    #[arg(long, value_name = "TEXT")]
    pub(crate) notice: Option<String>,
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher app key list quay-announcer
  dispatcher app key add quay-announcer --label 'screens at the gates'
  dispatcher app key add quay-announcer --label 'trial of the kiosks' --expires-in 2592000
  dispatcher app key add quay-announcer --calls speak --routes quayside --networks 10.1.0.0/16
  dispatcher app key revoke quay-announcer phbsyazu7s9z")]
pub(crate) enum KeyCommand {
    /// List the keys of an app
    List {
        /// Name of the app
        app: String,
    },
    /// Add a key to an app; the key is shown once
    Add {
        /// Name of the app
        app: String,
        /// Purpose of the key
        #[arg(long, value_name = "TEXT", default_value = "")]
        label: String,
        /// Maximum number of requests for speech and recognition per minute (default: as the app)
        #[arg(long, value_name = "COUNT")]
        per_minute: Option<u32>,
        /// Maximum number of such requests at once (default: as the app)
        #[arg(long, value_name = "COUNT")]
        at_once: Option<u32>,
        /// Seconds until it expires, 10 to 316224000 (default: it does not expire)
        #[arg(long, value_name = "SECONDS")]
        expires_in: Option<u64>,
        #[command(flatten)]
        grants: GrantArgs,
    },
    /// Revoke a key of an app
    Revoke {
        /// Name of the app
        app: String,
        /// Id of the key, or a unique beginning of it
        id: String,
    },
}

/// What a key is granted; everything where nothing is given.
#[derive(Args)]
pub(crate) struct GrantArgs {
    /// Granted calls, separated by commas: speak, transcribe, caption, exchange, jobs, records, manage
    #[arg(long, value_name = "CALLS", value_delimiter = ',')]
    pub(crate) calls: Vec<String>,
    /// Granted routes, separated by commas
    #[arg(long, value_name = "ROUTES", value_delimiter = ',')]
    pub(crate) routes: Vec<String>,
    /// Granted engines, separated by commas
    #[arg(long, value_name = "ENGINES", value_delimiter = ',')]
    pub(crate) engines: Vec<String>,
    /// Granted voices, separated by commas
    #[arg(long, value_name = "VOICES", value_delimiter = ',')]
    pub(crate) voices: Vec<String>,
    /// Networks that the key is accepted from, separated by commas, such as 10.1.0.0/16
    #[arg(long, value_name = "NETWORKS", value_delimiter = ',')]
    pub(crate) networks: Vec<String>,
}

#[derive(Subcommand)]
#[command(
    after_help = "A token allows some calls for an app until it expires: for pages and programs that must not have a key.

Examples:
  dispatcher app token add kiosk --calls speak --routes quayside --characters 2000
  dispatcher app token add kiosk --calls speak,caption --origin https://timetable.saltmarsh.example \\
    --seconds 300 --cost \"0.50 EUR\" --expires-in 3600
  dispatcher app token list kiosk
  dispatcher app token revoke kiosk q7w2"
)]
pub(crate) enum TokenCommand {
    /// List the tokens of an app, and what was used with each
    List {
        /// Name of the app
        app: String,
    },
    /// Add a token to an app; the token is shown once
    Add(TokenArgs),
    /// Revoke a token of an app
    Revoke {
        /// Name of the app
        app: String,
        /// Id of the token, or a unique beginning of it
        id: String,
    },
}

#[derive(Args)]
pub(crate) struct TokenArgs {
    /// Name of the app
    pub(crate) app: String,
    /// Calls that it is for, separated by commas: speak, transcribe, caption
    #[arg(long, value_name = "CALLS", value_delimiter = ',', required = true)]
    pub(crate) calls: Vec<String>,
    /// Purpose of the token
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub(crate) label: String,
    /// Routes that it is for, separated by commas (default: whatever the app may use)
    #[arg(long, value_name = "ROUTES", value_delimiter = ',')]
    pub(crate) routes: Vec<String>,
    /// Only pages of this origin may use it; one of the origins of the app
    #[arg(long, value_name = "ORIGIN")]
    pub(crate) origin: Option<String>,
    /// Characters of text that may be spoken (default: without limit)
    #[arg(long, value_name = "COUNT")]
    pub(crate) characters: Option<u64>,
    /// Seconds of audio that may be recognised (default: without limit)
    #[arg(long, value_name = "SECONDS")]
    pub(crate) seconds: Option<f64>,
    /// Money that may be charged, such as "0.50 EUR" (default: without limit)
    #[arg(long, value_name = "AMOUNT")]
    pub(crate) cost: Option<String>,
    /// For whom its requests are, in the app's own words; see: dispatcher app erase
    #[arg(long, value_name = "NAME")]
    pub(crate) end_user: Option<String>,
    /// Seconds until it ends: 10 to 2592000
    #[arg(long, value_name = "SECONDS", default_value_t = 900)]
    pub(crate) expires_in: u64,
}

#[derive(Subcommand)]
#[command(after_help = "A request that may exceed an allowance is refused before any engine is called. Days, weeks and
months are those of UTC. To be notified before that: dispatcher alert set NAME --on allowance-share

Examples:
  dispatcher app allowance add kiosk --cost \"20 EUR\" --per month
  dispatcher app allowance add kiosk --requests 500 --per day --key phbs
  dispatcher app allowance list
  dispatcher app allowance list kiosk
  dispatcher app allowance remove kiosk a7mw")]
pub(crate) enum AllowanceCommand {
    /// List allowances, and what was used of each in its period
    List {
        /// Name of the app (default: all apps)
        app: Option<String>,
    },
    /// Add an allowance; what was used in the current period counts
    Add(AllowanceArgs),
    /// Remove an allowance
    Remove {
        /// Name of the app
        app: String,
        /// Id of the allowance, or a unique beginning of it
        id: String,
    },
}

/// One amount of an allowance or a credit.
#[derive(Args)]
#[command(group(ArgGroup::new("amount").required(true).args(["cost", "characters", "seconds", "requests"])))]
pub(crate) struct AmountArgs {
    /// Money, such as "20 EUR"
    #[arg(long, value_name = "AMOUNT")]
    pub(crate) cost: Option<String>,
    /// Characters of text that are spoken
    #[arg(long, value_name = "COUNT")]
    pub(crate) characters: Option<u64>,
    /// Seconds of audio
    #[arg(long, value_name = "SECONDS")]
    pub(crate) seconds: Option<f64>,
    /// Number of requests; failed requests are not counted
    #[arg(long, value_name = "COUNT")]
    pub(crate) requests: Option<u64>,
}

#[derive(Args)]
pub(crate) struct AllowanceArgs {
    /// Name of the app
    pub(crate) app: String,
    /// Period: day, week, month or total
    #[arg(long, value_name = "PERIOD", value_parser = ["day", "week", "month", "total"])]
    pub(crate) per: String,
    #[command(flatten)]
    pub(crate) amount: AmountArgs,
    /// Id of a key, or a unique beginning of it (default: the app with all its keys)
    #[arg(long, value_name = "ID")]
    pub(crate) key: Option<String>,
}
