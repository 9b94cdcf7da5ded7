//! Signed assertions: JSON Web Tokens (RFC 7519) by RS256 or ES256.

use std::time::{SystemTime, UNIX_EPOCH};

use dispatcher_core::{AssertionAlgorithm, AssertionSpec, SheetError};
use dispatcher_vault::Parts;
use jsonwebtoken::{Algorithm, EncodingKey, Header};
use minijinja::value::Value;
use secrecy::{ExposeSecret as _, SecretString};
use serde_json::{Map, json};

use super::useless;
use crate::EngineError;
use crate::request::{SheetSource, render};
use crate::template::{OutputPlace, Template};

/// Clocks differ; an assertion holds from a little before now.
const SKEW: u64 = 10;

pub(super) struct Assertion {
    algorithm: AssertionAlgorithm,
    key: String,
    key_id: Option<String>,
    claims: Template,
    seconds: u64,
}

pub(super) fn unix_seconds() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
}

impl Assertion {
    pub(super) fn compile(spec: &AssertionSpec, probe: &Value, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let key = ["access", "assertion", "claims"];
        let claims = Template::checked(&spec.claims, OutputPlace::Json, probe, sheet, &key)?;
        Ok(Assertion {
            algorithm: spec.algorithm,
            key: spec.key.clone(),
            key_id: spec.key_id.clone(),
            claims,
            seconds: spec.seconds.clamp(30, 3_600),
        })
    }

    /// A fresh assertion, each with an id of its own.
    pub(super) fn sign(&self, credential: &Parts, context: &Value) -> Result<SecretString, EngineError> {
        let part = |name: &str| credential.get(name).map(|part| part.expose_secret()).unwrap_or_default();
        let pem = part(&self.key).as_bytes();
        let (algorithm, key) = match self.algorithm {
            AssertionAlgorithm::RS256 => (Algorithm::RS256, EncodingKey::from_rsa_pem(pem)),
            AssertionAlgorithm::ES256 => (Algorithm::ES256, EncodingKey::from_ec_pem(pem)),
        };
        let key =
            key.map_err(|_| useless(format!("the part '{}' is not a private key of this kind in PEM", self.key)))?;
        let mut claims: Map<String, serde_json::Value> = serde_json::from_str(&render(&self.claims, context)?)
            .map_err(|_| useless("the claims of the assertion are not a JSON object"))?;
        let now = unix_seconds();
        claims.insert("iat".into(), json!(now - SKEW));
        claims.insert("exp".into(), json!(now + self.seconds));
        claims.entry("jti").or_insert_with(|| json!(one_time()));
        let mut header = Header::new(algorithm);
        header.kid = self.key_id.as_deref().map(|name| part(name).to_owned());
        let signed = jsonwebtoken::encode(&header, &claims, &key);
        // The library's texts may hold parts of the key.
        signed.map(SecretString::from).map_err(|_| useless("the assertion could not be signed with this key"))
    }
}

/// An id that is used once.
pub(super) fn one_time() -> String {
    let mut bytes = [0; 16];
    // Without randomness the time still distinguishes them.
    if aws_lc_rs::rand::fill(&mut bytes).is_err() {
        bytes[..8].copy_from_slice(&unix_seconds().to_be_bytes());
    }
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
