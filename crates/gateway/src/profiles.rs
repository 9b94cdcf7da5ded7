//! Named audio formats: those that are built in, and the operator's own.

use std::collections::BTreeMap;

use dispatcher_audio::{AudioError, Format, PROFILES, Profile};
use serde::{Deserialize, Serialize};

use crate::{Gateway, GatewayError, now_micros};

/// A profile of the operator's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnProfile {
    pub name: String,
    pub format: Format,
    /// What it is for.
    #[serde(default)]
    pub purpose: String,
}

/// Every named format in force.
#[derive(Debug, Clone, Default)]
pub struct Profiles {
    own: BTreeMap<String, OwnProfile>,
}

impl Profiles {
    /// All of them: first those that are built in, then the operator's by
    /// name. With each, whether it is built in.
    pub fn all(&self) -> Vec<(OwnProfile, bool)> {
        let built_in = PROFILES.into_iter().map(|profile| {
            let Profile { name, format, purpose } = profile;
            (OwnProfile { name: name.into(), format, purpose: purpose.into() }, true)
        });
        built_in.chain(self.own.values().map(|profile| (profile.clone(), false))).collect()
    }

    /// A format by the name of a profile, a file extension or a media type.
    ///
    /// # Errors
    /// As [`Format::named`].
    pub fn format(&self, name: &str) -> Result<Format, AudioError> {
        match self.own.get(name) {
            Some(profile) => Ok(profile.format),
            None => Format::named(name),
        }
    }
}

impl Gateway {
    /// Reads the profiles from the records.
    pub(crate) async fn load_profiles(&self) -> Result<(), GatewayError> {
        let mut own = BTreeMap::new();
        for row in self.inner.store.profiles().await? {
            let profile: OwnProfile = serde_json::from_str(&row.document)
                .map_err(|error| GatewayError::Internal(format!("profile {}: {error}", row.name)))?;
            own.insert(row.name, profile);
        }
        let mut registry = (*self.registry()).clone();
        registry.profiles = Profiles { own };
        self.replace_registry(registry);
        Ok(())
    }

    /// Keeps a profile as its next version; gives the version.
    ///
    /// # Errors
    /// When its format cannot be written, or its name already means a format.
    pub async fn put_profile(&self, profile: OwnProfile, by: &str) -> Result<i64, GatewayError> {
        profile.format.check_output().map_err(GatewayError::Format)?;
        if Format::named(&profile.name).is_ok() {
            return Err(GatewayError::NameTaken { what: "profile", name: profile.name });
        }
        let document = serde_json::to_string(&profile).map_err(|error| GatewayError::Internal(error.to_string()))?;
        let version = self.inner.store.put_profile(profile.name, document, by.into(), now_micros()).await?;
        self.load_profiles().await?;
        Ok(version)
    }

    /// Retires a profile.
    ///
    /// # Errors
    /// Where there is none of the name among the operator's.
    pub async fn retire_profile(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        self.inner.store.retire_profile(name.into(), by.into(), now_micros()).await?;
        self.load_profiles().await
    }
}
