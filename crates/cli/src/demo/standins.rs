//! The stand-ins that the demo starts, and what they are shown.

use std::collections::BTreeMap;

use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use base64::Engine as _;
use dispatcher_server::EngineOverride;
use dispatcher_standins::{
    StandIn, start_avocet, start_bittern, start_curlew, start_dotterel, start_godwit, start_heron, start_phalarope,
    start_redshank, start_sanderling, start_timetable, start_turnstone, start_whimbrel,
};
use dispatcher_vault::{Parts, random_token};
use secrecy::SecretString;

use crate::error::CliError;

/// The shore that bittern's user belongs to.
const SHORE: &str = "north";
/// What the ferry line is called where a name is asked for.
const NAME: &str = "saltmarsh";

/// What each stand-in is to be shown; made anew for each run.
pub(super) struct StandInSecrets {
    avocet: Key,
    bittern: String,
    curlew: String,
    dotterel: Vec<u8>,
    godwit: String,
    heron: String,
    phalarope: String,
    redshank: String,
    sanderling: String,
    turnstone: String,
    whimbrel: String,
}

/// A private key in PEM, and its public half.
struct Key {
    pem: String,
    public: Vec<u8>,
}

impl Key {
    fn new() -> Result<Self, CliError> {
        let failed = |_| CliError::Failed("the key cannot be generated for avocet".into());
        let pair = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).map_err(failed)?;
        let document = pair.to_pkcs8v1().map_err(failed)?;
        let pem = pem::encode(&pem::Pem::new("PRIVATE KEY", document.as_ref()));
        Ok(Key { pem, public: pair.public_key().as_ref().to_vec() })
    }
}

/// The stand-ins, running, and the desk that answers in exchanges.
pub(super) struct StandIns {
    engines: Vec<(&'static str, StandIn)>,
    timetable: StandIn,
}

fn parts(parts: &[(&str, &str)]) -> Parts {
    parts.iter().map(|(name, value)| ((*name).to_owned(), SecretString::from((*value).to_owned()))).collect()
}

impl StandInSecrets {
    pub(super) fn new() -> Result<Self, CliError> {
        let token = || random_token(&mut rand::rng());
        Ok(StandInSecrets {
            avocet: Key::new()?,
            bittern: token(),
            curlew: token(),
            dotterel: token().into_bytes(),
            godwit: token(),
            heron: token(),
            phalarope: token(),
            redshank: token(),
            sanderling: token(),
            turnstone: token(),
            whimbrel: token(),
        })
    }

    /// As credentials, by engine.
    pub(super) fn credentials(&self) -> Vec<(&'static str, Parts)> {
        let seal = base64::engine::general_purpose::STANDARD.encode(&self.dotterel);
        vec![
            ("avocet", parts(&[("account", NAME), ("key", &self.avocet.pem)])),
            ("bittern", parts(&[("user", NAME), ("password", &self.bittern), ("shore", SHORE)])),
            ("curlew", parts(&[("colony", NAME), ("call", &self.curlew)])),
            ("dotterel", parts(&[("name", NAME), ("key", &seal)])),
            ("godwit", parts(&[("client_id", NAME), ("client_secret", &self.godwit)])),
            ("heron", parts(&[("token", &self.heron)])),
            ("phalarope", parts(&[("key", &self.phalarope)])),
            ("redshank", parts(&[("pass", &self.redshank)])),
            ("sanderling", parts(&[("key", &self.sanderling)])),
            ("turnstone", parts(&[("token", &self.turnstone)])),
            ("whimbrel", parts(&[("token", &self.whimbrel)])),
        ]
    }
}

impl StandIns {
    pub(super) async fn start(secrets: &StandInSecrets) -> std::io::Result<StandIns> {
        let engines = vec![
            ("avocet", start_avocet(0, NAME, &secrets.avocet.public).await?),
            ("bittern", start_bittern(0, NAME, &secrets.bittern, "both").await?),
            ("curlew", start_curlew(0, NAME, &secrets.curlew).await?),
            ("dotterel", start_dotterel(0, NAME, &secrets.dotterel).await?),
            ("godwit", start_godwit(0, NAME, &secrets.godwit).await?),
            ("heron", start_heron(0, &secrets.heron).await?),
            ("phalarope", start_phalarope(0, &secrets.phalarope).await?),
            ("redshank", start_redshank(0, &secrets.redshank).await?),
            ("sanderling", start_sanderling(0, &secrets.sanderling).await?),
            ("turnstone", start_turnstone(0, &secrets.turnstone).await?),
            ("whimbrel", start_whimbrel(0, &secrets.whimbrel).await?),
        ];
        Ok(StandIns { engines, timetable: start_timetable(0).await? })
    }

    /// Where one of them is.
    pub(super) fn url(&self, name: &str) -> String {
        self.engines.iter().find(|(has, _)| *has == name).map(|(_, it)| it.url()).unwrap_or_default()
    }

    /// The reply hook of the demo's apps.
    pub(super) fn reply_hook(&self) -> String {
        format!("{}/answer", self.timetable.url())
    }

    /// Where each is, in place of what its sheet says.
    pub(super) fn endpoints(&self) -> BTreeMap<String, EngineOverride> {
        let all = self.engines.iter();
        all.map(|(name, it)| ((*name).to_owned(), EngineOverride { endpoint: Some(it.url()) })).collect()
    }

    /// Each with the address of its weather, for people.
    pub(super) fn weathers(&self) -> String {
        let all = self.engines.iter().map(|(name, it)| (*name, it)).chain([("timetable", &self.timetable)]);
        let lines: Vec<String> = all.map(|(name, it)| format!("{name:<10} {}/weather", it.url())).collect();
        lines.join("\n          ")
    }
}
