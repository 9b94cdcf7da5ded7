//! What the product knows without asking anybody: engine sheets, voices and
//! how they are matched, routes, tariffs and money, transcripts and word
//! error rate.
//!
//! Everything here is pure: no clock, no randomness, no files, no network.

#![warn(missing_docs)]

mod alert;
mod alignment;
mod allowance;
mod amounts;
mod backoff;
mod bounds;
mod breaker;
mod canary;
mod cause;
mod channels;
mod comparison;
mod draft;
mod grants;
mod language;
mod money;
mod name;
mod nearest;
mod plan;
mod preference;
mod prompts;
mod rates;
mod reply;
mod route;
mod sample;
mod search;
mod shaping;
mod sheet;
mod statement;
mod stitch;
mod tariff;
mod token;
mod transcript;
mod transcript_rules;
mod voice;
mod wer;

pub use alert::{Alarm, AlertRule, AlertRuleError, Told, Watched};
pub use alignment::{Aligned, align};
pub use allowance::{
    Allowance, AllowanceAccount, AllowanceAmount, AllowanceLine, AllowancePeriod, AllowanceRefusal, Consumption,
    PeriodSpan,
};
pub use amounts::{AmountsUsed, RequestShare};
pub use backoff::Backoff;
pub use bounds::Bounds;
pub use breaker::{Breaker, BreakerState, Health, Passage};
pub use canary::{Canary, CanaryError, Departure, VoiceMeasures, VoiceTrait};
pub use cause::{Cause, Remedy};
pub use channels::merge_channels;
pub use comparison::{Consensus, ConsensusWord, ErrorCounts, TextComparison, compare_texts, consensus};
pub use draft::{Draft, DraftError, Files, NoFiles, draft};
pub use grants::{GrantRefusal, KeyCall, KeyGrants};
pub use language::{
    canonical_tag, extended_filter, is_fallback, is_known_language, is_language_tag, longest_tag, primary_language,
    region,
};
pub use money::{Costs, Currency, Money, MoneyError};
pub use name::is_record_name;
pub use nearest::{nearest, nearest_by};
pub use plan::{Candidate, LegFault, PlanError, Planner, Wanted};
pub use preference::{Preference, PreferenceRating, SCORES, preferences};
pub use prompts::{Prompt, PromptTable, check_prompts, read_prompts};
pub use rates::{DatedRate, RateTable, check_rates};
pub use reply::{ReplyFault, ReplyForm, ReplyReader};
pub use route::{Circumstances, Conditions, Hours, Leg, Order, Route, RouteError, Unmet, Work};
pub use sample::sample_sentence;
pub use search::{Entry, Facets, Found, Sort, VoiceIndex, VoiceQuery};
pub use shaping::{Adjustment, Done, Emulation, HearingWish, Shaped, Shaping, Style};
pub use sheet::*;
pub use statement::{
    DifferenceCause, LedgerCharge, Reconciliation, StatementDifference, StatementError, StatementLine,
    StatementMapping, read_statement, reconcile,
};
pub use stitch::{HeardPart, stitch};
pub use tariff::{CallPrice, Cancelled, Measure, PriceChange, PriceTerms, Tariff, Tier, Usage, is_day};
pub use token::{TokenCall, TokenRefusal, TokenTerms};
pub use transcript::{Alternative, GAP, Gap, Transcript, Word, vtt};
pub use transcript_rules::{
    ChangedBy, MaskRule, Masks, Phrase, PhraseTable, Revised, RuleError, SpokenCommand, TranscriptChange,
    TranscriptRules, Vocabulary, VocabularyWord,
};
pub use voice::{Criteria, Gender, Origin, Voice, VoiceId};
pub use wer::{WordErrors, normalise_words, word_errors};

/// The examples of the README are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
