//! Signed links: URLs that fetch one file of an app without a key until they
//! expire. The proof covers the app, the path and the expiry (HMAC with
//! SHA-256, RFC 2104).

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use dispatcher_vault::MacKey;
use secrecy::SecretString;

/// Query parameters of a link.
const APP: &str = "app";
const UNTIL: &str = "until";
pub(crate) const PROOF: &str = "proof";

/// Signs and verifies links.
pub(crate) struct LinkSigner {
    key: MacKey,
}

/// Why a link is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum LinkFault {
    #[error("the proof does not match this address")]
    Forged,
    #[error("the link has expired")]
    Ended,
}

impl LinkSigner {
    /// Creates a signer; links of another secret are refused.
    pub(crate) fn new(secret: &SecretString) -> LinkSigner {
        LinkSigner { key: MacKey::new(secret) }
    }

    /// Text under the proof; none of its parts can contain a line feed.
    fn signed(app: &str, path: &str, expires: i64) -> String {
        format!("dispatcher link 1\n{app}\n{path}\n{expires}")
    }

    /// Path and query of a link; `expires` in seconds since 1970.
    pub(crate) fn link(&self, app: &str, path: &str, expires: i64) -> String {
        let proof = URL_SAFE_NO_PAD.encode(self.key.sign(&Self::signed(app, path, expires)));
        format!("{path}?{APP}={app}&{UNTIL}={expires}&{PROOF}={proof}")
    }

    /// Verifies a link and returns its app; `path` is the encoded path of the
    /// request, `now` in seconds since 1970.
    ///
    /// # Errors
    /// If any part was changed, or the link has expired.
    pub(crate) fn check(&self, path: &str, query: &str, now: i64) -> Result<String, LinkFault> {
        let given = |name: &str| {
            let mut found = form_urlencoded::parse(query.as_bytes()).filter(|(key, _)| key == name);
            // A repeated parameter could be read differently elsewhere.
            found.next().filter(|_| found.next().is_none()).map(|(_, value)| value.into_owned())
        };
        let (app, expires, proof) = (given(APP), given(UNTIL), given(PROOF));
        let app = app.ok_or(LinkFault::Forged)?;
        let expires = expires.and_then(|text| text.parse::<i64>().ok()).ok_or(LinkFault::Forged)?;
        let proof = proof.and_then(|text| URL_SAFE_NO_PAD.decode(text).ok()).ok_or(LinkFault::Forged)?;
        let signed = Self::signed(&app, path, expires);
        if !self.key.verifies(&signed, &proof) {
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
            query.replace("proof=", "proof=A"),
            format!("{query}&app=pier"),
            "app=quay&until=1000".into(),
            String::new(),
        ] {
            assert_eq!(signer.check(path, &changed, 999), Err(LinkFault::Forged), "{changed}");
        }
        let other = LinkSigner::new(&"another secret".to_owned().into());
        assert_eq!(other.check(path, query, 999), Err(LinkFault::Forged));
    }
}
