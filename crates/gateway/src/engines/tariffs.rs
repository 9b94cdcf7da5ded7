//! Tariffs that an operator sets for an engine: what was agreed with it, in
//! place of the prices of its sheet.

use std::collections::BTreeMap;

use dispatcher_core::{Measure, Sheet, Tariff, Work};
use dispatcher_store::{DocumentVersion, NewVersion, VersionedKind};

use crate::{Gateway, GatewayError, now_micros, today};

/// Price changes and factors of one tariff.
const MOST_ENTRIES: usize = 1_000;

/// Where a tariff comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TariffSource {
    /// The sheet of its engine.
    Sheet,
    /// An operator.
    Operator,
}

/// How a kind of work of an engine is charged at present.
#[derive(Debug, Clone)]
pub struct TariffInForce {
    pub engine: String,
    pub work: Work,
    pub source: TariffSource,
    pub tariff: Tariff,
    /// Price of a unit today, without factors.
    pub price_today: String,
}

fn document_name(engine: &str, work: Work) -> String {
    format!("{engine}/{}", work.name())
}

fn of_document_name(name: &str) -> Option<(String, Work)> {
    let (engine, work) = name.rsplit_once('/')?;
    let work = [Work::Synthesis, Work::Recognition].into_iter().find(|known| known.name() == work)?;
    Some((engine.to_owned(), work))
}

fn does(sheet: &Sheet, work: Work) -> bool {
    match work {
        Work::Synthesis => sheet.synthesis.is_some(),
        Work::Recognition => sheet.recognition.is_some(),
    }
}

impl Gateway {
    /// Takes up the tariffs of operators from the records.
    pub(crate) async fn load_tariffs(&self) -> Result<(), GatewayError> {
        let mut tariffs = BTreeMap::new();
        for row in self.inner.store.in_force(VersionedKind::Tariff).await? {
            let tariff = serde_json::from_str(&row.document)
                .map_err(GatewayError::document(format!("the tariff {}", row.name)))?;
            tariffs.extend(of_document_name(&row.name).map(|of| (of, tariff)));
        }
        let mut registry = (*self.registry()).clone();
        registry.set_tariffs(tariffs);
        self.load_volumes(&registry).await?;
        self.replace_registry(registry);
        Ok(())
    }

    /// The tariffs in force, by engine; of one where it is named.
    ///
    /// # Errors
    /// With the nearest names, where there is no such engine.
    pub fn tariffs(&self, engine: Option<&str>) -> Result<Vec<TariffInForce>, GatewayError> {
        let registry = self.registry();
        if let Some(engine) = engine {
            registry.engine(engine)?;
        }
        let (mut all, day) = (Vec::new(), today());
        for named in registry.engines().map(|engine| &engine.sheet().name) {
            let Some(sheet) = registry.sheet(named).filter(|_| engine.is_none_or(|engine| engine == named)) else {
                continue;
            };
            for work in [Work::Synthesis, Work::Recognition].into_iter().filter(|work| does(sheet, *work)) {
                let own = registry.own_tariff(named, work);
                let tariff = sheet.tariff_of(work).clone();
                all.push(TariffInForce {
                    engine: named.clone(),
                    work,
                    source: if own.is_some() { TariffSource::Operator } else { TariffSource::Sheet },
                    price_today: tariff.price_on(&day).to_owned(),
                    tariff,
                });
            }
        }
        Ok(all)
    }

    /// Sets the tariff of a kind of work of an engine. It applies to calls
    /// from now on; the ledger is not changed.
    ///
    /// # Errors
    /// Where the engine does no such work, or the tariff is faulty.
    pub async fn put_tariff(&self, engine: &str, work: Work, tariff: Tariff, by: &str) -> Result<(), GatewayError> {
        let registry = self.registry();
        if !does(registry.engine(engine)?.sheet(), work) {
            return Err(GatewayError::NoSuchWork { engine: engine.into(), work });
        }
        tariff.check()?;
        // Audio has no characters: nothing would be charged.
        if work == Work::Recognition && matches!(tariff.per, Measure::Character | Measure::Byte) {
            return Err(GatewayError::TextTariff(tariff.per));
        }
        let entries = tariff.changes.len()
            + tariff.tiers.len()
            + tariff.models.len()
            + tariff.classes.len()
            + tariff.regions.len();
        if entries > MOST_ENTRIES {
            return Err(GatewayError::LongTariff { given: entries, limit: MOST_ENTRIES });
        }
        let document = serde_json::to_string(&tariff).map_err(GatewayError::document("a tariff"))?;
        let new = NewVersion::by(by, VersionedKind::Tariff, &document_name(engine, work), document);
        self.inner.store.put_version(new, now_micros()).await?;
        self.load_tariffs().await
    }

    /// Retires an operator's tariff; that of the sheet applies again.
    ///
    /// # Errors
    /// Where there is none.
    pub async fn retire_tariff(&self, engine: &str, work: Work, by: &str) -> Result<(), GatewayError> {
        let name = document_name(engine, work);
        self.inner.store.retire(VersionedKind::Tariff, name, by.into(), now_micros()).await?;
        self.load_tariffs().await
    }

    /// All versions of an operator's tariff, the newest first.
    ///
    /// # Errors
    /// Where there is no such engine.
    pub async fn tariff_versions(&self, engine: &str, work: Work) -> Result<Vec<DocumentVersion>, GatewayError> {
        self.registry().engine(engine)?;
        Ok(self.inner.store.versions(VersionedKind::Tariff, document_name(engine, work)).await?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tariff_is_found_by_the_name_of_its_document() {
        for work in [Work::Synthesis, Work::Recognition] {
            assert_eq!(of_document_name(&document_name("heron", work)), Some(("heron".into(), work)));
        }
        assert_eq!(of_document_name("heron/song"), None);
        assert_eq!(of_document_name("heron"), None);
    }
}
