//! Signed links: an address that fetches one thing of an app until an end time,
//! for whoever has it, without a key. The signature is over the app, the path
//! and the end (HMAC with SHA-256, RFC 2104).

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use dispatcher_vault::MacKey;
use secrecy::SecretString;

/// The parameters of a link.
const APP: &str = "app";
const EXPIRES: &str = "expires";
pub(crate) const SIGNATURE: &str = "signature";

/// Signs links, and tells its own from forged ones.
pub(crate) struct LinkSigner {
    key: MacKey,
}

/// Why a link fetches nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum LinkFault {
    #[error("the signature is not of this address")]
    Forged,
    #[error("the link has ended")]
    Ended,
}

impl LinkSigner {
    /// A signer with a secret.
    pub(crate) fn new(secret: &SecretString) -> LinkSigner {
        LinkSigner { key: MacKey::new(secret) }
    }

    /// What is signed; no part of it can hold a line feed.
    fn signed(app: &str, path: &str, expires: i64) -> String {
        format!("dispatcher link 1\n{app}\n{path}\n{expires}")
    }

    /// A path with the query that lets it be fetched until a time, in seconds
    /// since 1970.
    pub(crate) fn link(&self, app: &str, path: &str, expires: i64) -> String {
        let signature = URL_SAFE_NO_PAD.encode(self.key.sign(&Self::signed(app, path, expires)));
        format!("{path}?{APP}={app}&{EXPIRES}={expires}&{SIGNATURE}={signature}")
    }

    /// The app whose link this is, at a time in seconds since 1970; `path` as
    /// it stands in the address.
    ///
    /// # Errors
    /// Where it was changed or has ended.
    pub(crate) fn check(&self, path: &str, query: &str, now: i64) -> Result<String, LinkFault> {
        let given = |name: &str| {
            let mut found = form_urlencoded::parse(query.as_bytes()).filter(|(key, _)| key == name);
            // What stands twice is read in one way here, and in another one elsewhere.
            found.next().filter(|_| found.next().is_none()).map(|(_, value)| value.into_owned())
        };
        let (app, expires, signature) = (given(APP), given(EXPIRES), given(SIGNATURE));
        let app = app.ok_or(LinkFault::Forged)?;
        let expires = expires.and_then(|text| text.parse::<i64>().ok()).ok_or(LinkFault::Forged)?;
        let signature = signature.and_then(|text| URL_SAFE_NO_PAD.decode(text).ok()).ok_or(LinkFault::Forged)?;
        let signed = Self::signed(&app, path, expires);
        if !self.key.verifies(&signed, &signature) {
            return Err(LinkFault::Forged);
        }
        if expires > now { Ok(app) } else { Err(LinkFault::Ended) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_is_for_its_path_its_app_and_its_time_alone() {
        let signer = LinkSigner::new(&"a secret".to_owned().into());
        let link = signer.link("quay", "/api/v1/jobs/7/files/a.mp3", 1_000);
        let (path, query) = link.split_once('?').expect("a query");
        assert_eq!(signer.check(path, query, 999), Ok("quay".into()));
        assert_eq!(signer.check(path, query, 1_000), Err(LinkFault::Ended));
        assert_eq!(signer.check("/api/v1/jobs/8/files/a.mp3", query, 999), Err(LinkFault::Forged));
        for changed in [
            query.replace("quay", "pier"),
            query.replace("1000", "9000"),
            query.replace("signature=", "signature=A"),
            format!("{query}&app=pier"),
            "app=quay&expires=1000".into(),
            String::new(),
        ] {
            assert_eq!(signer.check(path, &changed, 999), Err(LinkFault::Forged), "{changed}");
        }
        let other = LinkSigner::new(&"another secret".to_owned().into());
        assert_eq!(other.check(path, query, 999), Err(LinkFault::Forged));
    }
}
