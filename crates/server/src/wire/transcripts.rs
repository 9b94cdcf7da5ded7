//! Kept transcripts, comparisons, and the rules of an app for its transcripts.

use std::collections::BTreeMap;

use dispatcher_core::{
    Aligned, Consensus, ErrorCounts, MaskRule, Money, Phrase, SpokenCommand, TextComparison, TranscriptChange,
    VocabularyWord,
};
use dispatcher_gateway::{AppRules, ComparedLanguage, KeptTranscript, StoredTranscript, TranscriptVersion};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, WordAnswer, rfc3339, thousandths};

/// A word of a vocabulary, in the words of PLS 1.0.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct VocabularyEntry {
    /// Spellings.
    pub(crate) grapheme: Vec<String>,
    /// Other words that it is heard as.
    #[serde(default)]
    pub(crate) alias: Vec<String>,
    /// Pronunciations in the International Phonetic Alphabet.
    #[serde(default)]
    pub(crate) phoneme: Vec<String>,
    /// Spelling in transcripts. Default: the first grapheme.
    #[serde(default)]
    pub(crate) written: Option<String>,
}

impl From<VocabularyEntry> for VocabularyWord {
    fn from(word: VocabularyEntry) -> Self {
        let VocabularyEntry { grapheme, alias, phoneme, written } = word;
        VocabularyWord { grapheme, alias, phoneme, written }
    }
}

impl From<&VocabularyWord> for VocabularyEntry {
    fn from(word: &VocabularyWord) -> Self {
        let VocabularyWord { grapheme, alias, phoneme, written } = word.clone();
        VocabularyEntry { grapheme, alias, phoneme, written }
    }
}

/// The words of a vocabulary.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct VocabularyRequest {
    /// At most 1000.
    pub(crate) words: Vec<VocabularyEntry>,
}

/// The vocabulary of an app.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct VocabularyAnswer {
    pub(crate) app: String,
    /// 0 if the app has no vocabulary yet.
    pub(crate) version: i64,
    pub(crate) words: Vec<VocabularyEntry>,
}

impl VocabularyAnswer {
    pub(crate) fn of(app: &str, rules: &AppRules) -> VocabularyAnswer {
        let words = rules.rules.vocabulary.words.iter().map(VocabularyEntry::from).collect();
        VocabularyAnswer { app: app.to_owned(), version: rules.vocabulary, words }
    }
}

/// A phrase that is a command.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PhraseEntry {
    /// 1 to 40 small letters, digits and hyphens.
    pub(crate) command: String,
    /// Words in brackets are optional; a name in braces is a slot.
    #[schema(example = "next [ferry] to {place}")]
    pub(crate) phrase: String,
    /// Values of each slot; a slot without values takes any 1 to 8 words.
    #[serde(default)]
    pub(crate) slots: BTreeMap<String, Vec<String>>,
}

/// The phrases of an app.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PhrasesRequest {
    /// At most 500; of those that match, the first is used.
    pub(crate) phrases: Vec<PhraseEntry>,
}

/// The phrases of an app.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PhrasesAnswer {
    pub(crate) app: String,
    /// 0 if the app has no phrases yet.
    pub(crate) version: i64,
    pub(crate) phrases: Vec<PhraseEntry>,
}

impl From<PhraseEntry> for Phrase {
    fn from(entry: PhraseEntry) -> Self {
        let PhraseEntry { command, phrase, slots } = entry;
        Phrase { command, phrase, slots }
    }
}

impl PhrasesAnswer {
    pub(crate) fn of(app: &str, rules: &AppRules) -> PhrasesAnswer {
        let entry = |phrase: &Phrase| {
            let Phrase { command, phrase, slots } = phrase.clone();
            PhraseEntry { command, phrase, slots }
        };
        let phrases = rules.rules.phrases.phrases().iter().map(entry).collect();
        PhrasesAnswer { app: app.to_owned(), version: rules.phrases, phrases }
    }
}

/// Text that is masked in transcripts.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct MaskEntry {
    /// Transcripts show it in brackets. `card-number`, `telephone-number`, `email-address` and
    /// `bank-account` need no other member.
    pub(crate) name: String,
    /// Numbers with at least and at most this many digits, written or spoken.
    #[serde(default)]
    #[schema(value_type = Option<Vec<u32>>, example = json!([4, 6]))]
    pub(crate) digits: Option<(usize, usize)>,
    /// Regular expression; upper and lower case are equal.
    #[serde(default)]
    pub(crate) pattern: Option<String>,
}

/// The mask rules of an app.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct MasksRequest {
    /// At most 40. If several match the same text, the first gives the name.
    pub(crate) rules: Vec<MaskEntry>,
}

/// The mask rules of an app.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct MasksAnswer {
    pub(crate) app: String,
    /// 0 if the app has no mask rules yet.
    pub(crate) version: i64,
    pub(crate) rules: Vec<MaskEntry>,
}

impl From<MaskEntry> for MaskRule {
    fn from(entry: MaskEntry) -> Self {
        let MaskEntry { name, digits, pattern } = entry;
        MaskRule { name, digits, pattern }
    }
}

impl MasksAnswer {
    pub(crate) fn of(app: &str, rules: &AppRules) -> MasksAnswer {
        let entry = |rule: &MaskRule| {
            let MaskRule { name, digits, pattern } = rule.clone();
            MaskEntry { name, digits, pattern }
        };
        let entries = rules.rules.masks.rules().iter().map(entry).collect();
        MasksAnswer { app: app.to_owned(), version: rules.masks, rules: entries }
    }
}

/// A text to try the rules of an app on.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RevisionRequest {
    pub(crate) text: String,
}

/// A text after the rules of an app.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RevisionAnswer {
    pub(crate) text: String,
    pub(crate) changes: Vec<TranscriptChangeAnswer>,
    pub(crate) command: Option<CommandAnswer>,
}

/// A change of a transcript after recognition.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TranscriptChangeAnswer {
    /// `vocabulary` or `mask`.
    pub(crate) by: &'static str,
    /// Words of the engine; missing if they were masked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) heard: Option<String>,
    pub(crate) written: String,
    /// Similarity of audio, 0 to 1; 1 for a spelling or alias of the word.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) likeness: Option<f64>,
    /// Seconds.
    pub(crate) start: Option<f64>,
    /// Seconds.
    pub(crate) end: Option<f64>,
}

impl From<TranscriptChange> for TranscriptChangeAnswer {
    fn from(change: TranscriptChange) -> Self {
        let by = match change.by {
            dispatcher_core::ChangedBy::Vocabulary => "vocabulary",
            dispatcher_core::ChangedBy::Mask => "mask",
        };
        TranscriptChangeAnswer {
            by,
            heard: change.heard,
            written: change.written,
            likeness: change.likeness,
            start: change.start.map(thousandths),
            end: change.end.map(thousandths),
        }
    }
}

/// A spoken command.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CommandAnswer {
    pub(crate) command: String,
    pub(crate) slots: BTreeMap<String, String>,
}

impl From<SpokenCommand> for CommandAnswer {
    fn from(spoken: SpokenCommand) -> Self {
        CommandAnswer { command: spoken.command, slots: spoken.slots }
    }
}

/// A language that was compared with others.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LanguageAnswer {
    pub(crate) language: String,
    /// 0 to 1.
    pub(crate) confidence: f64,
    /// Dispatch of the comparison; null if no engine recognised anything.
    pub(crate) dispatch: Option<String>,
    pub(crate) cost: Option<Amount>,
}

impl From<ComparedLanguage> for LanguageAnswer {
    fn from(compared: ComparedLanguage) -> Self {
        LanguageAnswer {
            language: compared.language,
            confidence: thousandths(compared.confidence),
            dispatch: compared.dispatch,
            cost: compared.cost.map(Amount::from),
        }
    }
}

/// A kept transcript, in a list.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TranscriptLine {
    /// Id of the dispatch or job that made it.
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) title: String,
    pub(crate) engine: String,
    pub(crate) language: Option<String>,
    /// Seconds of audio.
    pub(crate) duration: f64,
    pub(crate) created: String,
    /// When it is deleted.
    pub(crate) expires: String,
}

impl From<StoredTranscript> for TranscriptLine {
    fn from(row: StoredTranscript) -> Self {
        TranscriptLine {
            id: row.id,
            app: row.app,
            title: row.title,
            engine: row.engine,
            language: row.language,
            duration: row.audio_ms as f64 / 1_000.0,
            created: rfc3339(row.made_at),
            expires: rfc3339(row.expires_at),
        }
    }
}

/// A version of a kept transcript, in a list.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TranscriptVersionLine {
    pub(crate) version: i64,
    /// The engine for version 1; otherwise the person or key that corrected it.
    pub(crate) by: String,
    pub(crate) at: String,
}

impl From<&TranscriptVersion> for TranscriptVersionLine {
    fn from(row: &TranscriptVersion) -> Self {
        TranscriptVersionLine { version: row.version, by: row.made_by.clone(), at: rfc3339(row.made_at) }
    }
}

/// A kept transcript.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct KeptTranscriptAnswer {
    #[serde(flatten)]
    pub(crate) line: TranscriptLine,
    /// Version of the text below.
    pub(crate) version: i64,
    pub(crate) text: String,
    pub(crate) words: Vec<WordAnswer>,
    pub(crate) changes: Vec<TranscriptChangeAnswer>,
    pub(crate) command: Option<CommandAnswer>,
    /// The newest first.
    pub(crate) versions: Vec<TranscriptVersionLine>,
}

impl From<KeptTranscript> for KeptTranscriptAnswer {
    fn from(kept: KeptTranscript) -> Self {
        let KeptTranscript { row, version, revised, versions } = kept;
        KeptTranscriptAnswer {
            line: row.into(),
            version,
            text: revised.transcript.text,
            words: revised.transcript.words.into_iter().map(WordAnswer::from).collect(),
            changes: revised.changes.into_iter().map(TranscriptChangeAnswer::from).collect(),
            command: revised.command.map(CommandAnswer::from),
            versions: versions.iter().map(TranscriptVersionLine::from).collect(),
        }
    }
}

/// A corrected transcript.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CorrectionRequest {
    /// The whole text.
    pub(crate) text: String,
    /// Version that was corrected; must be the newest one.
    pub(crate) version: i64,
}

/// A transcript to be compared.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ComparedEntry {
    /// Such as the engine.
    pub(crate) name: String,
    pub(crate) text: String,
    /// With times and confidence, as in a transcript.
    #[serde(default)]
    #[schema(value_type = Vec<Object>)]
    pub(crate) words: Vec<dispatcher_core::Word>,
    /// What it cost, for the answer.
    #[schema(value_type = Option<Amount>)]
    pub(crate) cost: Option<Money>,
}

/// Transcripts of the same audio.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ComparisonRequest {
    /// What was said. Without it, the transcripts are compared with one another only.
    #[serde(default)]
    pub(crate) reference: Option<String>,
    /// 1 to 8, each with at most 10000 characters.
    pub(crate) transcripts: Vec<ComparedEntry>,
}

/// Errors, and the rate of errors.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ErrorCountsAnswer {
    /// Errors divided by `of`.
    pub(crate) rate: f64,
    pub(crate) substituted: usize,
    pub(crate) missing: usize,
    pub(crate) inserted: usize,
    /// Words or characters of the reference.
    pub(crate) of: usize,
}

impl From<ErrorCounts> for ErrorCountsAnswer {
    fn from(counts: ErrorCounts) -> Self {
        let ErrorCounts { substituted, missing, inserted, of } = counts;
        ErrorCountsAnswer { rate: (counts.rate() * 1e6).round() / 1e6, substituted, missing, inserted, of }
    }
}

/// A place of an alignment: a word of the reference, a word of the transcript, or both.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AlignedAnswer {
    pub(crate) reference: Option<String>,
    pub(crate) heard: Option<String>,
}

/// A transcript compared with the reference.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AgainstReference {
    pub(crate) name: String,
    /// As it was given.
    pub(crate) cost: Option<Amount>,
    pub(crate) words: ErrorCountsAnswer,
    pub(crate) characters: ErrorCountsAnswer,
    pub(crate) alignment: Vec<AlignedAnswer>,
}

impl AgainstReference {
    pub(crate) fn of(name: &str, cost: Option<Money>, compared: TextComparison) -> AgainstReference {
        let TextComparison { reference, hypothesis, alignment, words, characters } = compared;
        let place = |step: &Aligned| {
            let (one, other) = match *step {
                Aligned::Same(one, other) | Aligned::Substituted(one, other) => (Some(one), Some(other)),
                Aligned::Missing(one) => (Some(one), None),
                Aligned::Inserted(other) => (None, Some(other)),
            };
            AlignedAnswer {
                reference: one.map(|at| reference[at].clone()),
                heard: other.map(|at| hypothesis[at].clone()),
            }
        };
        let alignment = alignment.iter().map(place).collect();
        AgainstReference {
            name: name.to_owned(),
            cost: cost.map(Amount::from),
            words: words.into(),
            characters: characters.into(),
            alignment,
        }
    }
}

/// How much two transcripts differ.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AgreementAnswer {
    pub(crate) first: String,
    pub(crate) second: String,
    /// Share of the words that both have, 0 to 1.
    pub(crate) agreement: f64,
}

/// A word of a consensus.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ConsensusWordAnswer {
    pub(crate) text: String,
    /// Seconds.
    pub(crate) start: Option<f64>,
    /// Seconds.
    pub(crate) end: Option<f64>,
    /// 0 to 1.
    pub(crate) confidence: f64,
    /// Number of transcripts that have the word.
    pub(crate) votes: usize,
}

/// A consensus of transcripts.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ConsensusAnswer {
    pub(crate) text: String,
    pub(crate) words: Vec<ConsensusWordAnswer>,
}

impl From<Consensus> for ConsensusAnswer {
    fn from(made: Consensus) -> Self {
        let word = |word: dispatcher_core::ConsensusWord| ConsensusWordAnswer {
            text: word.text,
            start: word.start.map(thousandths),
            end: word.end.map(thousandths),
            confidence: thousandths(word.confidence),
            votes: word.votes,
        };
        ConsensusAnswer { text: made.text, words: made.words.into_iter().map(word).collect() }
    }
}

/// Transcripts compared with a reference and with one another.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ComparisonAnswer {
    /// How texts are changed before they are compared.
    pub(crate) normalisation: &'static str,
    /// The reference after this; null without a reference.
    pub(crate) reference: Option<String>,
    /// In the order of the request, then the consensus; empty without a reference.
    pub(crate) transcripts: Vec<AgainstReference>,
    /// Each pair of transcripts.
    pub(crate) agreement: Vec<AgreementAnswer>,
    /// Null for a single transcript.
    pub(crate) consensus: Option<ConsensusAnswer>,
}
