//! One call on the wire: sent with its access, its failure turned into a cause.

use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{Cause, Network, Sheet, SheetError};
use dispatcher_vault::{Parts, Redactor};
use minijinja::context;
use minijinja::value::Value;
use reqwest::header::{HeaderValue, RETRY_AFTER};
use reqwest::{Method, Response, StatusCode, Url};
use secrecy::ExposeSecret as _;

use crate::access::{CompiledAccess, Outgoing, Reach};
use crate::errors::Errors;
use crate::fetch::Identity;
use crate::request::{Call, Named, Payload, SheetSource, compile_named, connection_error, header_name, read_start};
use crate::sound::RequestAudio;
use crate::template::{OutputPlace, Template};
use crate::{EngineError, Fetcher};

/// Maximum number of redirects.
const MOST_REDIRECTS: usize = 3;

/// How the calls of one engine are sent.
pub(crate) struct Wire {
    endpoint: Endpoint,
    network: Network,
    hosts: Vec<String>,
    pub(crate) access: CompiledAccess,
    pub(crate) errors: Errors,
    pub(crate) fetcher: Fetcher,
    /// Fields of every call.
    headers: Named,
}

/// Where calls go, as text and taken apart.
struct BaseUrl {
    text: String,
    /// `None` if the text is no URL, which calls then say.
    url: Option<Url>,
}

impl BaseUrl {
    fn new(text: String) -> Arc<BaseUrl> {
        let url = Url::parse(&text).ok();
        Arc::new(BaseUrl { text, url })
    }

    /// Whether an address is of the engine itself.
    fn is_origin_of(&self, url: &Url) -> bool {
        let same = |own: &Url| own.scheme() == url.scheme() && own.host() == url.host();
        self.url.as_ref().is_some_and(|own| same(own) && own.port_or_known_default() == url.port_or_known_default())
    }
}

enum Endpoint {
    Fixed(Arc<BaseUrl>),
    /// With public parts of the credential in it.
    Made(Box<Template>),
}

/// What a request is sent with.
pub(crate) struct Shown {
    pub(crate) outgoing: Outgoing,
    pub(crate) payload: Payload,
    pub(crate) redactor: Redactor,
    pub(crate) identity: Option<Identity>,
}

/// Whether the host of a link is shown the credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LinkCredential {
    Never,
    /// At the origin of the endpoint, and nowhere else.
    AtEndpoint,
}

impl Wire {
    pub(crate) fn compile(sheet: &Sheet, source: SheetSource<'_>, fetcher: Fetcher) -> Result<Self, SheetError> {
        let endpoint = sheet.endpoint.clone().unwrap_or_default().trim_end_matches('/').to_owned();
        let endpoint = match endpoint.contains("{{") {
            false => Endpoint::Fixed(BaseUrl::new(endpoint)),
            true => {
                let probe = context! { access => CompiledAccess::probe(&sheet.access) };
                Endpoint::Made(Box::new(Template::checked(
                    &endpoint,
                    OutputPlace::Plain,
                    &probe,
                    source,
                    &["endpoint"],
                )?))
            }
        };
        let open = context! {
            access => CompiledAccess::probe(&sheet.access),
            credential => CompiledAccess::probe_named(&sheet.access),
        };
        Ok(Wire {
            headers: compile_named(&sheet.headers, &open, source, &["headers"])?,
            endpoint,
            network: sheet.network,
            hosts: sheet.hosts.clone(),
            access: CompiledAccess::compile(&sheet.access, source)?,
            errors: Errors::compile(&sheet.errors, source)?,
            fetcher,
        })
    }

    /// Where this credential's calls go.
    fn endpoint(&self, access: &Value) -> Result<Arc<BaseUrl>, EngineError> {
        match &self.endpoint {
            Endpoint::Fixed(base) => Ok(base.clone()),
            Endpoint::Made(template) => {
                let made = crate::request::render(template, &context! { access => access })?;
                let made = made.trim().trim_end_matches('/').to_owned();
                match Url::parse(&made).ok().filter(|url| matches!(url.scheme(), "http" | "https")) {
                    Some(url) if url.username().is_empty() && url.password().is_none() => Ok(BaseUrl::new(made)),
                    _ => Err(EngineError::new(Cause::Malformed, format!("the endpoint '{made}' is not a URL"))),
                }
            }
        }
    }

    fn reach<'a>(&'a self, base: &'a BaseUrl, identity: Option<&'a Identity>) -> Reach<'a> {
        Reach { fetcher: &self.fetcher, network: self.network, endpoint: &base.text, identity, errors: &self.errors }
    }

    /// Whether an address that an engine gave may be called.
    fn allows(&self, base: &BaseUrl, url: &Url) -> Result<(), EngineError> {
        let own = base.url.as_ref();
        let host = url.host_str().unwrap_or_default();
        let web = matches!(url.scheme(), "http" | "https");
        let secure = url.scheme() == "https" || own.is_some_and(|own| own.scheme() == "http");
        let known = base.is_origin_of(url) || self.hosts.iter().any(|h| h == host);
        let clean = url.username().is_empty() && url.password().is_none();
        if web && secure && known && clean {
            return Ok(());
        }
        let detail = format!("the engine's answer links to {host}, which is not in the sheet's hosts");
        Err(EngineError::new(Cause::Refused, detail))
    }

    /// A call with all that it is sent with.
    pub(crate) async fn show(
        &self,
        call: &Call,
        job: &Value,
        sound: Option<&RequestAudio>,
        credential: &Parts,
    ) -> Result<Shown, EngineError> {
        let open = self.access.context(credential);
        let endpoint = self.endpoint(&open)?;
        let identity = self.access.identity(credential)?;
        let reach = self.reach(&endpoint, identity.as_ref());
        let token = self.access.token(credential, &reach).await?;
        let secrets = self.access.secrets(credential).chain(token.iter().map(|token| token.expose_secret()));
        let redactor = Redactor::new(secrets);
        let named = self.access.named(credential);
        let context = context! { access => open, credential => named, ..job.clone() };
        let (mut outgoing, payload) = call.request(&endpoint.text, &context, sound).await?;
        self.allows(&endpoint, &outgoing.url)?;
        self.add_headers(&mut outgoing, &context)?;
        if endpoint.is_origin_of(&outgoing.url) {
            self.access.apply(credential, token.as_ref(), &mut outgoing)?;
        }
        Ok(Shown { outgoing, payload, redactor, identity })
    }

    /// Adds the fields of every call, where the call has none of the name.
    fn add_headers(&self, outgoing: &mut Outgoing, context: &Value) -> Result<(), EngineError> {
        for (name, template) in &self.headers {
            let (field, value) = (header_name(name)?, crate::request::render(template, context)?);
            if value.is_empty() || outgoing.headers.contains_key(&field) {
                continue;
            }
            let value = HeaderValue::from_str(&value).map_err(|_| {
                EngineError::new(Cause::Malformed, format!("the value of the header {name} is not ASCII"))
            })?;
            outgoing.headers.append(field, value);
        }
        Ok(())
    }

    /// Sends a call. A token that the engine no longer takes is forgotten,
    /// and the call made once more with a fresh one.
    pub(crate) async fn send(
        &self,
        call: &Call,
        job: &Value,
        sound: Option<&RequestAudio>,
        credential: &Parts,
    ) -> Result<(Response, Redactor), EngineError> {
        let mut again = true;
        loop {
            let Shown { outgoing, payload, redactor, identity } = self.show(call, job, sound, credential).await?;
            let response = self.dispatch(outgoing, payload, identity.as_ref(), &redactor).await?;
            if response.status().is_success() {
                return Ok((response, redactor));
            }
            let refused = response.status() == StatusCode::UNAUTHORIZED;
            if refused && std::mem::take(&mut again) && self.access.forget(credential).await {
                continue;
            }
            return Err(self.failure(response, &redactor).await);
        }
    }

    /// Has a new token, so that the credential is seen to be good.
    pub(crate) async fn fresh_token(&self, credential: &Parts) -> Result<(), EngineError> {
        let endpoint = self.endpoint(&self.access.context(credential))?;
        let identity = self.access.identity(credential)?;
        let reach = self.reach(&endpoint, identity.as_ref());
        self.access.forget(credential).await;
        self.access.token(credential, &reach).await.map(drop)
    }

    /// Sends a request that has its access.
    pub(crate) async fn dispatch(
        &self,
        outgoing: Outgoing,
        payload: Payload,
        identity: Option<&Identity>,
        redactor: &Redactor,
    ) -> Result<Response, EngineError> {
        let Outgoing { method, url, headers, .. } = outgoing;
        let request = self.fetcher.client(self.network, &url, identity)?.request(method, url).headers(headers);
        payload.put(request).send().await.map_err(|error| connection_error(&error, redactor))
    }

    /// Downloads what a link leads to.
    pub(crate) async fn download(
        &self,
        link: &str,
        shown: LinkCredential,
        credential: &Parts,
        redactor: &Redactor,
    ) -> Result<Response, EngineError> {
        let open = self.access.context(credential);
        let endpoint = self.endpoint(&open)?;
        let base = endpoint.url.as_ref();
        let base = base.ok_or_else(|| EngineError::new(Cause::Malformed, "the endpoint is not a URL"))?;
        let mut url = base
            .join(link)
            .map_err(|_| EngineError::new(Cause::Broken, redactor.redact(&format!("not a URL: {link}"))))?;
        let identity = self.access.identity(credential)?;
        for _ in 0..=MOST_REDIRECTS {
            self.allows(&endpoint, &url)?;
            let mut outgoing = Outgoing::bare(Method::GET, url.clone());
            let own = endpoint.is_origin_of(&url);
            if shown == LinkCredential::AtEndpoint && own {
                let reach = self.reach(&endpoint, identity.as_ref());
                let token = self.access.token(credential, &reach).await?;
                self.access.apply(credential, token.as_ref(), &mut outgoing)?;
            }
            // Only the engine itself is shown the certificate.
            let shown = identity.as_ref().filter(|_| own);
            let response = self.dispatch(outgoing, Payload::Empty, shown, redactor).await?;
            if response.status().is_success() {
                return Ok(response);
            }
            let next = response.headers().get(reqwest::header::LOCATION).and_then(|value| value.to_str().ok());
            match next.filter(|_| response.status().is_redirection()).and_then(|next| url.join(next).ok()) {
                Some(next) => url = next,
                None => return Err(self.failure(response, redactor).await),
            }
        }
        Err(EngineError::new(Cause::Broken, "too many redirects behind the link"))
    }

    /// Turns an answer that is no success into a cause.
    pub(crate) async fn failure(&self, response: Response, redactor: &Redactor) -> EngineError {
        let (status, headers) = (response.status().as_u16(), response.headers().clone());
        let asked = retry_after(&response);
        let body = read_start(response).await;
        let text = String::from_utf8_lossy(&body);
        let retry_after = self.errors.retry_of(status, &text, &headers).or(asked);
        EngineError { retry_after, ..self.told(status, &text, redactor) }
    }

    /// The failure of a status and a text.
    pub(crate) fn told(&self, status: u16, text: &str, redactor: &Redactor) -> EngineError {
        let cause = self.errors.cause_of(status, text).unwrap_or_else(|| Cause::of_status(status));
        EngineError::new(cause, redactor.redact(&format!("status {status}: {text}")))
    }
}

/// When an engine asks to be left alone until, at most an hour.
pub(crate) fn retry_after(response: &Response) -> Option<Duration> {
    let value = response.headers().get(RETRY_AFTER)?.to_str().ok()?.trim().parse::<u64>().ok()?;
    Some(Duration::from_secs(value.min(3_600)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wire(endpoint: &str) -> Wire {
        let sheet = format!(
            "sheet = 1\nname = \"probe\"\nsite = \"cloud\"\nendpoint = \"{endpoint}\"\nhosts = [\"files.example\"]\n\
             [synthesis]\ncall = \"POST /say\"\ntext = \"{{{{ text }}}}\"\nanswer = {{ link = \"$.link\" }}\n\
             [synthesis.formats]\npcm = {{ type = \"audio/pcm\", sample_rates = [16000] }}\n\
             [[synthesis.voices]]\nid = \"ada\"\nname = \"Ada\"\nlanguages = [\"en\"]\n"
        );
        let parsed = Sheet::parse(&sheet, "probe.toml").expect("a sheet");
        Wire::compile(&parsed, (&sheet, "probe.toml"), Fetcher::new().expect("a fetcher")).expect("a wire")
    }

    #[test]
    fn links_keep_to_named_hosts_and_never_lead_from_https_down_to_http() {
        for (endpoint, link, allowed) in [
            ("https://engine.example", "https://engine.example/a", true),
            ("https://engine.example", "https://files.example/a", true),
            ("https://engine.example", "http://engine.example/a", false),
            ("https://engine.example", "http://files.example/a", false),
            ("http://engine.example", "http://files.example/a", true),
            ("http://engine.example", "https://files.example/a", true),
            ("https://engine.example", "https://evil-files.example/a", false),
            ("https://engine.example", "https://x.files.example/a", false),
            ("https://engine.example", "https://files.example.evil.example/a", false),
            ("https://engine.example", "https://engine.example:8443/a", false),
            ("https://engine.example", "https://name@files.example/a", false),
            ("https://engine.example", "ftp://files.example/a", false),
        ] {
            let url = Url::parse(link).expect("an address");
            assert_eq!(
                wire(endpoint).allows(&BaseUrl::new(endpoint.to_owned()), &url).is_ok(),
                allowed,
                "{endpoint} -> {link}"
            );
        }
    }
}
