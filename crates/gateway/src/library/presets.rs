//! Named audio formats: those that are built in, and the operator's own.

use std::collections::BTreeMap;

use dispatcher_audio::{AudioError, Format, PRESETS, Preset};
use dispatcher_store::{NewVersion, VersionedKind};
use serde::{Deserialize, Serialize};

use crate::{Gateway, GatewayError, now_micros};

/// A preset of the operator's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnPreset {
    pub name: String,
    pub format: Format,
    /// What it is for.
    #[serde(default)]
    pub purpose: String,
}

/// Every named format in force.
#[derive(Debug, Clone, Default)]
pub struct Presets {
    own: BTreeMap<String, OwnPreset>,
}

impl Presets {
    /// All of them: first those that are built in, then the operator's by
    /// name. With each, whether it is built in.
    pub fn all(&self) -> Vec<(OwnPreset, bool)> {
        let built_in = PRESETS.into_iter().map(|preset| {
            let Preset { name, format, purpose } = preset;
            (OwnPreset { name: name.into(), format, purpose: purpose.into() }, true)
        });
        built_in.chain(self.own.values().map(|preset| (preset.clone(), false))).collect()
    }

    /// A format by the name of a preset, a file extension or a media type.
    ///
    /// # Errors
    /// As [`Format::named`].
    pub fn format(&self, name: &str) -> Result<Format, AudioError> {
        match self.own.get(name) {
            Some(preset) => Ok(preset.format),
            None => Format::named(name),
        }
    }
}

impl Gateway {
    /// Reads the presets from the records.
    pub(crate) async fn load_presets(&self) -> Result<(), GatewayError> {
        let mut own = BTreeMap::new();
        for row in self.inner.store.in_force(VersionedKind::Preset).await? {
            let preset: OwnPreset = serde_json::from_str(&row.document)
                .map_err(GatewayError::document(format!("the preset {}", row.name)))?;
            own.insert(row.name, preset);
        }
        let mut registry = (*self.registry()).clone();
        registry.presets = Presets { own };
        self.replace_registry(registry);
        Ok(())
    }

    /// Keeps a preset as its next version; gives the version.
    ///
    /// # Errors
    /// When its format cannot be written, or its name already means a format.
    pub async fn put_preset(&self, preset: OwnPreset, by: &str) -> Result<i64, GatewayError> {
        preset.format.check_output().map_err(GatewayError::Format)?;
        if Format::named(&preset.name).is_ok() {
            return Err(GatewayError::NameTaken { what: "preset", name: preset.name });
        }
        let document = serde_json::to_string(&preset).map_err(GatewayError::document("a preset"))?;
        let new = NewVersion::by(by, VersionedKind::Preset, &preset.name, document);
        let version = self.inner.store.put_version(new, now_micros()).await?;
        self.load_presets().await?;
        Ok(version)
    }

    /// Retires a preset.
    ///
    /// # Errors
    /// Where there is none of the name among the operator's.
    pub async fn retire_preset(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        self.inner.store.retire(VersionedKind::Preset, name.into(), by.into(), now_micros()).await?;
        self.load_presets().await
    }
}
