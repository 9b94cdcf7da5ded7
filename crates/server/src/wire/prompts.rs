//! Prompt sets.

use std::collections::BTreeSet;

use dispatcher_core::{Money, Prompt};
use dispatcher_gateway::{DocumentVersion, PromptLine, PromptSet, PromptState};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, rfc3339};

/// One prompt, to be made in one or several formats.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PromptSchema {
    /// File name: letters, digits, - _ and .
    #[schema(example = "welcome")]
    pub(crate) id: String,
    pub(crate) text: Option<String>,
    /// In place of text.
    pub(crate) ssml: Option<String>,
    /// Route, or voice as engine/voice (default: the app's default voice).
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) language: Option<String>,
    /// Presets, extensions or media types; WAV unless given.
    #[serde(default)]
    pub(crate) formats: Vec<String>,
}

impl From<PromptSchema> for Prompt {
    fn from(row: PromptSchema) -> Self {
        let PromptSchema { id, text, ssml, voice, model, language, formats } = row;
        Prompt { id, text, ssml, voice, model, language, formats }
    }
}

/// A prompt, with further members for the answer.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PromptShown {
    pub(crate) id: String,
    pub(crate) text: Option<String>,
    /// In place of text.
    pub(crate) ssml: Option<String>,
    /// A route, or a voice as engine/voice.
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) language: Option<String>,
    /// Presets, extensions or media types.
    pub(crate) formats: Vec<String>,
}

impl From<Prompt> for PromptShown {
    fn from(row: Prompt) -> Self {
        let Prompt { id, text, ssml, voice, model, language, formats } = row;
        PromptShown { id, text, ssml, voice, model, language, formats }
    }
}

/// A table of prompts.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PromptSetRequest {
    pub(crate) prompts: Vec<PromptSchema>,
}

/// A prompt set in a list.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PromptSetSummary {
    pub(crate) name: String,
    /// App that owns the set and pays for it.
    pub(crate) app: String,
    pub(crate) prompts: usize,
    pub(crate) changed_by: String,
    pub(crate) changed: String,
}

impl From<DocumentVersion> for PromptSetSummary {
    fn from(row: DocumentVersion) -> Self {
        let prompts = serde_json::from_str::<Vec<Prompt>>(&row.document).map_or(0, |prompts| prompts.len());
        let (changed, changed_by) = (rfc3339(row.created_at), row.origin.name().to_owned());
        PromptSetSummary { name: row.name, app: row.app.unwrap_or_default(), prompts, changed_by, changed }
    }
}

/// The audio file of a prompt.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PromptFile {
    pub(crate) name: String,
    pub(crate) url: String,
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) bytes: i64,
    /// Seconds.
    pub(crate) duration: f64,
    pub(crate) dispatch: String,
    pub(crate) made: String,
    /// Person who approved it.
    pub(crate) approved_by: Option<String>,
    pub(crate) approved: Option<String>,
}

/// A prompt in one of its formats.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PromptAnswer {
    #[serde(flatten)]
    pub(crate) prompt: PromptShown,
    pub(crate) format: String,
    /// `made`, `new`, `changed` or `faulty`.
    pub(crate) state: &'static str,
    /// Of making it.
    pub(crate) cost: Option<Amount>,
    /// The file made last; it is out of date unless the state is `made`.
    pub(crate) file: Option<PromptFile>,
    /// Reason of the state `faulty`.
    pub(crate) problem: Option<String>,
}

/// A prompt set against its files.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PromptSetAnswer {
    #[serde(flatten)]
    pub(crate) summary: PromptSetSummary,
    /// Each prompt in each of its formats, in order.
    pub(crate) lines: Vec<PromptAnswer>,
    /// Number of files to make.
    pub(crate) to_make: usize,
    /// Cost of making them, one amount per currency.
    pub(crate) cost: Vec<Amount>,
    /// Number of files made and approved.
    pub(crate) approved: usize,
}

impl PromptSetAnswer {
    /// Prompts that are not made as their rows say, or not approved where
    /// that is asked for.
    pub(crate) fn unfit(&self, approved: bool) -> Vec<String> {
        let heard = |line: &PromptAnswer| line.file.as_ref().is_some_and(|file| file.approved.is_some());
        let unfit = self.lines.iter().filter(|line| line.state != "made" || (approved && !heard(line)));
        unfit.map(|line| line.prompt.id.clone()).collect::<BTreeSet<_>>().into_iter().collect()
    }
}

impl From<PromptSet> for PromptSetAnswer {
    fn from(set: PromptSet) -> Self {
        let name = set.row.name.clone();
        let open = |line: &&PromptLine| matches!(line.state, PromptState::New | PromptState::Changed);
        let to_make = set.lines.iter().filter(open).count();
        let mut sums: Vec<Money> = Vec::new();
        for cost in set.lines.iter().filter(open).filter_map(|line| line.cost) {
            match sums.iter_mut().find(|sum| sum.currency == cost.currency) {
                Some(sum) => *sum = sum.plus(cost).unwrap_or(*sum),
                None => sums.push(cost),
            }
        }
        let lines: Vec<PromptAnswer> = set.lines.into_iter().map(|line| answer(&name, line)).collect();
        let good = |line: &&PromptAnswer| {
            line.state == "made" && line.file.as_ref().is_some_and(|file| file.approved.is_some())
        };
        PromptSetAnswer {
            summary: set.row.into(),
            approved: lines.iter().filter(good).count(),
            lines,
            to_make,
            cost: sums.into_iter().map(Amount::from).collect(),
        }
    }
}

fn answer(set: &str, line: PromptLine) -> PromptAnswer {
    let file = line.file.map(|row| PromptFile {
        url: format!("/api/v1/prompt-sets/{set}/files/{}", row.file),
        name: row.file,
        kind: row.media_type,
        bytes: row.bytes,
        duration: row.audio_ms as f64 / 1_000.0,
        dispatch: row.dispatch,
        made: rfc3339(row.made_at),
        approved_by: row.approved_by,
        approved: row.approved_at.map(rfc3339),
    });
    PromptAnswer {
        prompt: line.prompt.into(),
        format: line.format,
        state: line.state.name(),
        cost: line.cost.map(Amount::from),
        file,
        problem: line.problem,
    }
}
