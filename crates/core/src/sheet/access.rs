//! `[access]`: how a call is authorised.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Templates;
use super::call::request;

/// How a call is authorised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scheme {
    /// No credential is sent.
    #[default]
    None,
    /// `Authorization: Bearer` with the first part (RFC 6750).
    Bearer,
    /// Header fields by template.
    Headers,
    /// Query parameters by template.
    Query,
    /// `Authorization: Basic` with two parts (RFC 7617).
    Basic,
    /// A token from `[access.token]`, requested with two parts (RFC 6749, section 4.4), sent as
    /// bearer and used until it expires.
    ClientCredentials,
    /// A signed assertion (RFC 7519), sent as bearer or exchanged for a token (RFC 7523).
    Assertion,
    /// A signature over the message (RFC 9421).
    Signature,
    /// Templates of the requests use the parts as `{{ credential.PART }}`.
    Templates,
    /// Only the client certificate of `[access.identity]`.
    Certificate,
}

/// `[access]`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Access {
    /// How the credential is sent.
    #[serde(default)]
    pub scheme: Scheme,
    /// Names of the parts of the credential.
    #[serde(default)]
    pub parts: Vec<String>,
    /// Parts that are not secret: every template can use them, such as `{{ access.region }}`, and
    /// they are not removed from error texts.
    #[serde(default)]
    pub public: Vec<String>,
    /// With the scheme `headers`: header fields, templates with `credential`.
    #[serde(default)]
    pub headers: Templates,
    /// With the scheme `query`: parameters, templates with `credential`.
    #[serde(default)]
    pub query: Templates,
    /// With the scheme `client-credentials`, or an assertion that is exchanged:
    /// where to get the token.
    #[serde(default)]
    pub token: Option<TokenSpec>,
    /// With the scheme `assertion`: what is signed.
    #[serde(default)]
    pub assertion: Option<AssertionSpec>,
    /// With the scheme `signature`: what is signed.
    #[serde(default)]
    pub signature: Option<SignatureSpec>,
    /// Place of each part in a JSON key file (JSONPath).
    #[serde(default)]
    pub file: Templates,
    /// A call that shows whether the credential is accepted, without a charge.
    #[serde(default)]
    pub check: Option<CheckSpec>,
    /// Client certificate of the TLS connection, with any scheme.
    #[serde(default)]
    pub identity: Option<IdentitySpec>,
}

request! {
    /// `[access.check]`: a call without cost that shows whether a credential is valid, and its
    /// roles.
    pub struct CheckSpec {
        /// Place of the credential's roles in the answer (JSONPath).
        #[serde(default)]
        pub roles: Option<String>,
        /// Roles that suffice. Missing ones, and others that it has, are reported.
        #[serde(default)]
        pub needs: Vec<String>,
    }
}

/// `[access.identity]`: mutual TLS (RFC 8446, section 4.4.2).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct IdentitySpec {
    /// The part that is the certificate chain, in PEM.
    pub certificate: String,
    /// The part that is its private key, in PEM.
    pub key: String,
    /// The part that is the certificate authority of the engine, in PEM, if it is not a public one.
    #[serde(default)]
    pub authority: Option<String>,
}

/// Client authentication at the token endpoint (RFC 6749, section 2.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ClientShown {
    /// In `Authorization: Basic`, both form-encoded first.
    #[default]
    Basic,
    /// As `client_id` and `client_secret` in the form.
    Form,
}

/// `[access.token]`: where to get a token.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenSpec {
    /// `POST /path` at the endpoint, or `POST https://elsewhere/path`.
    pub call: String,
    /// How the client authenticates at the token endpoint.
    #[serde(default)]
    pub client: ClientShown,
    /// The requested scope (RFC 6749, section 3.3).
    #[serde(default)]
    pub scope: Option<String>,
    /// Further fields of the form, templates with `credential` and `access`.
    #[serde(default)]
    pub form: Templates,
    /// Place of the token in the answer (JSONPath).
    #[serde(default = "access_token")]
    pub token: String,
    /// Place of its lifetime in seconds.
    #[serde(default = "expires_in")]
    pub lifetime: String,
    /// Lifetime in seconds if the answer has none.
    #[serde(default = "five_minutes")]
    pub seconds: u64,
}

fn access_token() -> String {
    "$.access_token".into()
}

fn expires_in() -> String {
    "$.expires_in".into()
}

fn five_minutes() -> u64 {
    300
}

/// How an assertion is signed (RFC 7518, section 3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum AssertionAlgorithm {
    /// RSASSA-PKCS1-v1_5 with SHA-256.
    RS256,
    /// ECDSA on P-256 with SHA-256.
    ES256,
}

/// Use of an assertion.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum AssertionUse {
    /// Exchanged at `[access.token]` (RFC 7523, section 2.1).
    #[default]
    Token,
    /// Sent as bearer.
    Bearer,
}

/// `[access.assertion]`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AssertionSpec {
    /// How the assertion is signed.
    pub algorithm: AssertionAlgorithm,
    /// The part that is the private key, in PEM.
    pub key: String,
    /// The part that names the key, for the header `kid`.
    #[serde(default)]
    pub key_id: Option<String>,
    /// Claims as JSON, a template with `credential` and `access`; `iat`, `exp` and `jti` are added.
    pub claims: String,
    /// Lifetime in seconds.
    #[serde(default = "five_minutes")]
    pub seconds: u64,
    /// How the assertion is used.
    #[serde(default, rename = "use")]
    pub used_as: AssertionUse,
}

/// How a message is signed (RFC 9421, section 3.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum SignatureAlgorithm {
    /// HMAC with SHA-256 (RFC 9421, section 3.3.3).
    #[serde(rename = "hmac-sha256")]
    HmacSha256,
    /// Ed25519 (RFC 9421, section 3.3.6).
    #[serde(rename = "ed25519")]
    Ed25519,
    /// ECDSA on P-256 with SHA-256 (RFC 9421, section 3.3.4).
    #[serde(rename = "ecdsa-p256-sha256")]
    EcdsaP256Sha256,
    /// RSASSA-PKCS1-v1_5 with SHA-256 (RFC 9421, section 3.3.2).
    #[serde(rename = "rsa-v1_5-sha256")]
    RsaV15Sha256,
    /// RSASSA-PSS with SHA-512 (RFC 9421, section 3.3.1).
    #[serde(rename = "rsa-pss-sha512")]
    RsaPssSha512,
}

impl SignatureAlgorithm {
    /// Its name in the registry of RFC 9421, section 6.2.
    pub fn name(self) -> &'static str {
        match self {
            SignatureAlgorithm::HmacSha256 => "hmac-sha256",
            SignatureAlgorithm::Ed25519 => "ed25519",
            SignatureAlgorithm::EcdsaP256Sha256 => "ecdsa-p256-sha256",
            SignatureAlgorithm::RsaV15Sha256 => "rsa-v1_5-sha256",
            SignatureAlgorithm::RsaPssSha512 => "rsa-pss-sha512",
        }
    }
}

/// `[access.signature]`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SignatureSpec {
    /// How requests are signed.
    pub algorithm: SignatureAlgorithm,
    /// The part that is the key: PEM (PKCS #8), or base64 for `hmac-sha256`.
    pub key: String,
    /// The part that names the key.
    pub key_id: String,
    /// Components that are covered: `@method`, `@target-uri`, `@authority`,
    /// `@scheme`, `@path`, `@query`, and header fields in small letters.
    #[serde(default = "usual_components")]
    pub covers: Vec<String>,
    /// The name of the signature in its fields (RFC 9421, section 4).
    #[serde(default = "usual_label")]
    pub label: String,
    /// Write the name of the algorithm (`alg`).
    #[serde(default)]
    pub name_algorithm: bool,
}

fn usual_components() -> Vec<String> {
    ["@method", "@target-uri", "content-digest"].map(str::to_owned).to_vec()
}

fn usual_label() -> String {
    "sig1".into()
}

impl Access {
    /// What types alone cannot say; the key at fault and why.
    pub(super) fn fault(&self) -> Option<(&'static str, String)> {
        let count = self.parts.len();
        let known = |part: &str| self.parts.iter().any(|known| known == part);
        let message = match self.scheme {
            Scheme::None if count > 0 => "scheme \"none\" takes no parts",
            Scheme::Bearer if count - self.count_public() - self.identifying() != 1 => {
                "scheme \"bearer\" takes exactly one part that is not public"
            }
            Scheme::Headers if self.headers.is_empty() => "scheme \"headers\" needs [access.headers]",
            Scheme::Query if self.query.is_empty() => "scheme \"query\" needs [access.query]",
            Scheme::Basic if count - self.count_public() - self.identifying() != 2 => {
                "scheme \"basic\" takes two parts that are not public: the name and the password"
            }
            Scheme::ClientCredentials if count - self.count_public() - self.identifying() != 2 => {
                "scheme \"client-credentials\" takes two parts that are not public: the id and the secret"
            }
            Scheme::ClientCredentials if self.token.is_none() => "scheme \"client-credentials\" needs [access.token]",
            Scheme::Assertion if self.assertion.is_none() => "scheme \"assertion\" needs [access.assertion]",
            Scheme::Signature if self.signature.is_none() => "scheme \"signature\" needs [access.signature]",
            Scheme::Certificate if self.identity.is_none() => "scheme \"certificate\" needs [access.identity]",
            _ => "",
        };
        if !message.is_empty() {
            return Some(("scheme", message.into()));
        }
        if let Some(stranger) = self.public.iter().find(|part| !known(part)) {
            return Some(("public", format!("'{stranger}' is not one of the parts")));
        }
        if let Some(assertion) = &self.assertion {
            let named = [Some(&assertion.key), assertion.key_id.as_ref()];
            if let Some(stranger) = named.into_iter().flatten().find(|part| !known(part)) {
                return Some(("assertion", format!("'{stranger}' is not one of the parts")));
            }
            if assertion.used_as == AssertionUse::Token && self.token.is_none() {
                return Some(("assertion", "use = \"token\" needs [access.token]".into()));
            }
        }
        if let Some(signature) = &self.signature {
            if let Some(stranger) = [&signature.key, &signature.key_id].into_iter().find(|part| !known(part)) {
                return Some(("signature", format!("'{stranger}' is not one of the parts")));
            }
            let derived = ["@method", "@target-uri", "@authority", "@scheme", "@path", "@query"];
            let strange = |name: &&String| {
                (name.starts_with('@') && !derived.contains(&name.as_str()))
                    || name.bytes().any(|b| b.is_ascii_uppercase())
            };
            if let Some(name) = signature.covers.iter().find(strange) {
                return Some(("signature", format!("'{name}' cannot be covered; write header names in small letters")));
            }
        }
        if let Some(identity) = &self.identity {
            let named = [Some(&identity.certificate), Some(&identity.key), identity.authority.as_ref()];
            if let Some(stranger) = named.into_iter().flatten().find(|part| !known(part)) {
                return Some(("identity", format!("'{stranger}' is not one of the parts")));
            }
        }
        if let Some(stranger) = self.file.keys().find(|part| !known(part)) {
            return Some(("file", format!("'{stranger}' is not one of the parts")));
        }
        let call = self.token.as_ref().map(|token| token.call.split_once(' '));
        match call {
            Some(None) => Some(("token", "a call is a method, a space, and a path or address".into())),
            Some(Some(("POST", target)))
                if target.starts_with('/') || target.starts_with("https://") || target.starts_with("http://") =>
            {
                None
            }
            Some(_) => Some(("token", "a token is requested with POST and a path or address".into())),
            None => None,
        }
    }

    fn count_public(&self) -> usize {
        self.parts.iter().filter(|part| self.public.contains(part)).count()
    }

    /// Parts that make a certificate.
    fn identifying(&self) -> usize {
        self.parts.iter().filter(|part| !self.public.contains(part) && self.is_identity(part)).count()
    }

    fn is_identity(&self, part: &String) -> bool {
        self.identity
            .as_ref()
            .is_some_and(|it| it.certificate == *part || it.key == *part || it.authority.as_ref() == Some(part))
    }

    /// The parts that a scheme takes as its own, in order: neither public nor
    /// of a certificate.
    pub fn secret_parts(&self) -> impl Iterator<Item = &String> {
        self.parts.iter().filter(|part| !self.public.contains(part) && !self.is_identity(part))
    }
}
