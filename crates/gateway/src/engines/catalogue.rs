//! Catalogue upkeep: engines are asked for their voices, the last good list
//! stays, and changes are reported.

use std::collections::HashMap;
use std::sync::Weak;
use std::time::Duration;

use dispatcher_core::{Catalogue, Voice};
use dispatcher_engines::{EngineError, Turn};
use dispatcher_store::{CatalogueChange, ChangeKind, StoredCatalogue};
use dispatcher_vault::Parts;
use futures::FutureExt as _;
use futures::future::BoxFuture;

use crate::dispatch::limiter::Priority;
use crate::{Gateway, GatewayError, Inner, now_micros};

/// How often it is looked whether a list is due.
const LOOK: Duration = Duration::from_secs(60);
/// How soon after the start it is looked for the first time.
const FIRST_LOOK: Duration = Duration::from_secs(2);
/// A list that could not be read is asked for again after this.
const AGAIN_MICROS: i64 = 15 * 60 * 1_000_000;
/// What the calls of upkeep take their turns as.
const UPKEEP: &str = "console";
const HOUR_MICROS: i64 = 3_600 * 1_000_000;

/// The state of one engine's list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CatalogueState {
    pub engine: String,
    /// When the last good list was read; `None` if the sheet's own is used.
    pub read_at: Option<i64>,
    pub tried_at: Option<i64>,
    /// Why the last look failed: the list is stale then.
    pub problem: Option<String>,
    pub voices: usize,
}

/// What a look found to be different.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Changes {
    pub voices: usize,
    pub added: Vec<String>,
    /// With the members that changed.
    pub changed: Vec<(String, String)>,
    pub removed: Vec<String>,
}

impl Changes {
    fn between(before: &[Voice], after: &[Voice]) -> Changes {
        let earlier: HashMap<&str, &Voice> = before.iter().map(|voice| (voice.id.as_str(), voice)).collect();
        let later: HashMap<&str, &Voice> = after.iter().map(|voice| (voice.id.as_str(), voice)).collect();
        let mut changes = Changes { voices: after.len(), ..Changes::default() };
        for voice in after {
            match earlier.get(voice.id.as_str()) {
                None => changes.added.push(voice.id.clone()),
                Some(known) if *known != voice => changes.changed.push((voice.id.clone(), members(known, voice))),
                Some(_) => {}
            }
        }
        let gone = before.iter().filter(|voice| !later.contains_key(voice.id.as_str()));
        changes.removed = gone.map(|voice| voice.id.clone()).collect();
        changes
    }

    fn rows(&self, engine: &str, at: i64) -> Vec<CatalogueChange> {
        let row = |voice: &String, kind: ChangeKind, detail: &str| CatalogueChange {
            engine: engine.to_owned(),
            at,
            voice: voice.clone(),
            kind,
            detail: detail.to_owned(),
        };
        let added = self.added.iter().map(|voice| row(voice, ChangeKind::Added, ""));
        let changed = self.changed.iter().map(|(voice, members)| row(voice, ChangeKind::Changed, members));
        added.chain(changed).chain(self.removed.iter().map(|voice| row(voice, ChangeKind::Removed, ""))).collect()
    }
}

/// The members in which two voices differ.
fn members(before: &Voice, after: &Voice) -> String {
    let (before, after) = (serde_json::to_value(before), serde_json::to_value(after));
    let (Ok(serde_json::Value::Object(before)), Ok(serde_json::Value::Object(after))) = (before, after) else {
        return String::new();
    };
    let mut names: Vec<&String> = before.keys().chain(after.keys()).collect();
    names.sort();
    names.dedup();
    names.retain(|name| before.get(*name) != after.get(*name));
    names.into_iter().map(String::as_str).collect::<Vec<_>>().join(", ")
}

/// The engine's list, and what the sheet knows besides.
fn merged(listed: Vec<Voice>, own: &[Voice], spec: &Catalogue) -> Vec<Voice> {
    let known: HashMap<&str, &Voice> = own.iter().map(|voice| (voice.id.as_str(), voice)).collect();
    let mut all: Vec<Voice> = listed
        .into_iter()
        .map(|mut voice| {
            if let Some(known) = known.get(voice.id.as_str()) {
                if voice.character.is_empty() {
                    voice.character.clone_from(&known.character);
                }
                if voice.class.is_none() {
                    voice.class.clone_from(&known.class);
                }
                if voice.name == voice.id {
                    voice.name.clone_from(&known.name);
                }
                if voice.styles.is_empty() {
                    voice.styles.clone_from(&known.styles);
                }
                if voice.models.is_empty() {
                    voice.models.clone_from(&known.models);
                }
                if voice.languages == ["und"] {
                    voice.languages.clone_from(&known.languages);
                }
                voice.gender = voice.gender.or(known.gender);
            }
            voice
        })
        .collect();
    if spec.extends {
        let listed: std::collections::HashSet<String> = all.iter().map(|voice| voice.id.clone()).collect();
        all.extend(own.iter().filter(|voice| !listed.contains(&voice.id)).cloned());
    }
    all
}

impl Gateway {
    /// What changed in an engine's list, the newest first.
    ///
    /// # Errors
    /// Where there is no engine of the name.
    pub async fn catalogue_changes(&self, engine: &str, limit: i64) -> Result<Vec<CatalogueChange>, GatewayError> {
        self.registry().engine(engine)?;
        Ok(self.inner.store.catalogue_changes(engine.to_owned(), limit).await?)
    }

    /// Ids of the voices that people marked.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn favourites(&self) -> Result<Vec<String>, GatewayError> {
        Ok(self.inner.store.favourites().await?.into_iter().map(|favourite| favourite.voice).collect())
    }

    /// Marks a voice.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn mark_voice(&self, voice: &str, by: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.add_favourite(voice.to_owned(), by.to_owned(), now_micros()).await?)
    }

    /// Takes the mark of a voice away.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn unmark_voice(&self, voice: &str, by: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.remove_favourite(voice.to_owned(), by.to_owned(), now_micros()).await?)
    }

    /// Asks an engine for its voices, and takes the list up.
    ///
    /// # Errors
    /// Why there is no new list; the last good one stays then.
    pub async fn refresh_catalogue(&self, engine: &str) -> Result<Changes, GatewayError> {
        let registry = self.registry();
        let found = registry.engine(engine)?.clone();
        let Some(spec) = found.sheet().catalogue.clone() else {
            return Err(GatewayError::NoCatalogue(engine.into()));
        };
        let own = found.sheet().synthesis.as_ref().map(|it| it.voices.clone()).unwrap_or_default();
        let now = now_micros();
        let listed = match self.ask_voices(&found).await {
            Ok(listed) => listed,
            Err(error) => {
                let problem = format!("{}: {}", error.cause, error.detail);
                self.inner.store.note_catalogue_problem(engine.into(), problem, now).await?;
                return Err(GatewayError::CatalogueUnread {
                    engine: engine.into(),
                    cause: error.cause,
                    detail: error.detail,
                });
            }
        };
        let voices = merged(listed, &own, &spec);
        let before = registry.sheet(engine).and_then(|sheet| sheet.synthesis.as_ref().map(|it| it.voices.clone()));
        let changes = Changes::between(&before.unwrap_or_default(), &voices);
        let document = serde_json::to_string(&voices).map_err(GatewayError::document("a catalogue"))?;
        let row = StoredCatalogue { engine: engine.into(), document, read_at: Some(now), tried_at: now, problem: None };
        self.inner.store.put_catalogue(row, changes.rows(engine, now)).await?;
        let mut registry = (*self.registry()).clone();
        registry.list(engine, voices);
        self.replace_registry(registry);
        Ok(changes)
    }

    async fn ask_voices(&self, engine: &dispatcher_engines::Engine) -> Result<Vec<Voice>, EngineError> {
        let turns = self.upkeep_turns(engine);
        self.with_credential(engine, None, |opened| {
            let turns = &turns;
            async move {
                let none = Parts::new();
                let parts = opened.as_ref().map_or(&none, |opened| &opened.parts);
                engine.voices(parts, turns).await.unwrap_or_else(|| Ok(Vec::new()))
            }
        })
        .await
    }

    /// Calls of upkeep keep to the pace that the engine allows.
    pub(crate) fn upkeep_turns(
        &self,
        engine: &dispatcher_engines::Engine,
    ) -> impl Fn() -> BoxFuture<'static, Turn> + Send + Sync + use<> {
        let sheet = engine.sheet();
        let limiter = self.inner.limiters.of(&sheet.name, &sheet.pace);
        move || {
            let limiter = limiter.clone();
            let turn = async move {
                match limiter {
                    Some(limiter) => Box::new(limiter.enter(UPKEEP, Priority::Batch).await) as Turn,
                    None => Box::new(()) as Turn,
                }
            };
            turn.boxed()
        }
    }

    /// State of the voice list of each engine.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn catalogue_states(&self) -> Result<HashMap<String, CatalogueState>, GatewayError> {
        let rows = self.inner.store.catalogue_ages().await?;
        let registry = self.registry();
        let state = |engine: &std::sync::Arc<dispatcher_engines::Engine>| {
            let name = engine.sheet().name.clone();
            engine.sheet().catalogue.as_ref()?;
            let row = rows.iter().find(|row| row.engine == name);
            let voices = registry.sheet(&name).and_then(|sheet| Some(sheet.synthesis.as_ref()?.voices.len()));
            let state = CatalogueState {
                engine: name.clone(),
                read_at: row.and_then(|row| row.read_at),
                tried_at: row.map(|row| row.tried_at),
                problem: row.and_then(|row| row.problem.clone()),
                voices: voices.unwrap_or(0),
            };
            Some((name, state))
        };
        Ok(registry.engines().filter_map(state).collect())
    }

    /// Takes up the last good lists.
    pub(crate) async fn load_catalogues(&self) -> Result<(), GatewayError> {
        let rows = self.inner.store.catalogues().await?;
        let mut registry = (*self.registry()).clone();
        for row in rows.into_iter().filter(|row| !row.document.is_empty()) {
            let listed = registry.engine(&row.engine).is_ok_and(|engine| engine.sheet().catalogue.is_some());
            if !listed {
                continue;
            }
            match serde_json::from_str(&row.document) {
                Ok(voices) => registry.list(&row.engine, voices),
                Err(error) => tracing::warn!(%error, engine = row.engine, "a kept catalogue is not understood"),
            }
        }
        self.replace_registry(registry);
        Ok(())
    }

    /// Looks after the lists until the gateway is gone.
    pub(crate) fn keep_catalogues(&self) {
        let inner: Weak<Inner> = std::sync::Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            let mut pause = FIRST_LOOK;
            loop {
                tokio::time::sleep(pause).await;
                pause = LOOK;
                let Some(inner) = inner.upgrade() else { return };
                Gateway { inner }.refresh_due().await;
            }
        });
    }

    async fn refresh_due(&self) {
        let Ok(states) = self.catalogue_states().await else { return };
        let now = now_micros();
        for engine in self.registry().engines() {
            let sheet = engine.sheet();
            let Some(spec) = sheet.catalogue.as_ref().filter(|spec| spec.hours > 0) else { continue };
            let wait = |state: &CatalogueState| match state.problem {
                Some(_) => AGAIN_MICROS,
                None => i64::try_from(spec.hours).unwrap_or(24).saturating_mul(HOUR_MICROS),
            };
            let due = states.get(&sheet.name).is_none_or(|s| s.tried_at.is_none_or(|tried| now - tried >= wait(s)));
            // Without a credential or a program there is nobody to ask.
            let reachable = engine.absent().is_none() && self.credential_for(engine, None).await.is_ok();
            if due && reachable {
                match self.refresh_catalogue(&sheet.name).await {
                    Ok(changes) => tracing::info!(
                        engine = sheet.name,
                        voices = changes.voices,
                        added = changes.added.len(),
                        removed = changes.removed.len(),
                        "read the catalogue"
                    ),
                    Err(error) => tracing::warn!(engine = sheet.name, %error, "the catalogue was not read"),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn voice(id: &str, character: &str) -> Voice {
        let languages = vec!["en".to_owned()];
        Voice { id: id.into(), name: id.into(), languages, character: character.into(), ..Voice::default() }
    }

    #[test]
    fn what_was_added_changed_and_removed_is_told() {
        let before = [voice("a", ""), voice("b", "deep"), voice("c", "")];
        let after = [voice("b", "deeper"), voice("c", ""), voice("d", "")];
        let changes = Changes::between(&before, &after);
        assert_eq!((changes.added, changes.removed), (vec!["d".to_owned()], vec!["a".to_owned()]));
        assert_eq!(changes.changed, [("b".to_owned(), "character".to_owned())]);
    }

    #[test]
    fn the_sheet_adds_what_the_list_does_not_say() {
        let spec = |extends| serde_json::from_value(serde_json::json!({ "extends": extends })).expect("a catalogue");
        let own = [Voice { name: "Ada".into(), ..voice("a", "clear") }, voice("z", "")];
        let all = merged(vec![voice("a", "")], &own, &spec(false));
        assert_eq!((all.len(), all[0].name.as_str(), all[0].character.as_str()), (1, "Ada", "clear"));
        assert_eq!(merged(vec![voice("a", "")], &own, &spec(true)).len(), 2);
    }
}
