//! Telling others what has happened: a POST of JSON, signed with a key of the
//! gateway's own (Ed25519; HTTP message signatures, RFC 9421, with
//! `Content-Digest`, RFC 9530), so that the receiver can detect a forgery.

use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Cause, Network, SignatureAlgorithm, SignatureSpec};
use dispatcher_vault::{Parts, SigningKey};
use reqwest::header::{ACCEPT, CONTENT_TYPE, HeaderValue};
use reqwest::{Method, RequestBuilder, Response, Url};
use secrecy::SecretString;

use super::signature::Signature;
use super::{Outgoing, useless};
use crate::{EngineError, Fetcher};

/// Time within which a receiver must answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// Tells others, over the one fetching module.
pub struct WebhookClient {
    key: Parts,
    /// The public key, and the name it is known by.
    public: String,
    name: String,
    signature: Signature,
}

impl WebhookClient {
    /// A client with a key in PEM.
    ///
    /// # Errors
    /// When it is no key of Ed25519.
    pub fn new(key: SecretString) -> Result<WebhookClient, EngineError> {
        let signing = SigningKey::from_pem(&key).map_err(|error| useless(format!("the webhook key: {error}")))?;
        let (public, name) = (signing.public().to_owned(), signing.id().to_owned());
        let spec = SignatureSpec {
            algorithm: SignatureAlgorithm::Ed25519,
            key: "key".into(),
            key_id: "name".into(),
            covers: ["@method", "@target-uri", "content-type", "content-digest"].map(str::to_owned).to_vec(),
            label: "dispatcher".into(),
            name_algorithm: true,
        };
        let parts = Parts::from([("key".to_owned(), key), ("name".to_owned(), name.clone().into())]);
        Ok(WebhookClient { key: parts, public, name, signature: Signature::new(&spec) })
    }

    /// The public key: `x` of a JSON Web Key (RFC 8037), and its `kid`.
    pub fn public_key(&self) -> (&str, &str) {
        (&self.public, &self.name)
    }

    /// Tells an address. The host was allowed by the operator, wherever it is.
    ///
    /// # Errors
    /// When it cannot be reached, or does not answer with success.
    pub async fn tell(&self, fetcher: &Fetcher, address: &str, body: Bytes) -> Result<(), EngineError> {
        let request = self.signed(fetcher, address, body)?.timeout(PATIENCE);
        answered(request).await.map(drop)
    }

    /// Asks an address for an answer of one of the types in `accept`, which is
    /// read as it comes in. Whoever calls decides how long to wait for it.
    ///
    /// # Errors
    /// When it cannot be reached, or does not answer with success.
    pub async fn ask(
        &self,
        fetcher: &Fetcher,
        address: &str,
        body: Bytes,
        accept: &'static str,
    ) -> Result<WebhookAnswer, EngineError> {
        let request = self.signed(fetcher, address, body)?.header(ACCEPT, HeaderValue::from_static(accept));
        Ok(WebhookAnswer { response: answered(request).await? })
    }

    fn signed(&self, fetcher: &Fetcher, address: &str, body: Bytes) -> Result<RequestBuilder, EngineError> {
        let url: Url = address.parse().map_err(|_| useless("the webhook is not a URL"))?;
        let client = fetcher.client(Network::Private, &url, None)?;
        let mut outgoing = Outgoing::bare(Method::POST, url);
        outgoing.headers.insert(CONTENT_TYPE, HeaderValue::from_static("application/json"));
        outgoing.body = Some(body.clone());
        self.signature.apply(&self.key, &mut outgoing)?;
        Ok(client.post(outgoing.url).headers(outgoing.headers).body(body))
    }
}

async fn answered(request: RequestBuilder) -> Result<Response, EngineError> {
    let response = request.send().await.map_err(failed)?;
    match response.status() {
        status if status.is_success() => Ok(response),
        status => Err(EngineError::new(Cause::Refused, format!("it answered {status}"))),
    }
}

fn failed(error: reqwest::Error) -> EngineError {
    EngineError::new(Cause::Unavailable, error.without_url().to_string())
}

/// What an address answers, as it comes in.
pub struct WebhookAnswer {
    response: Response,
}

impl WebhookAnswer {
    /// What it says it is.
    pub fn media_type(&self) -> &str {
        let field = self.response.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok());
        field.unwrap_or_default()
    }

    /// The next piece; nothing at its end.
    ///
    /// # Errors
    /// When it breaks off.
    pub async fn next(&mut self) -> Result<Option<Bytes>, EngineError> {
        self.response.chunk().await.map_err(failed)
    }
}
