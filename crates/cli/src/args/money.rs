//! Arguments of `tariff`, `credit`, `rate` and `statement`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::AmountArgs;

/// A kind of work of an engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WorkName {
    Synthesis,
    Recognition,
}

impl WorkName {
    /// The name in the API.
    pub(crate) fn name(self) -> &'static str {
        match self {
            WorkName::Synthesis => "synthesis",
            WorkName::Recognition => "recognition",
        }
    }
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher tariff list
  dispatcher tariff set heron synthesis --price 0.000014 --per character
  dispatcher tariff set heron synthesis --price 0.00002 --per character --change 2027-01-01=0.00001
  dispatcher tariff set turnstone recognition --price 0.0004 --per second --step 15 --minimum 30
  dispatcher tariff set heron synthesis --price 0.000016 --per character --tier 1000000=0.8
  dispatcher tariff versions heron synthesis
  dispatcher tariff retire heron synthesis")]
pub(crate) enum TariffCommand {
    /// List how engines charge at present
    List {
        /// Name of an engine (default: all)
        engine: Option<String>,
    },
    /// Set the tariff of an engine, in place of the one of its sheet
    Set(Box<TariffArgs>),
    /// List the versions of a tariff: who changed it, when, and its price
    Versions {
        /// Name of the engine
        engine: String,
        /// Kind of work
        work: WorkName,
    },
    /// Retire a tariff; that of the sheet applies again
    Retire {
        /// Name of the engine
        engine: String,
        /// Kind of work
        work: WorkName,
    },
}

#[derive(Args)]
pub(crate) struct TariffArgs {
    /// Name of the engine
    pub(crate) engine: String,
    /// Kind of work
    pub(crate) work: WorkName,
    /// Price of one unit
    #[arg(long, value_name = "DECIMAL", required_unless_present = "file")]
    pub(crate) price: Option<String>,
    /// Unit: character, byte, second, minute or request
    #[arg(long, value_name = "UNIT", required_unless_present = "file")]
    pub(crate) per: Option<String>,
    /// Currency (ISO 4217; default: EUR)
    #[arg(long, value_name = "CODE")]
    pub(crate) currency: Option<String>,
    /// Units are charged in whole steps of this size
    #[arg(long, value_name = "UNITS")]
    pub(crate) step: Option<u64>,
    /// Units that a call is charged at least
    #[arg(long, value_name = "UNITS")]
    pub(crate) minimum: Option<u64>,
    /// Factor of the price beyond some units of a month; may be given several times
    #[arg(long = "tier", value_name = "UNITS=FACTOR")]
    pub(crate) tiers: Vec<String>,
    /// A price from a day on (UTC); may be given several times
    #[arg(long = "change", value_name = "YYYY-MM-DD=DECIMAL")]
    pub(crate) changes: Vec<String>,
    /// Factor of a model; may be given several times
    #[arg(long = "model", value_name = "NAME=FACTOR")]
    pub(crate) models: Vec<String>,
    /// Factor of a class of voices; may be given several times
    #[arg(long = "class", value_name = "NAME=FACTOR")]
    pub(crate) classes: Vec<String>,
    /// Factor of a region; may be given several times
    #[arg(long = "region", value_name = "NAME=FACTOR")]
    pub(crate) regions: Vec<String>,
    /// Read the tariff from this JSON file, - for standard input
    #[arg(long, value_name = "FILE", conflicts_with_all = ["price", "per", "currency", "step", "minimum", "tiers", "changes", "models", "classes", "regions"])]
    pub(crate) file: Option<PathBuf>,
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher statement map heron --time 'Used at' --amount Charge --currency EUR
  dispatcher statement map redshank --time Tag --amount Betrag --currency EUR --decimal-comma
  dispatcher statement mapping heron
  dispatcher statement reconcile heron heron-november.csv")]
pub(crate) enum StatementCommand {
    /// Set which columns of an engine's statements mean what
    Map(Box<StatementMapArgs>),
    /// Show the mapping of an engine's statements
    Mapping {
        /// Name of the engine
        engine: String,
    },
    /// Compare a statement with the ledger; exit with 1 if they differ
    Reconcile {
        /// Name of the engine
        engine: String,
        /// The statement as CSV, - for standard input
        file: PathBuf,
    },
}

#[derive(Args)]
pub(crate) struct StatementMapArgs {
    /// Name of the engine
    pub(crate) engine: String,
    /// Column of the time of a call, or of the day of a sum
    #[arg(long, value_name = "COLUMN")]
    pub(crate) time: String,
    /// Column of the amount
    #[arg(long, value_name = "COLUMN")]
    pub(crate) amount: String,
    /// Currency of all amounts (ISO 4217)
    #[arg(long, value_name = "CODE", required_unless_present = "currency_column")]
    pub(crate) currency: Option<String>,
    /// Column of the currency
    #[arg(long, value_name = "COLUMN")]
    pub(crate) currency_column: Option<String>,
    /// Zone of times that name none, such as +01:00 (default: UTC)
    #[arg(long, value_name = "ZONE", allow_hyphen_values = true)]
    pub(crate) zone: Option<String>,
    /// Separates the columns (default: a comma)
    #[arg(long, value_name = "CHARACTER")]
    pub(crate) delimiter: Option<char>,
    /// The decimal separator is a comma
    #[arg(long)]
    pub(crate) decimal_comma: bool,
    /// Seconds by which a line and its call may differ (default: 120)
    #[arg(long, value_name = "SECONDS")]
    pub(crate) tolerance: Option<u32>,
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher credit set heron trial --cost '30 EUR' --until 2026-12-10
  dispatcher credit set godwit monthly --characters 500000 --per month
  dispatcher credit list
  dispatcher credit retire heron trial

To be notified before a credit ends or is used: dispatcher alert set NAME --on credit-ending")]
pub(crate) enum CreditCommand {
    /// List credits, what is left of them, and when they end
    List,
    /// Set a credit of an engine
    Set(Box<CreditArgs>),
    /// Retire a credit
    Retire {
        /// Name of the engine
        engine: String,
        /// Name of the credit
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct CreditArgs {
    /// Name of the engine
    pub(crate) engine: String,
    /// 1 to 40 small letters, digits and hyphens
    pub(crate) name: String,
    /// Kind of work (default: both)
    #[arg(long)]
    pub(crate) work: Option<WorkName>,
    #[command(flatten)]
    pub(crate) amount: AmountArgs,
    /// Period in which it renews (UTC)
    #[arg(long, value_parser = ["day", "week", "month", "total"], default_value = "total")]
    pub(crate) per: String,
    /// First day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub(crate) from: Option<String>,
    /// Last day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub(crate) until: Option<String>,
}

#[derive(Subcommand)]
#[command(after_help = "Examples:
  dispatcher rate set USD 0.92
  dispatcher rate set USD 0.9 --from 2026-12-01
  dispatcher rate list
  dispatcher rate retire USD

The operator's currency is EUR; set another one as currency in dispatcher.toml.")]
pub(crate) enum RateCommand {
    /// List rates to the operator's currency
    List,
    /// Set what a unit of a currency is worth from a day on
    Set {
        /// Currency (ISO 4217)
        currency: String,
        /// Units of the operator's currency for one of it
        rate: String,
        /// First day (default: today in UTC)
        #[arg(long, value_name = "YYYY-MM-DD")]
        from: Option<String>,
    },
    /// Retire all rates of a currency
    Retire {
        /// Currency (ISO 4217)
        currency: String,
    },
}
