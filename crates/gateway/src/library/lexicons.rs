//! Lexicons on record: of an app, or of all.

use std::collections::BTreeMap;
use std::sync::Arc;

use dispatcher_markup::{Lexicon, Pronunciation, new_pls, read_pls, with_word};
use dispatcher_store::{DocumentVersion, NewVersion, StoreError, VersionedKind};

use crate::{Gateway, GatewayError, now_micros};

/// A lexicon in force.
#[derive(Debug, Clone)]
pub struct StoredLexicon {
    pub name: String,
    pub version: i64,
    /// App that may use it (default: all apps); every app's where nothing is said.
    pub app: Option<String>,
    /// It holds for all text in its language, and not only where it is asked for.
    pub always: bool,
    /// PLS 1.0.
    pub document: String,
    pub lexicon: Arc<Lexicon>,
    pub by: String,
    pub at: i64,
}

impl StoredLexicon {
    fn of(row: DocumentVersion) -> Result<StoredLexicon, GatewayError> {
        let lexicon = read_pls(&row.document).map_err(GatewayError::Lexicon)?;
        Ok(StoredLexicon {
            name: row.name,
            version: row.version,
            app: row.app,
            always: row.always,
            document: row.document,
            lexicon: Arc::new(lexicon),
            by: row.origin.name().to_owned(),
            at: row.created_at,
        })
    }

    /// Whether an app may use it.
    pub fn is_for(&self, app: &str) -> bool {
        self.app.as_deref().is_none_or(|own| own == app)
    }
}

/// Every lexicon in force.
#[derive(Debug, Clone, Default)]
pub struct Lexicons {
    by_name: BTreeMap<String, StoredLexicon>,
}

impl Lexicons {
    /// By name.
    pub fn all(&self) -> impl Iterator<Item = &StoredLexicon> {
        self.by_name.values()
    }

    /// Those that an app may use: its own first.
    pub fn of<'l>(&'l self, app: &'l str) -> impl Iterator<Item = &'l StoredLexicon> {
        let own = self.all().filter(move |lexicon| lexicon.app.as_deref() == Some(app));
        own.chain(self.all().filter(|lexicon| lexicon.app.is_none()))
    }
}

/// A lexicon to be kept.
#[derive(Debug, Clone)]
pub struct NewLexicon {
    pub name: String,
    pub app: Option<String>,
    pub always: bool,
    pub document: String,
}

impl Gateway {
    /// Reads the lexicons from the records.
    pub(crate) async fn load_lexicons(&self) -> Result<(), GatewayError> {
        let mut by_name = BTreeMap::new();
        for row in self.inner.store.in_force(VersionedKind::Lexicon).await? {
            let name = row.name.clone();
            match StoredLexicon::of(row) {
                Ok(lexicon) => drop(by_name.insert(name, lexicon)),
                Err(error) => tracing::error!(%error, lexicon = name, "a lexicon on record is no longer understood"),
            }
        }
        let mut registry = (*self.registry()).clone();
        registry.lexicons = Lexicons { by_name };
        self.replace_registry(registry);
        Ok(())
    }

    /// Keeps a lexicon as its next version.
    ///
    /// # Errors
    /// The document's first fault, at its place; or an app that is not there.
    pub async fn put_lexicon(&self, new: NewLexicon, by: &str) -> Result<StoredLexicon, GatewayError> {
        let lexicon = read_pls(&new.document).map_err(GatewayError::Lexicon)?;
        if let Some(app) = &new.app
            && !self.inner.store.apps().await?.iter().any(|known| known.name == *app)
        {
            return Err(StoreError::Missing { what: "app", name: app.clone() }.into());
        }
        let NewLexicon { name, app, always, document } = new;
        let at = now_micros();
        let row = NewVersion {
            app: app.clone(),
            always,
            ..NewVersion::by(by, VersionedKind::Lexicon, &name, document.clone())
        };
        let version = self.inner.store.put_version(row, at).await?;
        self.load_lexicons().await?;
        Ok(StoredLexicon { name, version, app, always, document, lexicon: Arc::new(lexicon), by: by.to_owned(), at })
    }

    /// Puts one word into a lexicon, as its next version. A lexicon that is not
    /// there yet is begun, for text in `language`.
    ///
    /// # Errors
    /// Where there is none of the name and no language is given; a word that
    /// cannot be said so.
    pub async fn add_lexicon_word(
        &self,
        name: &str,
        (grapheme, said): (&str, &Pronunciation),
        language: Option<&str>,
        by: &str,
    ) -> Result<StoredLexicon, GatewayError> {
        // Two words at once are both kept.
        let _change = self.inner.lexicon_changes.lock().await;
        let registry = self.registry();
        let known = registry.lexicons().all().find(|lexicon| lexicon.name == name);
        let (document, app, always) = match (known, language) {
            (Some(known), _) => (known.document.clone(), known.app.clone(), known.always),
            (None, Some(language)) => (new_pls(language), None, true),
            (None, None) => return Err(StoreError::Missing { what: "lexicon", name: name.to_owned() }.into()),
        };
        let document = with_word(&document, grapheme, said).map_err(GatewayError::Lexicon)?;
        self.put_lexicon(NewLexicon { name: name.to_owned(), app, always, document }, by).await
    }

    /// All versions of a lexicon, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn lexicon_versions(&self, name: &str) -> Result<Vec<DocumentVersion>, GatewayError> {
        Ok(self.inner.store.versions(VersionedKind::Lexicon, name.to_owned()).await?)
    }

    /// Retires a lexicon.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn retire_lexicon(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        self.inner.store.retire(VersionedKind::Lexicon, name.into(), by.into(), now_micros()).await?;
        self.load_lexicons().await
    }
}
