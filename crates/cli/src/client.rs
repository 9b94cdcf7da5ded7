//! The client's calls.

use std::time::Duration;

use reqwest::header::{
    ACCEPT, CONNECTION, CONTENT_TYPE, SEC_WEBSOCKET_ACCEPT, SEC_WEBSOCKET_KEY, SEC_WEBSOCKET_VERSION, UPGRADE,
};
use reqwest::{Method, RequestBuilder, Response, StatusCode, Upgraded};
use secrecy::{ExposeSecret as _, SecretString};
use serde_json::Value;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::client::generate_key;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::Role;

use crate::error::{CliError, Problem};
use crate::profile;

/// A connection over which messages go both ways.
pub(crate) type LiveSocket = WebSocketStream<Upgraded>;

/// The service closes connections that are idle for 5 s; the client goes first,
/// or a request could be sent just as its connection is closed.
const POOL_IDLE: Duration = Duration::from_secs(4);

/// A client of one service.
pub(crate) struct Client {
    http: reqwest::Client,
    url: String,
    key: Option<SecretString>,
}

impl Client {
    /// The client of a profile, or of the environment.
    pub(crate) fn new(profile: Option<&str>) -> Result<Self, CliError> {
        let access = profile::access(profile)?;
        Client::to(access.url, access.key)
    }

    /// The client of an address.
    pub(crate) fn to(url: String, key: Option<SecretString>) -> Result<Self, CliError> {
        let http = reqwest::Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none());
        let http = http.connect_timeout(Duration::from_secs(5)).pool_idle_timeout(POOL_IDLE).build();
        let http = http.map_err(|source| CliError::Unreachable { url: url.clone(), source })?;
        Ok(Client { http, url: url.trim_end_matches('/').to_owned(), key })
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.url));
        match &self.key {
            Some(key) => request.bearer_auth(key.expose_secret()),
            None => request,
        }
    }

    /// Sends; answers that are no success become errors.
    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response, CliError> {
        self.send_for(request, |status| status.is_success()).await
    }

    async fn send_for(
        &self,
        request: RequestBuilder,
        well: impl FnOnce(StatusCode) -> bool,
    ) -> Result<Response, CliError> {
        let response =
            request.send().await.map_err(|source| CliError::Unreachable { url: self.url.clone(), source })?;
        if well(response.status()) {
            return Ok(response);
        }
        let status = response.status();
        let body = response.bytes().await.unwrap_or_default();
        let mut problem: Problem = serde_json::from_slice(&body).unwrap_or_default();
        if problem.title.is_empty() {
            problem.title = status.to_string();
            problem.detail = String::from_utf8_lossy(&body).chars().take(200).collect();
        }
        if problem.status == 401 && self.key.is_none() {
            problem.help = "Set DISPATCHER_KEY to a key; `dispatcher demo` writes one to demo.env.".into();
        }
        Err(CliError::Problem(Box::new(problem)))
    }

    /// Opens a WebSocket (RFC 6455).
    pub(crate) async fn live(&self, path: &str) -> Result<LiveSocket, CliError> {
        let key = generate_key();
        let request = self.request(Method::GET, path).header(CONNECTION, "Upgrade").header(UPGRADE, "websocket");
        let request = request.header(SEC_WEBSOCKET_VERSION, "13").header(SEC_WEBSOCKET_KEY, &key);
        let response = self.send_for(request, |status| status == StatusCode::SWITCHING_PROTOCOLS).await?;
        let accepted = response
            .headers()
            .get(SEC_WEBSOCKET_ACCEPT)
            .is_some_and(|given| given == derive_accept_key(key.as_bytes()).as_str());
        if !accepted {
            return Err(CliError::Failed("the service does not answer as a WebSocket".into()));
        }
        let upgraded = response.upgrade().await.map_err(CliError::Broken)?;
        Ok(WebSocketStream::from_raw_socket(upgraded, Role::Client, None).await)
    }

    pub(crate) async fn get(&self, path: &str, query: &[(&str, Option<&str>)]) -> Result<Value, CliError> {
        let given: Vec<(&str, &str)> =
            query.iter().filter_map(|(name, value)| value.map(|value| (*name, value))).collect();
        let request = self.request(Method::GET, path).query(&given).header(ACCEPT, "application/json");
        json(self.send(request).await?).await
    }

    pub(crate) async fn post(&self, path: &str, body: &Value) -> Result<Value, CliError> {
        let request = self.request(Method::POST, path).header(ACCEPT, "application/json").json(body);
        json(self.send(request).await?).await
    }

    pub(crate) async fn put(&self, path: &str, body: &Value) -> Result<Value, CliError> {
        json(self.send(self.request(Method::PUT, path).json(body)).await?).await
    }

    /// Checks that a record exists, where it is to be replaced, or does not
    /// exist yet, where it is to be added. `what` names its kind on the command
    /// line.
    ///
    /// # Errors
    /// [`CliError::Usage`] with the command that fits; those of the request.
    pub(crate) async fn expect(&self, path: &str, what: &str, name: &str, change: Change) -> Result<(), CliError> {
        let exists = match self.send(self.request(Method::GET, path)).await {
            Ok(_) => true,
            Err(CliError::Problem(problem)) if problem.status == 404 => false,
            Err(error) => return Err(error),
        };
        change.check(exists, what, name)
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<(), CliError> {
        self.send(self.request(Method::DELETE, path)).await.map(drop)
    }

    /// Posts a file as a raw body, streamed.
    pub(crate) async fn post_file(
        &self,
        path: &str,
        query: &[(&str, Option<&str>)],
        file: &std::path::Path,
        kind: &str,
        accept: &str,
    ) -> Result<Response, CliError> {
        let given: Vec<(&str, &str)> =
            query.iter().filter_map(|(name, value)| value.map(|value| (*name, value))).collect();
        let request = self.request(Method::POST, path).query(&given).header(CONTENT_TYPE, kind).header(ACCEPT, accept);
        let failed = |source| CliError::File { path: file.into(), source };
        let body: reqwest::Body = if file.as_os_str() == "-" {
            let mut bytes = Vec::new();
            tokio::io::AsyncReadExt::read_to_end(&mut tokio::io::stdin(), &mut bytes).await.map_err(failed)?;
            bytes.into()
        } else {
            tokio::fs::File::open(file).await.map_err(failed)?.into()
        };
        self.send(request.body(body)).await
    }
}

/// Whether a record is new or takes the place of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Change {
    Add,
    Replace,
}

impl Change {
    /// # Errors
    /// [`CliError::Usage`] where a record that is to be added exists, or one
    /// that is to be replaced does not.
    pub(crate) fn check(self, exists: bool, what: &str, name: &str) -> Result<(), CliError> {
        match (self, exists) {
            (Change::Add, true) => Err(CliError::Usage(format!(
                "{what} '{name}' exists already; replace it: dispatcher {what} replace {name}"
            ))),
            (Change::Replace, false) => {
                Err(CliError::Usage(format!("{what} '{name}' does not exist; add it: dispatcher {what} add {name}")))
            }
            _ => Ok(()),
        }
    }
}

pub(crate) async fn json(response: Response) -> Result<Value, CliError> {
    response.json().await.map_err(CliError::Broken)
}

/// A name as one segment of a path.
pub(crate) fn segment(name: &str) -> String {
    name.bytes()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' | b'~' => char::from(byte).to_string(),
            _ => format!("%{byte:02X}"),
        })
        .collect()
}
