//! Access: a request is shown who sends it, as the sheet says.
//!
//! What lives here: the schemes, and the tokens that some of them keep. What
//! does not: where credentials are kept, and opening connections.

mod assertion;
mod signature;
mod token;
mod webhook_client;

pub(crate) use token::mark;
pub use webhook_client::{WebhookAnswer, WebhookClient};

use bytes::Bytes;
use dispatcher_core::{Access, Cause, IdentitySpec, Network, Scheme, SheetError};
use dispatcher_vault::Parts;
use minijinja::context;
use minijinja::value::Value;
use reqwest::header::{AUTHORIZATION, HeaderMap, HeaderValue};
use reqwest::{Method, Url};
use secrecy::{ExposeSecret as _, SecretString};

use self::assertion::Assertion;
use self::signature::Signature;
use self::token::Tokens;
use crate::errors::Errors;
use crate::fetch::Identity;
use crate::request::{Named, SheetSource, compile_named, header_name, render};
use crate::{EngineError, Fetcher};

/// A request that is whole but for its access.
pub(crate) struct Outgoing {
    pub(crate) method: Method,
    pub(crate) url: Url,
    pub(crate) headers: HeaderMap,
    /// The body, where it is not streamed.
    pub(crate) body: Option<Bytes>,
}

impl Outgoing {
    /// A request without headers or body.
    pub(crate) fn bare(method: Method, url: Url) -> Self {
        Outgoing { method, url, headers: HeaderMap::new(), body: Some(Bytes::new()) }
    }
}

/// Where tokens are asked for.
pub(crate) struct Reach<'a> {
    pub(crate) fetcher: &'a Fetcher,
    pub(crate) network: Network,
    pub(crate) endpoint: &'a str,
    pub(crate) identity: Option<&'a Identity>,
    /// What the engine's errors mean.
    pub(crate) errors: &'a Errors,
}

/// The access of an engine, compiled.
pub(crate) struct CompiledAccess {
    parts: Vec<String>,
    public: Vec<String>,
    /// Parts that the scheme takes as its own, in order.
    own: Vec<String>,
    identity: Option<IdentitySpec>,
    templates: bool,
    way: AccessMethod,
}

enum AccessMethod {
    None,
    Bearer,
    Headers(Named),
    Query(Named),
    Basic,
    Tokens(Box<Tokens>),
    Assertion(Box<Assertion>, Option<Box<Tokens>>),
    Signature(Box<Signature>),
}

/// Names a part of a credential that does not do.
fn useless(what: impl std::fmt::Display) -> EngineError {
    EngineError::new(Cause::Unauthorized, what.to_string())
}

/// A secret as the value of a header, never logged.
fn secret_value(text: &str) -> Result<HeaderValue, EngineError> {
    let mut value =
        HeaderValue::from_str(text).map_err(|_| useless("a part of the credential cannot be sent in a header"))?;
    value.set_sensitive(true);
    Ok(value)
}

fn bearer(token: &SecretString, headers: &mut HeaderMap) -> Result<(), EngineError> {
    headers.insert(AUTHORIZATION, secret_value(&format!("Bearer {}", token.expose_secret()))?);
    Ok(())
}

/// `user-id ":" password` in base64 (RFC 7617, section 2).
fn basic(name: &str, password: &str, headers: &mut HeaderMap) -> Result<(), EngineError> {
    use base64::Engine as _;
    if name.contains(':') {
        return Err(useless("the name in the credential contains a colon, which basic access does not allow"));
    }
    let both = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{password}"));
    headers.insert(AUTHORIZATION, secret_value(&format!("Basic {both}"))?);
    Ok(())
}

impl CompiledAccess {
    pub(crate) fn compile(access: &Access, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let probe = Value::from_pairs(access.parts.iter().map(|part| (part.clone(), "probe")));
        let probe = context! { credential => probe.clone(), access => probe };
        let named = |templates, key| compile_named(templates, &probe, sheet, &["access", key]);
        let tokens = || match &access.token {
            Some(spec) => Tokens::compile(spec, &probe, sheet).map(Box::new).map(Some),
            None => Ok(None),
        };
        let way = match access.scheme {
            Scheme::None | Scheme::Certificate | Scheme::Templates => AccessMethod::None,
            Scheme::Bearer => AccessMethod::Bearer,
            Scheme::Basic => AccessMethod::Basic,
            Scheme::Headers => AccessMethod::Headers(named(&access.headers, "headers")?),
            Scheme::Query => AccessMethod::Query(named(&access.query, "query")?),
            Scheme::ClientCredentials => tokens()?.map_or(AccessMethod::None, AccessMethod::Tokens),
            Scheme::Assertion => match &access.assertion {
                Some(spec) => AccessMethod::Assertion(Box::new(Assertion::compile(spec, &probe, sheet)?), tokens()?),
                None => AccessMethod::None,
            },
            Scheme::Signature => access
                .signature
                .as_ref()
                .map_or(AccessMethod::None, |spec| AccessMethod::Signature(Box::new(Signature::new(spec)))),
        };
        Ok(CompiledAccess {
            parts: access.parts.clone(),
            public: access.public.clone(),
            own: access.secret_parts().cloned().collect(),
            identity: access.identity.clone(),
            templates: access.scheme == Scheme::Templates,
            way,
        })
    }

    /// The certificate to show when a connection is made.
    pub(crate) fn identity(&self, credential: &Parts) -> Result<Option<Identity>, EngineError> {
        let Some(spec) = &self.identity else { return Ok(None) };
        let part = |name: &String| {
            let part = credential.get(name).map(|part| part.expose_secret().to_owned());
            part.ok_or_else(|| useless(format!("the credential has no part '{name}'")))
        };
        let authority = spec.authority.as_ref().map(part).transpose()?;
        Ok(Some(Identity {
            mark: mark(credential),
            certificate: part(&spec.certificate)?.into(),
            key: part(&spec.key)?.into(),
            authority,
        }))
    }

    /// The public parts, for every template of the sheet.
    pub(crate) fn context(&self, credential: &Parts) -> Value {
        let shown = |name: &String| Some((name.clone(), credential.get(name)?.expose_secret().to_owned()));
        Value::from_pairs(self.public.iter().filter_map(shown))
    }

    /// All parts, for the templates of requests, where the scheme is that
    /// they stand there.
    pub(crate) fn named(&self, credential: &Parts) -> Value {
        match self.templates {
            true => self.all(credential).get_attr("credential").unwrap_or_default(),
            false => Value::UNDEFINED,
        }
    }

    /// What [`CompiledAccess::named`] gives, for templates that are tried.
    pub(crate) fn probe_named(access: &Access) -> Value {
        match access.scheme {
            Scheme::Templates => Value::from_pairs(access.parts.iter().map(|name| (name.clone(), "probe"))),
            _ => Value::UNDEFINED,
        }
    }

    /// Public parts for a template that is tried when a sheet is loaded.
    pub(crate) fn probe(access: &Access) -> Value {
        Value::from_pairs(access.public.iter().map(|name| (name.clone(), "probe")))
    }

    /// What must never be seen of a credential.
    pub(crate) fn secrets<'a>(&'a self, credential: &'a Parts) -> impl Iterator<Item = &'a str> {
        credential.iter().filter(|(name, _)| !self.public.contains(name)).map(|(_, part)| part.expose_secret())
    }

    /// The secret parts in the order of the sheet.
    fn secret<'a>(&self, credential: &'a Parts, index: usize) -> &'a str {
        let part = self.own.get(index).and_then(|name| credential.get(name));
        part.map(|part| part.expose_secret()).unwrap_or_default()
    }

    /// A token that the calls are made with, where the scheme has one: from
    /// before, or fresh. It is a secret too.
    pub(crate) async fn token(
        &self,
        credential: &Parts,
        reach: &Reach<'_>,
    ) -> Result<Option<SecretString>, EngineError> {
        if let Some(missing) = self.parts.iter().find(|part| !credential.contains_key(*part)) {
            return Err(useless(format!("the credential has no part '{missing}'")));
        }
        let context = self.all(credential);
        match &self.way {
            AccessMethod::Tokens(tokens) => {
                let client = (self.secret(credential, 0), self.secret(credential, 1));
                tokens.get(credential, &context, Some(client), None, reach).await.map(Some)
            }
            AccessMethod::Assertion(assertion, None) => assertion.sign(credential, &context).map(Some),
            AccessMethod::Assertion(assertion, Some(tokens)) => {
                let sign = || assertion.sign(credential, &context);
                tokens.get(credential, &context, None, Some(&sign), reach).await.map(Some)
            }
            _ => Ok(None),
        }
    }

    /// Whether the scheme asks for tokens.
    pub(crate) fn has_tokens(&self) -> bool {
        matches!(self.way, AccessMethod::Tokens(_) | AccessMethod::Assertion(_, Some(_)))
    }

    /// The engine did not take the token: the next call asks for another.
    /// Answers whether there was one to forget.
    pub(crate) async fn forget(&self, credential: &Parts) -> bool {
        match &self.way {
            AccessMethod::Tokens(tokens) | AccessMethod::Assertion(_, Some(tokens)) => tokens.forget(credential).await,
            _ => false,
        }
    }

    fn all(&self, credential: &Parts) -> Value {
        let exposed = credential.iter().map(|(name, part)| (name.clone(), part.expose_secret().to_owned()));
        context! { credential => Value::from_pairs(exposed), access => self.context(credential) }
    }

    /// Puts the credential into a request.
    pub(crate) fn apply(
        &self,
        credential: &Parts,
        token: Option<&SecretString>,
        request: &mut Outgoing,
    ) -> Result<(), EngineError> {
        let Outgoing { headers, url, .. } = request;
        match &self.way {
            AccessMethod::None => Ok(()),
            AccessMethod::Bearer => bearer(&self.secret(credential, 0).to_owned().into(), headers),
            AccessMethod::Basic => basic(self.secret(credential, 0), self.secret(credential, 1), headers),
            AccessMethod::Headers(named) => {
                let context = self.all(credential);
                named.iter().try_for_each(|(name, template)| {
                    headers.insert(header_name(name)?, secret_value(&render(template, &context)?)?);
                    Ok(())
                })
            }
            AccessMethod::Query(named) => {
                let context = self.all(credential);
                named.iter().try_for_each(|(name, template)| {
                    url.query_pairs_mut().append_pair(name, &render(template, &context)?);
                    Ok(())
                })
            }
            AccessMethod::Tokens(_) | AccessMethod::Assertion(..) => {
                token.map_or(Ok(()), |token| bearer(token, headers))
            }
            AccessMethod::Signature(signature) => signature.apply(credential, request),
        }
    }
}
