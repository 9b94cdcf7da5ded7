//! What each app has done with its transcripts: its vocabulary, its phrases
//! and its masks, on record. What they do is in core.

use std::collections::BTreeMap;
use std::sync::Arc;

use dispatcher_core::{
    MaskRule, Masks, Phrase, PhraseTable, Revised, Transcript, TranscriptRules, Vocabulary, VocabularyWord,
};
use dispatcher_store::{DocumentVersion, NewVersion, VersionedKind};
use serde::Serialize;

use crate::{Gateway, GatewayError, now_micros};

/// The rules of an app, with the version of each of its documents; 0 where
/// there is none.
#[derive(Debug, Clone, Default)]
pub struct AppRules {
    pub rules: Arc<TranscriptRules>,
    pub vocabulary: i64,
    pub phrases: i64,
    pub masks: i64,
}

/// The rules of every app that has any.
#[derive(Default)]
pub(crate) struct RuleBook {
    by_app: parking_lot::RwLock<BTreeMap<String, AppRules>>,
    /// One change at a time: each builds on what is there.
    changes: tokio::sync::Mutex<()>,
}

impl Gateway {
    /// The rules of an app.
    pub fn rules_of(&self, app: &str) -> AppRules {
        self.inner.rule_book.by_app.read().get(app).cloned().unwrap_or_default()
    }

    /// Reads the rules of all apps from the records.
    pub(crate) async fn load_transcript_rules(&self) -> Result<(), GatewayError> {
        let mut by_app: BTreeMap<String, (TranscriptRules, AppRules)> = BTreeMap::new();
        for kind in [VersionedKind::Vocabulary, VersionedKind::Phrases, VersionedKind::Masks] {
            for row in self.inner.store.in_force(kind).await? {
                let (rules, versions) = by_app.entry(row.name.clone()).or_default();
                let (read, version) = match kind {
                    VersionedKind::Vocabulary => {
                        (serde_json::from_str(&row.document).map(|it| rules.vocabulary = it), &mut versions.vocabulary)
                    }
                    VersionedKind::Phrases => {
                        (serde_json::from_str(&row.document).map(|it| rules.phrases = it), &mut versions.phrases)
                    }
                    _ => (serde_json::from_str(&row.document).map(|it| rules.masks = it), &mut versions.masks),
                };
                // Transcripts that should be masked are not to be kept unmasked.
                read.map_err(GatewayError::document("rules of an app"))?;
                *version = row.version;
            }
        }
        let ready =
            by_app.into_iter().map(|(app, (rules, versions))| (app, AppRules { rules: rules.into(), ..versions }));
        *self.inner.rule_book.by_app.write() = ready.collect();
        Ok(())
    }

    /// Keeps the vocabulary of an app as its next version.
    ///
    /// # Errors
    /// The first word that makes no sense; where there is no such app.
    pub async fn put_vocabulary(
        &self,
        app: &str,
        words: Vec<VocabularyWord>,
        by: &str,
    ) -> Result<AppRules, GatewayError> {
        let _change = self.inner.rule_book.changes.lock().await;
        self.put_words(app, words, by).await
    }

    /// Adds a word to the vocabulary of an app, in place of one that is spelt
    /// alike.
    ///
    /// # Errors
    /// As [`Gateway::put_vocabulary`].
    pub async fn add_vocabulary_word(
        &self,
        app: &str,
        word: VocabularyWord,
        by: &str,
    ) -> Result<AppRules, GatewayError> {
        let _change = self.inner.rule_book.changes.lock().await;
        let mut words = self.rules_of(app).rules.vocabulary.words.clone();
        match words.iter_mut().find(|known| known.grapheme.first() == word.grapheme.first()) {
            Some(known) => *known = word,
            None => words.push(word),
        }
        self.put_words(app, words, by).await
    }

    async fn put_words(&self, app: &str, words: Vec<VocabularyWord>, by: &str) -> Result<AppRules, GatewayError> {
        let vocabulary = Vocabulary::new(words)?;
        let version = self.put_rules(app, VersionedKind::Vocabulary, &vocabulary, by).await?;
        let before = self.rules_of(app);
        let rules = TranscriptRules { vocabulary, ..(*before.rules).clone() };
        Ok(self.take_up(app, AppRules { rules: rules.into(), vocabulary: version, ..before }))
    }

    /// Keeps the phrases of an app as their next version.
    ///
    /// # Errors
    /// The first phrase that makes no sense; where there is no such app.
    pub async fn put_phrases(&self, app: &str, phrases: Vec<Phrase>, by: &str) -> Result<AppRules, GatewayError> {
        let _change = self.inner.rule_book.changes.lock().await;
        let phrases = PhraseTable::new(phrases)?;
        let version = self.put_rules(app, VersionedKind::Phrases, &phrases, by).await?;
        let before = self.rules_of(app);
        let rules = TranscriptRules { phrases, ..(*before.rules).clone() };
        Ok(self.take_up(app, AppRules { rules: rules.into(), phrases: version, ..before }))
    }

    /// Keeps the masks of an app as their next version.
    ///
    /// # Errors
    /// The first rule that makes no sense; where there is no such app.
    pub async fn put_masks(&self, app: &str, rules: Vec<MaskRule>, by: &str) -> Result<AppRules, GatewayError> {
        let _change = self.inner.rule_book.changes.lock().await;
        let masks = Masks::new(rules)?;
        let version = self.put_rules(app, VersionedKind::Masks, &masks, by).await?;
        let before = self.rules_of(app);
        let rules = TranscriptRules { masks, ..(*before.rules).clone() };
        Ok(self.take_up(app, AppRules { rules: rules.into(), masks: version, ..before }))
    }

    /// Writes a document; gives its version.
    async fn put_rules(
        &self,
        app: &str,
        kind: VersionedKind,
        document: &impl Serialize,
        by: &str,
    ) -> Result<i64, GatewayError> {
        self.app(app).await?;
        let document = serde_json::to_string(document).map_err(GatewayError::document("rules of an app"))?;
        let new = NewVersion { app: Some(app.to_owned()), ..NewVersion::by(by, kind, app, document) };
        Ok(self.inner.store.put_version(new, now_micros()).await?)
    }

    /// The rules are in force from the next transcript on.
    fn take_up(&self, app: &str, rules: AppRules) -> AppRules {
        self.inner.rule_book.by_app.write().insert(app.to_owned(), rules.clone());
        rules
    }

    /// All versions of an app's vocabulary, phrases or masks, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn rule_versions(&self, kind: VersionedKind, app: &str) -> Result<Vec<DocumentVersion>, GatewayError> {
        Ok(self.inner.store.versions(kind, app.to_owned()).await?)
    }

    /// A transcript after the rules of an app, off the async threads.
    pub(crate) async fn revise(&self, app: &str, transcript: Transcript) -> Result<Revised, GatewayError> {
        let rules = self.rules_of(app).rules;
        if rules.is_empty() {
            return Ok(Revised { transcript, ..Revised::default() });
        }
        Ok(tokio::task::spawn_blocking(move || rules.revise(transcript)).await?)
    }
}
