//! States and kinds of records: closed sets in Rust, words in the columns.

use std::fmt;

use diesel::backend::Backend;
use diesel::deserialize::{self, FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::serialize::{self, IsNull, Output, ToSql};
use diesel::sql_types::Text;
use diesel::sqlite::Sqlite;

/// An enum whose variants are words of a text column.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal),+ $(,)? }) => {
        $(#[$about])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, AsExpression, FromSqlRow)]
        #[diesel(sql_type = Text)]
        pub enum $name { $($(#[$doc])* $variant),+ }

        impl $name {
            /// All of them.
            pub const ALL: &'static [$name] = &[$($name::$variant),+];

            /// The word in records and in the API.
            pub const fn name(self) -> &'static str {
                match self { $($name::$variant => $word),+ }
            }

            /// The one of a word.
            pub fn from_name(word: &str) -> Option<$name> {
                $name::ALL.iter().copied().find(|one| one.name() == word)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(self.name())
            }
        }

        impl ToSql<Text, Sqlite> for $name {
            fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
                out.set_value(self.name());
                Ok(IsNull::No)
            }
        }

        impl FromSql<Text, Sqlite> for $name {
            fn from_sql(value: <Sqlite as Backend>::RawValue<'_>) -> deserialize::Result<Self> {
                let word = <String as FromSql<Text, Sqlite>>::from_sql(value)?;
                $name::from_name(&word).ok_or_else(|| format!("'{word}' is no {}", stringify!($name)).into())
            }
        }
    };
}

words! {
    /// What an allowance counts.
    AllowanceUnit {
        /// Billionths of a currency.
        Money = "money",
        /// Characters of text.
        Characters = "characters",
        /// Milliseconds of recognised audio.
        Milliseconds = "milliseconds",
        /// Requests.
        Requests = "requests",
    }
}

words! {
    /// Where an answer says that it is synthetic speech.
    Disclosure {
        /// In a field of the answer, `Dispatch-Synthetic`.
        Header = "header",
        /// In the tags of the audio.
        Tag = "tag",
    }
}

words! {
    /// What is removed after a number of days.
    RetentionKind {
        /// Dispatches with their attempts; what they cost stays in the ledger.
        Dispatches = "dispatches",
        /// Kept transcripts with all their versions, whatever their app says.
        Transcripts = "transcripts",
        /// Audio that is kept for recall.
        KeptAnswers = "kept-answers",
        /// Records of exchanges.
        Exchanges = "exchanges",
        /// Comparisons of voices with their audio and ratings.
        Comparisons = "comparisons",
        /// Uploads that nobody used, counted from their last part. They are files: who
        /// holds them removes them.
        Uploads = "uploads",
        /// Entries of the audit log.
        Audit = "audit",
    }
}

words! {
    /// What is kept of an app's answers, to answer equal requests without an engine.
    RecallPolicy {
        /// Nothing.
        Off = "off",
        /// Audio, for its own requests.
        Private = "private",
        /// Audio, for requests of all apps that share theirs.
        Shared = "shared",
    }
}

words! {
    /// How an exchange ended.
    ExchangeState {
        /// The reply was spoken to its end.
        Answered = "answered",
        /// The hook failed, stalled or went on for too long: the apology was spoken.
        Apologised = "apologised",
        /// The caller stopped the reply, or spoke into it.
        Stopped = "stopped",
        /// An engine failed, and nobody could take its place.
        Failed = "failed",
        /// The caller cancelled the request.
        Abandoned = "abandoned",
    }
}

words! {
    /// What something was measured of.
    HealthScope {
        Engine = "engine",
        /// `engine/voice`.
        Voice = "voice",
        /// `engine/model`.
        Model = "model",
        Route = "route",
    }
}

words! {
    /// State of a dispatch.
    DispatchState {
        /// It has not ended yet.
        Running = "running",
        /// An engine delivered all of it.
        Done = "done",
        /// No engine delivered it.
        Failed = "failed",
        /// The caller left before the end.
        Abandoned = "abandoned",
        /// Its end was not recorded, for instance since the service was killed.
        Uncertain = "uncertain",
    }
}

words! {
    /// State of an attempt, as of a dispatch.
    AttemptState {
        Running = "running",
        Done = "done",
        Failed = "failed",
        Abandoned = "abandoned",
        /// Nobody wrote its end; it was charged as held.
        Uncertain = "uncertain",
    }
}

words! {
    /// Kind of a ledger entry.
    LedgerKind {
        /// The highest cost, before the engine is called.
        Hold = "hold",
        /// The hold, taken back.
        Release = "release",
        /// What the attempt cost.
        Settle = "settle",
        /// A correction.
        Adjust = "adjust",
    }
}

words! {
    /// State of a job.
    JobState {
        /// No worker has taken it yet.
        Queued = "queued",
        Running = "running",
        /// An engine or credential is not available; it continues automatically.
        Waiting = "waiting",
        Done = "done",
        Failed = "failed",
        Cancelled = "cancelled",
    }
}

impl JobState {
    /// States of jobs that have not ended.
    pub const AT_WORK: [JobState; 3] = [JobState::Queued, JobState::Running, JobState::Waiting];

    /// Whether the job has ended.
    pub fn is_over(self) -> bool {
        !JobState::AT_WORK.contains(&self)
    }
}

words! {
    /// State of one version of a credential.
    CredentialState {
        /// It was just added, or its engine does not accept it yet; it is tried again.
        Pending = "pending",
        /// Its engine has no check without cost; the first call will show.
        Unproven = "unproven",
        /// Its engine accepts it.
        Active = "active",
        /// Its engine does not accept it.
        Refused = "refused",
        /// A newer version is in force. This is final.
        Superseded = "superseded",
        /// A person has withdrawn it, and its secret is erased. This is final.
        Revoked = "revoked",
    }
}

impl CredentialState {
    /// States that can still change.
    pub const OPEN: [CredentialState; 4] =
        [CredentialState::Pending, CredentialState::Unproven, CredentialState::Active, CredentialState::Refused];

    /// Whether calls may be made with it.
    pub fn serves(self) -> bool {
        matches!(self, CredentialState::Unproven | CredentialState::Active)
    }
}

words! {
    /// What became of a voice in an engine's list.
    ChangeKind {
        Added = "added",
        Changed = "changed",
        Removed = "removed",
    }
}

words! {
    /// Kind of a document that is kept version by version.
    VersionedKind {
        /// TOML.
        Sheet = "sheet",
        /// JSON.
        Route = "route",
        /// JSON.
        Preset = "preset",
        /// PLS 1.0.
        Lexicon = "lexicon",
        /// JSON.
        PromptSet = "prompt set",
        /// JSON.
        AlertRule = "alert",
        /// JSON.
        Vocabulary = "vocabulary",
        /// JSON.
        Phrases = "phrases",
        /// JSON.
        Masks = "masks",
        /// JSON: an operator's own tariff for one kind of work of an engine.
        Tariff = "tariff",
        /// JSON: which columns of an engine's statements mean what.
        StatementMapping = "statement mapping",
        /// JSON: what an engine includes.
        Credit = "credit",
        /// JSON: what a currency is worth.
        Rate = "rate",
        /// JSON: a sentence that a voice speaks at intervals.
        Canary = "canary",
    }
}

words! {
    /// What a person may do.
    PersonRole {
        /// Everything.
        Operator = "operator",
        /// What keys of some apps may do, and their keys.
        AppOwner = "app-owner",
        /// Read everything and change nothing.
        Auditor = "auditor",
    }
}

impl VersionedKind {
    /// What a person calls the thing that the document is about.
    pub(crate) fn what(self) -> &'static str {
        if self == VersionedKind::Sheet { "engine" } else { self.name() }
    }

    /// Apps put them in themselves: a name is one app's, the oldest versions
    /// go, and what is removed leaves nothing behind.
    pub(crate) fn is_of_apps(self) -> bool {
        use VersionedKind::{Masks, Phrases, PromptSet, Vocabulary};
        matches!(self, PromptSet | Vocabulary | Phrases | Masks)
    }

    /// Actions of the audit log: added, retired.
    pub(crate) fn actions(self) -> (&'static str, &'static str) {
        match self {
            VersionedKind::Sheet => ("sheet.put", "sheet.retire"),
            VersionedKind::Route => ("route.put", "route.retire"),
            VersionedKind::Preset => ("preset.put", "preset.retire"),
            VersionedKind::Lexicon => ("lexicon.put", "lexicon.retire"),
            VersionedKind::PromptSet => ("prompts.put", "prompts.remove"),
            VersionedKind::AlertRule => ("alert.put", "alert.retire"),
            VersionedKind::Vocabulary => ("vocabulary.put", "vocabulary.retire"),
            VersionedKind::Phrases => ("phrases.put", "phrases.retire"),
            VersionedKind::Masks => ("masks.put", "masks.retire"),
            VersionedKind::Tariff => ("tariff.put", "tariff.retire"),
            VersionedKind::Credit => ("credit.put", "credit.retire"),
            VersionedKind::Rate => ("rate.put", "rate.retire"),
            VersionedKind::Canary => ("canary.put", "canary.retire"),
            VersionedKind::StatementMapping => ("statement.map", "statement.unmap"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_is_read_as_what_wrote_it() {
        for state in JobState::ALL {
            assert_eq!(JobState::from_name(state.name()), Some(*state));
            assert_eq!(state.is_over(), matches!(state.name(), "done" | "failed" | "cancelled"));
        }
        let serving: Vec<_> = CredentialState::ALL.iter().filter(|state| state.serves()).map(|it| it.name()).collect();
        assert_eq!(serving, ["unproven", "active"]);
        assert!(!CredentialState::OPEN.contains(&CredentialState::Superseded));
        assert!(!CredentialState::OPEN.contains(&CredentialState::Revoked));
        assert_eq!(DispatchState::from_name("open"), None);
        assert_eq!(AttemptState::ALL.len(), DispatchState::ALL.len());
        assert_eq!(LedgerKind::Release.to_string(), "release");
    }
}
