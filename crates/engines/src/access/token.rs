//! Tokens that are asked for, kept, and asked for again before they end.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use dispatcher_core::{Cause, ClientShown, SheetError, TokenSpec};
use dispatcher_vault::{Parts, Redactor};
use minijinja::value::Value;
use percent_encoding::utf8_percent_encode;
use reqwest::header::{CONTENT_TYPE, HeaderMap};
use secrecy::{ExposeSecret as _, SecretString};
use serde_json_path::JsonPath;
use tokio::sync::Mutex;

use super::{Reach, basic, useless};
use crate::EngineError;
use crate::request::{Named, SheetSource, compile_named, connection_error, read_start, render};
use crate::template::UNRESERVED;

/// A token is not used in its last tenth, nor in its last five seconds.
const MARGIN: Duration = Duration::from_secs(5);
/// Maximum number of known credentials; beyond it the oldest token is dropped.
const MOST_KEPT: usize = 64;
/// What an assertion is exchanged for is asked with this grant (RFC 7523,
/// section 2.1).
const ASSERTION_GRANT: &str = "urn:ietf:params:oauth:grant-type:jwt-bearer";

struct CachedToken {
    token: SecretString,
    until: Instant,
}

/// A token endpoint (RFC 6749, section 4.4; RFC 7523), and its tokens.
pub(super) struct Tokens {
    target: String,
    client: ClientShown,
    scope: Option<String>,
    form: Named,
    token: JsonPath,
    lifetime: JsonPath,
    seconds: u64,
    /// By the credential's secret parts. Held while one is asked for, so that
    /// there is one request at a time and the others wait for its token.
    kept: Mutex<HashMap<String, CachedToken>>,
}

/// What makes a token of one credential another's stranger.
pub(crate) fn mark(credential: &Parts) -> String {
    let mut mark = String::new();
    for (name, part) in credential {
        mark.push_str(&format!("{}:{name}={}:", name.len(), part.expose_secret().len()));
        mark.push_str(part.expose_secret());
    }
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, mark.as_bytes());
    digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Form encoding (RFC 6749, appendix B).
fn encoded(text: &str) -> String {
    utf8_percent_encode(text, UNRESERVED).to_string().replace("%20", "+")
}

impl Tokens {
    pub(super) fn compile(spec: &TokenSpec, probe: &Value, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let path = |key: &str, text: &str| {
            JsonPath::parse(text)
                .map_err(|error| SheetError::at_key(sheet.0, sheet.1, &["access", "token", key], error.to_string()))
        };
        Ok(Tokens {
            target: spec.call.split_once(' ').map_or(spec.call.as_str(), |(_, target)| target).trim().to_owned(),
            client: spec.client,
            scope: spec.scope.clone(),
            form: compile_named(&spec.form, probe, sheet, &["access", "token", "form"])?,
            token: path("token", &spec.token)?,
            lifetime: path("lifetime", &spec.lifetime)?,
            seconds: spec.seconds,
            kept: Mutex::default(),
        })
    }

    pub(super) async fn forget(&self, credential: &Parts) -> bool {
        self.kept.lock().await.remove(&mark(credential)).is_some()
    }

    pub(super) async fn get(
        &self,
        credential: &Parts,
        context: &Value,
        client: Option<(&str, &str)>,
        assertion: Option<&(dyn Fn() -> Result<SecretString, EngineError> + Sync)>,
        reach: &Reach<'_>,
    ) -> Result<SecretString, EngineError> {
        let mark = mark(credential);
        let mut kept = self.kept.lock().await;
        if let Some(known) = kept.get(&mark).filter(|known| known.until > Instant::now()) {
            return Ok(known.token.clone());
        }
        let assertion = assertion.map(|sign| sign()).transpose()?;
        let fresh = self.ask(credential, context, client, assertion.as_ref(), reach).await?;
        let token = fresh.token.clone();
        if kept.len() >= MOST_KEPT
            && let Some(oldest) = kept.iter().min_by_key(|(_, kept)| kept.until).map(|(mark, _)| mark.clone())
        {
            kept.remove(&oldest);
        }
        kept.insert(mark, fresh);
        Ok(token)
    }

    async fn ask(
        &self,
        credential: &Parts,
        context: &Value,
        client: Option<(&str, &str)>,
        assertion: Option<&SecretString>,
        reach: &Reach<'_>,
    ) -> Result<CachedToken, EngineError> {
        let secrets = credential.values().map(|part| part.expose_secret());
        let redactor = Redactor::new(secrets.chain(assertion.map(|assertion| assertion.expose_secret())));
        let mut headers = HeaderMap::new();
        let mut fields: Vec<(String, String)> = Vec::new();
        match (client, assertion) {
            (_, Some(assertion)) => {
                fields.push(("grant_type".into(), ASSERTION_GRANT.into()));
                fields.push(("assertion".into(), assertion.expose_secret().to_owned()));
            }
            (Some((id, secret)), None) => {
                fields.push(("grant_type".into(), "client_credentials".into()));
                match self.client {
                    ClientShown::Basic => basic(&encoded(id), &encoded(secret), &mut headers)?,
                    ClientShown::Form => {
                        fields.push(("client_id".into(), id.to_owned()));
                        fields.push(("client_secret".into(), secret.to_owned()));
                    }
                }
            }
            (None, None) => {}
        }
        fields.extend(self.scope.iter().map(|scope| ("scope".to_owned(), scope.clone())));
        for (name, template) in &self.form {
            fields.push((name.clone(), render(template, context)?));
        }
        let body: Vec<String> =
            fields.iter().map(|(name, value)| format!("{}={}", encoded(name), encoded(value))).collect();
        let address = if self.target.starts_with('/') {
            format!("{}{}", reach.endpoint, self.target)
        } else {
            self.target.clone()
        };
        let url = reqwest::Url::parse(&address)
            .map_err(|_| EngineError::new(Cause::Malformed, "the token endpoint is not a URL"))?;
        let request = reach
            .fetcher
            .client(reach.network, &url, reach.identity)?
            .post(url)
            .headers(headers)
            .header(CONTENT_TYPE, "application/x-www-form-urlencoded")
            .body(body.join("&"));
        let response = request.send().await.map_err(|error| connection_error(&error, &redactor))?;
        let status = response.status().as_u16();
        let answer = read_start(response).await;
        let told = |cause, what: &str| {
            let text = String::from_utf8_lossy(&answer);
            EngineError::new(cause, redactor.redact(&format!("{what}: status {status}: {text}")))
        };
        if !(200..300).contains(&status) {
            // A client is refused with 400 or 401 (RFC 6749, section 5.2).
            let cause = reach.errors.cause_of(status, &String::from_utf8_lossy(&answer)).unwrap_or(match status {
                400 | 401 => Cause::Unauthorized,
                other => Cause::of_status(other),
            });
            return Err(told(cause, "no token"));
        }
        let parsed: serde_json::Value = serde_json::from_slice(&answer)
            .map_err(|_| told(Cause::Broken, "the answer of the token endpoint is not JSON"))?;
        self.read(&parsed).ok_or_else(|| useless("the answer of the token endpoint has no token at the sheet's path"))
    }

    fn read(&self, answer: &serde_json::Value) -> Option<CachedToken> {
        let token = self.token.query(answer).first()?.as_str()?.to_owned();
        let told = self.lifetime.query(answer).first().and_then(|value| match value {
            serde_json::Value::String(text) => text.parse().ok(),
            other => other.as_f64().map(|seconds| seconds.max(0.0) as u64),
        });
        let lifetime = Duration::from_secs(told.unwrap_or(self.seconds).min(86_400));
        let margin = MARGIN.max(lifetime / 10).min(lifetime / 2);
        Some(CachedToken { token: token.into(), until: Instant::now() + lifetime - margin })
    }
}
