//! Tariffs.

use std::collections::BTreeMap;

use dispatcher_core::{Cancelled, Measure, PriceChange, Tariff, Tier};
use dispatcher_gateway::{DocumentVersion, TariffInForce, TariffSource};
use serde::Serialize;
use utoipa::ToSchema;

use super::Version;

/// How an engine charges a kind of work.
#[derive(ToSchema)]
#[schema(as = Tariff)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct TariffSchema {
    /// ISO 4217; EUR unless given.
    #[schema(example = "EUR")]
    currency: Option<String>,
    /// The unit that is counted: `character`, `byte`, `second`, `minute` or `request`.
    per: String,
    /// Price of one unit, a decimal.
    #[schema(example = "0.000016")]
    price: String,
    /// Later prices, in the order of their days.
    changes: Option<Vec<PriceChangeSchema>>,
    /// Units are charged in whole steps of this size (default: 1).
    step: Option<u64>,
    /// Units that a call is charged at least (default: 0).
    minimum: Option<u64>,
    /// Factors by what was used in the calendar month (UTC), in the order of their units. A call that reaches a
    /// tier is charged by both. Where bytes are charged, the characters of the month decide the tier.
    tiers: Option<Vec<TierSchema>>,
    /// Cost of a call that its caller cancelled: `started` (default), `whole` or `nothing`.
    cancelled: Option<String>,
    /// Factors by model, decimals.
    models: Option<BTreeMap<String, String>>,
    /// Factors by the class of the voice, decimals.
    classes: Option<BTreeMap<String, String>>,
    /// Factors by the region in which the engine is called, decimals.
    regions: Option<BTreeMap<String, String>>,
}

/// A price that applies from a day on.
#[derive(ToSchema)]
#[schema(as = PriceChange)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct PriceChangeSchema {
    /// First day of the price in UTC.
    #[schema(example = "2027-01-01")]
    from: String,
    price: String,
}

/// What units cost that come late in a month.
#[derive(ToSchema)]
#[schema(as = Tier)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct TierSchema {
    /// Units of the month beyond which it applies.
    above: u64,
    /// Factor of the price, a decimal; 0 for a free amount.
    #[schema(example = "0.8")]
    factor: String,
}

/// How a kind of work of an engine is charged at present.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TariffAnswer {
    pub(crate) engine: String,
    /// `synthesis` or `recognition`.
    pub(crate) work: String,
    /// `sheet`, or `operator` if an operator set it.
    pub(crate) source: String,
    /// Price of a unit today, without factors.
    pub(crate) price_today: String,
    pub(crate) currency: String,
    pub(crate) per: String,
    /// Price of a unit before all changes.
    pub(crate) price: String,
    #[schema(value_type = Vec<PriceChangeSchema>)]
    pub(crate) changes: Vec<PriceChange>,
    pub(crate) step: u64,
    pub(crate) minimum: u64,
    #[schema(value_type = Vec<TierSchema>)]
    pub(crate) tiers: Vec<Tier>,
    #[schema(value_type = String)]
    pub(crate) cancelled: Cancelled,
    pub(crate) models: BTreeMap<String, String>,
    pub(crate) classes: BTreeMap<String, String>,
    pub(crate) regions: BTreeMap<String, String>,
}

impl From<TariffInForce> for TariffAnswer {
    fn from(in_force: TariffInForce) -> Self {
        let TariffInForce { engine, work, source, tariff, price_today } = in_force;
        let source = match source {
            TariffSource::Sheet => "sheet",
            TariffSource::Operator => "operator",
        };
        let Tariff { currency, per, price, changes, step, minimum, tiers, cancelled, models, classes, regions } =
            tariff;
        TariffAnswer {
            engine,
            work: work.name().into(),
            source: source.into(),
            price_today,
            currency: currency.to_string(),
            per: Measure::name(per).into(),
            price,
            changes,
            step,
            minimum,
            tiers,
            cancelled,
            models,
            classes,
            regions,
        }
    }
}

/// One version of an operator's tariff.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TariffVersion {
    #[serde(flatten)]
    pub(crate) version: Version,
    /// The tariff in this version; null if it can no longer be read.
    #[schema(value_type = Option<TariffSchema>)]
    pub(crate) tariff: Option<Tariff>,
}

impl From<DocumentVersion> for TariffVersion {
    fn from(row: DocumentVersion) -> Self {
        let tariff = serde_json::from_str(&row.document).ok();
        TariffVersion { version: row.into(), tariff }
    }
}
