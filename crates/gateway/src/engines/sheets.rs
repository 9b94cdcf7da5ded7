//! Adding, replacing and retiring engine sheets at run time.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use dispatcher_core::{Currency, Driver, Sheet, SheetError};
use dispatcher_engines::{Engine, Fetcher};
use dispatcher_store::{DocumentVersion, NewVersion, VersionOrigin, VersionedKind};
use dispatcher_vault::SigningKey;

use crate::{Gateway, GatewayError, JobsPlace, StorageRoom, Webhooks, now_micros};

/// What the host gives: connections, where engines are on this network, and
/// folders for kept audio and for jobs.
pub struct Host {
    pub fetcher: Fetcher,
    /// Endpoints in place of those of sheets, by engine.
    pub endpoints: BTreeMap<String, String>,
    /// Folder of kept audio; `None`: no audio is kept.
    pub clips: Option<PathBuf>,
    /// Jobs are kept here; none are taken where this is missing.
    pub jobs: Option<JobsPlace>,
    /// Hosts from which scripts may have sounds and lexicons, each with its
    /// port where that is not the usual one.
    pub fetch_hosts: Vec<String>,
    /// Webhooks that may be notified of the end of a job; `None`: none.
    pub webhooks: Option<Webhooks>,
    /// Signs complete audio; nothing is signed where this is missing.
    pub signer: Option<Arc<SigningKey>>,
    /// Who takes mail; none is sent where this is missing.
    pub mail: Option<crate::Mail>,
    /// Where traces are sent; nowhere where this is missing.
    pub traces: Option<crate::Traces>,
    /// What may be kept on the disk; unlimited where this is missing.
    pub room: Option<StorageRoom>,
    /// The operator's currency, in which sums of several are shown.
    pub currency: Currency,
}

impl Host {
    /// A host that gives connections and nothing else.
    pub fn alone(fetcher: Fetcher) -> Host {
        let (endpoints, fetch_hosts) = (BTreeMap::new(), Vec::new());
        Host {
            fetcher,
            endpoints,
            clips: None,
            jobs: None,
            fetch_hosts,
            webhooks: None,
            signer: None,
            mail: None,
            traces: None,
            room: None,
            currency: Currency::EUR,
        }
    }

    /// An engine out of a sheet.
    ///
    /// # Errors
    /// The first fault, at its place.
    pub fn engine(&self, source: &str, file: &str) -> Result<Engine, SheetError> {
        // The name decides which endpoint applies, so that it is read first.
        let name = Sheet::parse(source, file)?.name;
        let endpoint = self.endpoints.get(&name).map(String::as_str);
        Engine::load(source, file, endpoint, &self.fetcher)
    }
}

impl Gateway {
    /// Checks a sheet as if it were added, and changes nothing.
    ///
    /// # Errors
    /// The first fault, at its line.
    pub fn try_sheet(&self, source: &str) -> Result<std::sync::Arc<Sheet>, GatewayError> {
        let engine = self.inner.host.engine(source, "sheet")?;
        if engine.sheet().driver == Driver::Process {
            let message = "a sheet with the process driver is accepted only from a sheet folder of the host";
            return Err(SheetError::at_key(source, "sheet", &["driver"], message).into());
        }
        Ok(engine.sheet().clone())
    }

    /// Puts a sheet into force as the next version of its engine.
    ///
    /// # Errors
    /// The first fault, at its line; nothing is changed then.
    pub async fn put_sheet(&self, source: &str, by: &str) -> Result<i64, GatewayError> {
        let sheet = self.try_sheet(source)?;
        let new = NewVersion::by(by, VersionedKind::Sheet, &sheet.name, source.to_owned());
        let version = self.inner.store.put_version(new, now_micros()).await?;
        let engine = self.inner.host.engine(source, "sheet")?;
        let mut registry = (*self.registry()).clone();
        registry.add(engine);
        self.replace_registry(registry);
        self.load_catalogues().await?;
        self.forget_credentials();
        Ok(version)
    }

    /// Takes an engine out of use.
    ///
    /// # Errors
    /// When there is none of the name, or a route leads to it.
    pub async fn retire_engine(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        let registry = self.registry();
        registry.engine(name)?;
        let leads = |route: &&dispatcher_core::Route| route.legs.iter().any(|leg| leg.engine == name);
        if let Some(route) = registry.routes().values().find(leads) {
            return Err(GatewayError::InUse {
                what: "engine",
                name: name.into(),
                by: format!("the route {}", route.name),
            });
        }
        self.inner.store.retire(VersionedKind::Sheet, name.into(), by.into(), now_micros()).await?;
        let mut registry = (*registry).clone();
        registry.remove(name);
        self.replace_registry(registry);
        Ok(())
    }

    /// All versions of an engine's sheet, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn sheet_versions(&self, engine: &str) -> Result<Vec<DocumentVersion>, GatewayError> {
        self.registry().engine(engine)?;
        Ok(self.inner.store.versions(VersionedKind::Sheet, engine.into()).await?)
    }

    /// Loads the sheets that people added during earlier runs, and drops
    /// of engines that were retired.
    pub(crate) async fn load_sheets(&self) -> Result<(), GatewayError> {
        let rows = self.inner.store.in_force(VersionedKind::Sheet).await?;
        let mut registry = (*self.registry()).clone();
        let retired: Vec<String> = registry
            .engines()
            .map(|engine| engine.sheet().name.clone())
            .filter(|name| !rows.iter().any(|row| row.name == *name))
            .collect();
        // An engine whose sheet is on no record at all is one of a test.
        for name in retired {
            if !self.inner.store.versions(VersionedKind::Sheet, name.clone()).await?.is_empty() {
                registry.remove(&name);
            }
        }
        for row in rows.iter().filter(|row| matches!(row.origin, VersionOrigin::Person(_))) {
            match self.inner.host.engine(&row.document, &row.origin.to_string()) {
                Ok(engine) => registry.add(engine),
                Err(error) => tracing::error!(%error, engine = row.name, "a sheet on record is no longer understood"),
            }
        }
        self.replace_registry(registry);
        Ok(())
    }
}
