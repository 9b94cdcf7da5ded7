//! The one module that opens connections to addresses.
//!
//! Redirects are never followed, nothing is taken from the environment, and
//! private addresses are reached only where a sheet says so.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{Cause, Network};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::redirect::Policy;
use reqwest::{Client, Url};

use crate::EngineError;

/// Time to open a connection.
const CONNECT: Duration = Duration::from_secs(5);
/// Silence on a running answer after which it counts as broken.
const IDLE: Duration = Duration::from_secs(60);
/// Engines close idle connections; ours go first.
const POOL_IDLE: Duration = Duration::from_secs(4);

/// Opens connections by the rules of a network.
#[derive(Clone)]
pub struct Fetcher {
    public: Client,
    private: Client,
}

impl Fetcher {
    /// # Errors
    /// When the TLS library cannot be set up.
    pub fn new() -> Result<Self, EngineError> {
        let builder = || {
            Client::builder()
                .redirect(Policy::none())
                .referer(false)
                .no_proxy()
                .connect_timeout(CONNECT)
                .read_timeout(IDLE)
                .pool_idle_timeout(POOL_IDLE)
                .tcp_nodelay(true)
                .user_agent("Dispatcher")
        };
        let failed = |error: reqwest::Error| EngineError::new(Cause::Unavailable, error.to_string());
        Ok(Fetcher {
            public: builder().dns_resolver(Arc::new(PublicOnly)).build().map_err(failed)?,
            private: builder().build().map_err(failed)?,
        })
    }

    /// The client for an address of a network.
    ///
    /// # Errors
    /// When the address is private and the network is not.
    pub(crate) fn client(&self, network: Network, url: &Url) -> Result<&Client, EngineError> {
        match network {
            Network::Private => Ok(&self.private),
            Network::Public => {
                // Literal addresses never reach the resolver.
                let literal = url.host_str().and_then(|host| host.trim_matches(['[', ']']).parse::<IpAddr>().ok());
                if literal.is_some_and(|address| !is_public(address)) {
                    let detail = "a private address; the sheet must say network = \"private\"";
                    return Err(EngineError::new(Cause::Refused, detail));
                }
                Ok(&self.public)
            }
        }
    }
}

struct PublicOnly;

impl Resolve for PublicOnly {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
            let public: Vec<SocketAddr> = found.filter(|address| is_public(address.ip())).collect();
            if public.is_empty() {
                return Err("the name has no public address".into());
            }
            Ok(Box::new(public.into_iter()) as Addrs)
        })
    }
}

/// Whether an address may be reached by an engine of the public network:
/// not loopback, private, link-local, shared, documentation or multicast.
fn is_public(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => {
            let [a, b, ..] = v4.octets();
            !(v4.is_loopback()
                || v4.is_private()
                || v4.is_link_local()
                || v4.is_unspecified()
                || v4.is_multicast()
                || v4.is_broadcast()
                || v4.is_documentation()
                || a == 0
                || a >= 240
                || (a == 100 && (64..128).contains(&b))
                || (a == 198 && (18..20).contains(&b))
                || v4 == Ipv4Addr::new(192, 0, 0, 0))
        }
        IpAddr::V6(v6) => match v6.to_ipv4() {
            // Mapped and compatible addresses are their IPv4 selves.
            Some(v4) => is_public(IpAddr::V4(v4)),
            None => {
                let first = v6.segments()[0];
                !(v6.is_loopback() || v6.is_unspecified() || v6.is_multicast())
                    && first & 0xFE00 != 0xFC00
                    && first & 0xFFC0 != 0xFE80
                    && first != 0x0064
                    && first != 0x2002
                    && !(first == 0x2001 && v6.segments()[1] == 0x0DB8)
            }
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hostile_addresses_are_refused_in_every_spelling() {
        let fetcher = Fetcher::new().expect("client");
        for url in [
            "http://127.0.0.1/",
            "http://2130706433/",
            "http://0x7f.1/",
            "http://[::1]/",
            "http://[::ffff:10.0.0.1]/",
            "http://10.1.2.3/",
            "http://169.254.169.254/",
            "http://192.168.0.1/",
            "http://100.64.0.1/",
            "http://[fe80::1]/",
            "http://[fd00::1]/",
            "http://0.0.0.0/",
        ] {
            let parsed = Url::parse(url).expect("a url");
            assert!(fetcher.client(Network::Public, &parsed).is_err(), "{url} was let through");
            assert!(fetcher.client(Network::Private, &parsed).is_ok());
        }
        assert!(fetcher.client(Network::Public, &Url::parse("https://8.8.8.8/").expect("a url")).is_ok());
    }

    #[tokio::test]
    async fn a_name_that_leads_home_is_refused() {
        let fetcher = Fetcher::new().expect("client");
        let url = Url::parse("http://localhost:9/").expect("a url");
        let client = fetcher.client(Network::Public, &url).expect("a name");
        let error = client.get(url).send().await.expect_err("resolved to loopback");
        assert!(error.is_connect(), "{error:?}");
    }
}
