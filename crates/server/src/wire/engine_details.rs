//! What a sheet says of the engine's work: models, controls, limits, formats.

use std::collections::BTreeMap;

use dispatcher_core::{FormatSpec, Limits, Model, RangeControl, Sheet, Tariff, Work};
use serde::Serialize;
use utoipa::ToSchema;

use super::engines::{FormatAnswer, list_price};

/// Synthesis or recognition of an engine, as its sheet describes it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WorkDetails {
    /// List price of the default model.
    pub(crate) price: String,
    pub(crate) models: Vec<ModelAnswer>,
    pub(crate) controls: Vec<ControlAnswer>,
    /// Limits of one call.
    pub(crate) limits: Vec<LimitAnswer>,
    pub(crate) formats: Vec<FormatAnswer>,
    /// Languages of a recogniser; empty if it takes any.
    pub(crate) languages: Vec<String>,
}

/// A model of an engine.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ModelAnswer {
    pub(crate) name: String,
    pub(crate) note: String,
    /// Factor of the list price, a decimal.
    pub(crate) price_factor: String,
}

/// A control that an engine takes itself; others are emulated or omitted.
#[derive(Debug, Default, Serialize, ToSchema)]
pub(crate) struct ControlAnswer {
    /// The member of a request: `rate`, `pitch`, `volume`, `style` …
    pub(crate) name: &'static str,
    pub(crate) least: Option<f64>,
    pub(crate) most: Option<f64>,
    /// Unit of `least` and `most`.
    pub(crate) unit: Option<&'static str>,
    /// Values that it takes, such as the names of styles.
    pub(crate) values: Vec<String>,
    /// Models that take it; all if empty.
    pub(crate) models: Vec<String>,
}

/// A limit of one call.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LimitAnswer {
    pub(crate) most: u64,
    /// `characters`, `bytes`, `seconds` or `megabytes`.
    pub(crate) unit: &'static str,
}

fn range(name: &'static str, unit: Option<&'static str>, control: Option<&RangeControl>) -> Option<ControlAnswer> {
    let control = control?;
    let (least, most) = (Some(control.least), Some(control.most));
    Some(ControlAnswer { name, least, most, unit, values: Vec::new(), models: control.models.clone() })
}

fn up_to(name: &'static str, unit: &'static str, most: u64, models: &[String]) -> ControlAnswer {
    let most = Some(most as f64);
    ControlAnswer { name, most, unit: Some(unit), models: models.to_vec(), ..ControlAnswer::default() }
}

fn limits(limit: &Limits) -> Vec<LimitAnswer> {
    let all = [
        (limit.characters, "characters"),
        (limit.bytes, "bytes"),
        (limit.seconds, "seconds"),
        (limit.megabytes, "megabytes"),
    ];
    all.into_iter().filter_map(|(most, unit)| Some(LimitAnswer { most: most?, unit })).collect()
}

fn models(models: &[Model], tariff: &Tariff) -> Vec<ModelAnswer> {
    let factor = |name: &str| tariff.models.get(name).cloned().unwrap_or_else(|| "1".into());
    models
        .iter()
        .map(|model| ModelAnswer {
            name: model.name.clone(),
            note: model.note.clone(),
            price_factor: factor(&model.name),
        })
        .collect()
}

fn formats(formats: &BTreeMap<String, FormatSpec>) -> Vec<FormatAnswer> {
    formats.values().map(FormatAnswer::from).collect()
}

impl WorkDetails {
    pub(super) fn of_synthesis(sheet: &Sheet) -> Option<Self> {
        let (work, tariff) = (sheet.synthesis.as_ref()?, sheet.tariff_of(Work::Synthesis));
        let controls = &work.controls;
        let style = controls.style.as_ref().map(|style| ControlAnswer {
            name: "style",
            values: style.names.clone(),
            models: style.models.clone(),
            ..ControlAnswer::default()
        });
        let direction = controls
            .direction
            .as_ref()
            .map(|direction| up_to("direction", "characters", direction.characters, &direction.models));
        let all = [
            range("rate", Some("times the default rate"), controls.rate.as_ref()),
            range("pitch", Some("semitones"), controls.pitch.as_ref()),
            range("volume", Some("decibels"), controls.volume.as_ref()),
            style,
            direction,
            range("variation", None, controls.variation.as_ref()),
            range("seed", None, controls.seed.as_ref()),
        ];
        Some(WorkDetails {
            price: list_price(tariff),
            models: models(&work.models, tariff),
            controls: all.into_iter().flatten().collect(),
            limits: limits(&work.limit),
            formats: formats(&work.formats),
            languages: Vec::new(),
        })
    }

    pub(super) fn of_recognition(sheet: &Sheet) -> Option<Self> {
        let (work, tariff) = (sheet.recognition.as_ref()?, sheet.tariff_of(Work::Recognition));
        let controls = &work.controls;
        let all = [
            controls.hints.as_ref().map(|hints| up_to("hints", "words", hints.most, &hints.models)),
            controls
                .context
                .as_ref()
                .map(|context| up_to("context", "characters", context.characters, &context.models)),
            range("variation", None, controls.variation.as_ref()),
            controls.speakers.as_ref().map(|speakers| ControlAnswer {
                name: "speakers",
                models: speakers.models.clone(),
                ..ControlAnswer::default()
            }),
            controls
                .alternatives
                .as_ref()
                .map(|alternatives| up_to("alternatives", "transcripts", alternatives.most, &alternatives.models)),
        ];
        Some(WorkDetails {
            price: list_price(tariff),
            models: models(&work.models, tariff),
            controls: all.into_iter().flatten().collect(),
            limits: limits(&work.limit),
            formats: formats(&work.formats),
            languages: work.languages.clone(),
        })
    }
}
