//! The engines and routes in force.

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use dispatcher_core::{Planner, Route, Sheet, Tariff, Voice, VoiceIndex, Work, nearest};
use dispatcher_engines::Engine;
use dispatcher_store::{DocumentVersion, NewVersion, VersionedKind};

use crate::engines::volumes::Volumes;
use crate::{Gateway, GatewayError, Lexicons, Presets, now_micros, today};

/// Whether an engine can be called.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EngineState {
    Ready,
    /// Not on this host, or without a credential; with the next step.
    Absent(String),
    /// Its credential was refused; with the cause.
    Refused(String),
}

impl EngineState {
    /// The word for it.
    pub fn name(&self) -> &'static str {
        match self {
            EngineState::Ready => "ready",
            EngineState::Absent(_) => "absent",
            EngineState::Refused(_) => "refused",
        }
    }

    /// Why, and what to do.
    pub fn reason(&self) -> Option<&str> {
        match self {
            EngineState::Ready => None,
            EngineState::Absent(reason) | EngineState::Refused(reason) => Some(reason),
        }
    }
}

/// Engines by name, and routes by name.
#[derive(Default, Clone)]
pub struct Registry {
    engines: BTreeMap<String, Arc<Engine>>,
    /// As the engines' sheets, with the voices that the engines list.
    sheets: BTreeMap<String, Arc<Sheet>>,
    /// Made when it is first looked for something.
    index: Arc<OnceLock<VoiceIndex>>,
    routes: BTreeMap<String, Route>,
    /// Tariffs that an operator set, in place of those of the sheets.
    tariffs: BTreeMap<(String, Work), Tariff>,
    pub(crate) volumes: Arc<Volumes>,
    pub(crate) presets: Presets,
    pub(crate) lexicons: Lexicons,
}

impl Registry {
    /// Adds an engine; a later one of the same name takes its place.
    pub fn add(&mut self, engine: Engine) {
        let sheet = engine.sheet().clone();
        self.engines.insert(sheet.name.clone(), Arc::new(engine));
        let charged = self.charged(sheet);
        self.sheets.insert(charged.name.clone(), charged);
        self.index = Arc::default();
    }

    /// The sheet with the tariffs in force.
    fn charged(&self, sheet: Arc<Sheet>) -> Arc<Sheet> {
        let own = |work| self.tariffs.get(&(sheet.name.clone(), work)).cloned();
        let (synthesis, recognition) = (own(Work::Synthesis), own(Work::Recognition));
        if synthesis.is_none() && recognition.is_none() {
            return sheet;
        }
        let mut sheet = Arc::unwrap_or_clone(sheet);
        if let Some(work) = sheet.synthesis.as_mut().filter(|_| synthesis.is_some()) {
            work.tariff = synthesis;
        }
        if let Some(work) = sheet.recognition.as_mut().filter(|_| recognition.is_some()) {
            work.tariff = recognition;
        }
        Arc::new(sheet)
    }

    /// Takes up the operator's tariffs, in place of all before.
    pub(super) fn set_tariffs(&mut self, tariffs: BTreeMap<(String, Work), Tariff>) {
        self.tariffs = tariffs;
        for (name, engine) in &self.engines {
            let mut sheet = Sheet::clone(engine.sheet());
            // The voices in force are those that the engine lists.
            if let Some((own, known)) = sheet.synthesis.as_mut().zip(self.sheets.get(name)) {
                own.voices = known.synthesis.as_ref().map(|it| it.voices.clone()).unwrap_or_default();
            }
            let charged = self.charged(Arc::new(sheet));
            self.sheets.insert(name.clone(), charged);
        }
        self.index = Arc::default();
    }

    /// All work whose tariff has tiers.
    pub(super) fn tiered(&self) -> Vec<(String, Work)> {
        let all = self.sheets.iter().flat_map(|(name, sheet)| {
            let works = [Work::Synthesis, Work::Recognition].into_iter();
            works.filter(|work| !sheet.tariff_of(*work).tiers.is_empty()).map(|work| (name.clone(), work))
        });
        all.collect()
    }

    /// The operator's tariff for a kind of work of an engine.
    pub(super) fn own_tariff(&self, engine: &str, work: Work) -> Option<&Tariff> {
        self.tariffs.get(&(engine.to_owned(), work))
    }

    /// Lets go of an engine.
    pub fn remove(&mut self, name: &str) {
        self.engines.remove(name);
        self.sheets.remove(name);
        self.index = Arc::default();
    }

    /// Takes up the voices that an engine lists, in place of those of its sheet.
    pub fn list(&mut self, name: &str, voices: Vec<Voice>) {
        let Some(engine) = self.engines.get(name) else { return };
        let mut sheet = (**engine.sheet()).clone();
        if let Some(synthesis) = &mut sheet.synthesis {
            synthesis.voices = voices;
        }
        let charged = self.charged(Arc::new(sheet));
        self.sheets.insert(name.to_owned(), charged);
        self.index = Arc::default();
    }

    /// Forgets the prices of the index, which are those of a day.
    pub(crate) fn forget_prices(&mut self) {
        self.index = Arc::default();
    }

    /// A sheet with the voices and tariffs in force.
    pub fn sheet(&self, name: &str) -> Option<&Arc<Sheet>> {
        self.sheets.get(name)
    }

    /// All voices, indexed.
    pub fn voices(&self) -> &VoiceIndex {
        self.index.get_or_init(|| VoiceIndex::new(self.sheets.values(), &today()))
    }

    /// One engine.
    ///
    /// # Errors
    /// With the nearest names, where there is none.
    pub fn engine(&self, name: &str) -> Result<&Arc<Engine>, GatewayError> {
        self.engines.get(name).ok_or_else(|| GatewayError::NoSuchEngine {
            wanted: name.into(),
            nearest: nearest(name, self.engines.keys().map(String::as_str), 3),
        })
    }

    /// All engines by name.
    pub fn engines(&self) -> impl Iterator<Item = &Arc<Engine>> {
        self.engines.values()
    }

    /// All routes by name.
    pub fn routes(&self) -> &BTreeMap<String, Route> {
        &self.routes
    }

    /// All named audio formats.
    pub fn presets(&self) -> &Presets {
        &self.presets
    }

    /// All lexicons on record.
    pub fn lexicons(&self) -> &Lexicons {
        &self.lexicons
    }

    /// What planning looks at; `granted` as in [`Planner`].
    pub fn planner<'a>(&'a self, granted: Option<&'a [String]>) -> Planner<'a> {
        Planner { granted, ..Planner::new(&self.sheets, &self.routes) }
    }
}

impl Gateway {
    /// Reads the routes from the records.
    pub(crate) async fn load_routes(&self) -> Result<(), GatewayError> {
        let mut routes = BTreeMap::new();
        for row in self.inner.store.in_force(VersionedKind::Route).await? {
            let route: Route = serde_json::from_str(&row.document)
                .map_err(GatewayError::document(format!("the route {}", row.name)))?;
            routes.insert(row.name, route);
        }
        let mut registry = (*self.registry()).clone();
        registry.routes = routes;
        self.replace_registry(registry);
        Ok(())
    }

    /// Checks and keeps a route as its next version; gives the version.
    ///
    /// # Errors
    /// When the route is absurd or names an engine that is not there.
    pub async fn put_route(&self, route: Route, by: &str) -> Result<i64, GatewayError> {
        route.check()?;
        let registry = self.registry();
        for leg in &route.legs {
            registry.engine(&leg.engine)?;
        }
        let document = serde_json::to_string(&route).map_err(GatewayError::document("a route"))?;
        let new = NewVersion::by(by, VersionedKind::Route, &route.name, document);
        let version = self.inner.store.put_version(new, now_micros()).await?;
        self.load_routes().await?;
        Ok(version)
    }

    /// All versions of a route, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn route_versions(&self, name: &str) -> Result<Vec<DocumentVersion>, GatewayError> {
        Ok(self.inner.store.versions(VersionedKind::Route, name.to_owned()).await?)
    }

    /// Retires a route; requests that name it are refused from then on.
    ///
    /// # Errors
    /// Where there is no route of the name.
    pub async fn retire_route(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        self.inner.store.retire(VersionedKind::Route, name.into(), by.into(), now_micros()).await?;
        self.load_routes().await
    }
}
