//! The stand-ins that the demo starts, and what they are shown.

use std::collections::BTreeMap;

use dispatcher_server::EngineOverride;
use dispatcher_standins::{StandIn, start_bittern, start_godwit, start_heron, start_phalarope, start_turnstone};
use dispatcher_vault::{Parts, random_token};
use secrecy::SecretString;

/// The shore that bittern's user belongs to.
const SHORE: &str = "north";

/// What each stand-in is to be shown; made anew for each run.
pub(super) struct StandInSecrets {
    heron: String,
    turnstone: String,
    bittern: String,
    godwit: String,
    phalarope: String,
}

/// The stand-ins, running.
pub(super) struct StandIns {
    pub(super) heron: StandIn,
    turnstone: StandIn,
    bittern: StandIn,
    godwit: StandIn,
    phalarope: StandIn,
}

fn parts(parts: &[(&str, &str)]) -> Parts {
    parts.iter().map(|(name, value)| ((*name).to_owned(), SecretString::from((*value).to_owned()))).collect()
}

impl StandInSecrets {
    pub(super) fn new() -> Self {
        let token = || random_token(&mut rand::rng());
        StandInSecrets { heron: token(), turnstone: token(), bittern: token(), godwit: token(), phalarope: token() }
    }

    /// As credentials, by engine.
    pub(super) fn credentials(&self) -> Vec<(&'static str, Parts)> {
        vec![
            ("heron", parts(&[("token", &self.heron)])),
            ("turnstone", parts(&[("token", &self.turnstone)])),
            ("bittern", parts(&[("user", "saltmarsh"), ("password", &self.bittern), ("shore", SHORE)])),
            ("phalarope", parts(&[("key", &self.phalarope)])),
            ("godwit", parts(&[("client_id", "saltmarsh"), ("client_secret", &self.godwit)])),
        ]
    }
}

impl StandIns {
    pub(super) async fn start(secrets: &StandInSecrets) -> std::io::Result<StandIns> {
        Ok(StandIns {
            heron: start_heron(0, &secrets.heron).await?,
            turnstone: start_turnstone(0, &secrets.turnstone).await?,
            bittern: start_bittern(0, "saltmarsh", &secrets.bittern, SHORE).await?,
            godwit: start_godwit(0, "saltmarsh", &secrets.godwit).await?,
            phalarope: start_phalarope(0, &secrets.phalarope).await?,
        })
    }

    fn all(&self) -> [(&'static str, &StandIn); 5] {
        [
            ("bittern", &self.bittern),
            ("godwit", &self.godwit),
            ("heron", &self.heron),
            ("phalarope", &self.phalarope),
            ("turnstone", &self.turnstone),
        ]
    }

    /// Where each is, in place of what its sheet says.
    pub(super) fn endpoints(&self) -> BTreeMap<String, EngineOverride> {
        let all = self.all().into_iter();
        all.map(|(name, it)| (name.to_owned(), EngineOverride { endpoint: Some(it.url()) })).collect()
    }

    /// Each with the address of its weather, for people.
    pub(super) fn weathers(&self) -> String {
        let lines = self.all().map(|(name, it)| format!("{name:<9} {}/weather", it.url()));
        lines.join("\n          ")
    }
}
