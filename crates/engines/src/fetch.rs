//! The one module that opens connections to addresses.
//!
//! Redirects are never followed, nothing is taken from the environment, and
//! private addresses are reached only where a sheet says so.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Cause, Network};
use parking_lot::Mutex;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::redirect::Policy;
use reqwest::{Client, ClientBuilder, Proxy, Url};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore};
use secrecy::{ExposeSecret as _, SecretString};

use crate::EngineError;

/// Time to open a connection.
const CONNECT: Duration = Duration::from_secs(5);
/// Silence on a running answer after which it counts as broken.
const IDLE: Duration = Duration::from_secs(60);
/// Engines close idle connections; ours go first.
const POOL_IDLE: Duration = Duration::from_secs(4);

/// Clients with a certificate that are kept at once.
const MOST_IDENTITIES: usize = 64;

/// A certificate that is shown to an engine (RFC 8446, section 4.4.2).
pub(crate) struct Identity {
    /// Equal for equal credentials.
    pub(crate) mark: String,
    /// PEM, the chain with the client's own first.
    pub(crate) certificate: SecretString,
    pub(crate) key: SecretString,
    /// PEM of the authority behind the engine's own certificate.
    pub(crate) authority: Option<String>,
}

/// Opens connections by the rules of a network.
#[derive(Clone)]
pub struct Fetcher {
    public: Client,
    private: Client,
    /// For addresses of the public network.
    proxy: Option<String>,
    /// Clients that show a certificate, by its mark and network.
    shown: Arc<Mutex<HashMap<(String, Network), Client>>>,
}

/// The content at a URL, as it is received.
pub struct FetchedBody {
    response: reqwest::Response,
    most: u64,
    read: u64,
}

impl FetchedBody {
    /// What its server says it is.
    pub fn media_type(&self) -> Option<&str> {
        self.response.headers().get(reqwest::header::CONTENT_TYPE).and_then(|value| value.to_str().ok())
    }

    /// The next piece; nothing at its end.
    ///
    /// # Errors
    /// When it breaks off, takes too long, or is larger than it may be.
    pub async fn next(&mut self) -> Result<Option<Bytes>, EngineError> {
        let Some(chunk) = self.response.chunk().await.map_err(not_fetched)? else { return Ok(None) };
        self.read += chunk.len() as u64;
        if self.read > self.most { Err(over(self.most)) } else { Ok(Some(chunk)) }
    }
}

fn not_fetched(error: reqwest::Error) -> EngineError {
    EngineError::new(Cause::Unavailable, error.without_url().to_string())
}

fn over(most: u64) -> EngineError {
    EngineError::new(Cause::Refused, format!("it is larger than {most} bytes"))
}

fn builder(network: Network, proxy: Option<&str>) -> Result<ClientBuilder, EngineError> {
    let builder = Client::builder()
        .redirect(Policy::none())
        .referer(false)
        .no_proxy()
        .connect_timeout(CONNECT)
        .read_timeout(IDLE)
        .pool_idle_timeout(POOL_IDLE)
        .tcp_nodelay(true)
        .user_agent("Dispatcher");
    match network {
        Network::Public => {
            let builder = builder.dns_resolver(Arc::new(PublicOnly));
            let proxy = proxy.map(Proxy::all).transpose();
            let proxy = proxy.map_err(|error| EngineError::new(Cause::Unavailable, error.to_string()))?;
            Ok(proxy.into_iter().fold(builder, ClientBuilder::proxy))
        }
        Network::Private => Ok(builder),
    }
}

impl Fetcher {
    /// # Errors
    /// When the TLS library cannot be set up.
    pub fn new() -> Result<Self, EngineError> {
        Fetcher::through(None)
    }

    /// As [`Fetcher::new`], with a proxy for addresses of the public network:
    /// it then resolves their names, and must itself refuse private ones.
    ///
    /// # Errors
    /// When the TLS library cannot be set up, or the proxy is no address.
    pub fn through(proxy: Option<&str>) -> Result<Self, EngineError> {
        let made = |network| {
            let failed = |error: reqwest::Error| EngineError::new(Cause::Unavailable, error.to_string());
            builder(network, proxy)?.build().map_err(failed)
        };
        let (public, private) = (made(Network::Public)?, made(Network::Private)?);
        Ok(Fetcher { public, private, proxy: proxy.map(str::to_owned), shown: Arc::default() })
    }

    /// The client for an address of a network.
    ///
    /// # Errors
    /// When the address is private and the network is not, or the certificate
    /// cannot be read.
    pub(crate) fn client(
        &self,
        network: Network,
        url: &Url,
        identity: Option<&Identity>,
    ) -> Result<Client, EngineError> {
        if network == Network::Public {
            refuse_private(url)?;
        }
        let Some(identity) = identity else {
            return Ok(if network == Network::Private { self.private.clone() } else { self.public.clone() });
        };
        let key = (identity.mark.clone(), network);
        let mut shown = self.shown.lock();
        if let Some(client) = shown.get(&key) {
            return Ok(client.clone());
        }
        let config = (*self.tls(Some(identity))?).clone();
        let client = builder(network, self.proxy.as_deref())?
            .tls_backend_preconfigured(config)
            .build()
            .map_err(|error| EngineError::new(Cause::Unauthorized, error.to_string()))?;
        if shown.len() >= MOST_IDENTITIES {
            shown.clear();
        }
        shown.insert(key, client.clone());
        Ok(client)
    }

    /// The content at a URL, up to a number of bytes. Whoever calls has made
    /// sure that the operator allows the host, wherever it is.
    ///
    /// # Errors
    /// When it cannot be reached in time, does not answer with success, or is
    /// larger.
    pub async fn get(&self, address: &str, most: usize, within: Duration) -> Result<Bytes, EngineError> {
        let mut fetched = self.open(address, most as u64, within).await?;
        let mut body = Vec::new();
        while let Some(chunk) = fetched.next().await? {
            body.extend_from_slice(&chunk);
        }
        Ok(body.into())
    }

    /// The same, piece by piece as it comes in.
    ///
    /// # Errors
    /// When it cannot be reached in time, does not answer with success, or says
    /// that it is larger.
    pub async fn open(&self, address: &str, most: u64, within: Duration) -> Result<FetchedBody, EngineError> {
        let url: Url = address.parse().map_err(|_| EngineError::new(Cause::Malformed, "it is not a URL"))?;
        let client = self.client(Network::Private, &url, None)?;
        let response = client.get(url).timeout(within).send().await.map_err(not_fetched)?;
        if !response.status().is_success() {
            return Err(EngineError::new(Cause::Refused, format!("it answered {}", response.status())));
        }
        if response.content_length().is_some_and(|length| length > most) {
            return Err(over(most));
        }
        Ok(FetchedBody { response, most, read: 0 })
    }

    /// TLS as for a client of this module.
    pub(crate) fn tls(&self, identity: Option<&Identity>) -> Result<Arc<ClientConfig>, EngineError> {
        let unusable = |what: String| EngineError::new(Cause::Unauthorized, what);
        let mut roots = RootCertStore::empty();
        match identity.and_then(|identity| identity.authority.as_deref()) {
            Some(authority) => {
                for certificate in CertificateDer::pem_slice_iter(authority.as_bytes()) {
                    let certificate =
                        certificate.map_err(|_| unusable("the authority is not a PEM certificate".into()))?;
                    roots.add(certificate).map_err(|error| unusable(format!("the authority: {error}")))?;
                }
            }
            None => {
                roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
            }
        }
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|error| EngineError::new(Cause::Unavailable, error.to_string()))?
            .with_root_certificates(roots);
        let Some(identity) = identity else { return Ok(Arc::new(config.with_no_client_auth())) };
        let chain = CertificateDer::pem_slice_iter(identity.certificate.expose_secret().as_bytes());
        let chain: Vec<_> =
            chain.collect::<Result<_, _>>().map_err(|_| unusable("the certificate is not a PEM certificate".into()))?;
        let key = PrivateKeyDer::from_pem_slice(identity.key.expose_secret().as_bytes())
            .map_err(|_| unusable("the key of the certificate is not a PEM private key".into()))?;
        let config = config.with_client_auth_cert(chain, key);
        Ok(Arc::new(config.map_err(|error| unusable(format!("the certificate and its key: {error}")))?))
    }
}

/// Literal addresses never reach the resolver.
fn refuse_private(url: &Url) -> Result<(), EngineError> {
    let literal = url.host_str().and_then(|host| host.trim_matches(['[', ']']).parse::<IpAddr>().ok());
    match literal.is_some_and(|address| !is_public(address)) {
        true => {
            let detail = "a private address; it is allowed only with network = \"private\" in the sheet";
            Err(EngineError::new(Cause::Refused, detail))
        }
        false => Ok(()),
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
                || v4.octets()[..3] == [192, 0, 0]
                || v4.octets()[..3] == [192, 88, 99])
        }
        IpAddr::V6(v6) => match v6.to_ipv4() {
            // Mapped and compatible addresses are their IPv4 selves.
            Some(v4) => is_public(IpAddr::V4(v4)),
            None => {
                let [first, second, ..] = v6.segments();
                // Global unicast alone (RFC 4291, 2.5.4): neither translated
                // (64:ff9b::/96), local (fc00::/7, fe80::/10, fec0::/10) nor
                // discarded (100::/64) addresses are among these.
                first & 0xE000 == 0x2000
                    // Protocols such as Teredo (2001::/32), and examples.
                    && !(first == 0x2001 && (second < 0x0200 || second == 0x0DB8))
                    && first != 0x2002
                    && first & 0xFFF0 != 0x3FF0
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
            "http://192.0.0.170/",
            "http://192.88.99.1/",
            "http://[64:ff9b::10.0.0.1]/",
            "http://[64:ff9b:1::1]/",
            "http://[fec0::1]/",
            "http://[feff::1]/",
            "http://[2001::1]/",
            "http://[2001:0:5ef5:79fd::1]/",
            "http://[2001:db8::1]/",
            "http://[2002:a00:1::1]/",
            "http://[3fff::1]/",
            "http://[100::1]/",
            "http://[::127.0.0.1]/",
        ] {
            let parsed = Url::parse(url).expect("a url");
            assert!(fetcher.client(Network::Public, &parsed, None).is_err(), "{url} was let through");
            assert!(fetcher.client(Network::Private, &parsed, None).is_ok());
        }
        for url in ["https://8.8.8.8/", "https://[2a00:1450::1]/", "https://[2001:4860::1]/", "https://[2600::1]/"] {
            let parsed = Url::parse(url).expect("a url");
            assert!(fetcher.client(Network::Public, &parsed, None).is_ok(), "{url} was refused");
        }
    }

    /// A server that answers with this head and then the same byte, slowly or at once.
    async fn server(head: &'static str, pause: Duration) -> String {
        use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("binds");
        let url = format!("http://{}/gong.wav", listener.local_addr().expect("address"));
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let _ = stream.read(&mut [0; 1_024]).await;
                let _ = stream.write_all(head.as_bytes()).await;
                for _ in 0..200 {
                    if stream.write_all(&[7; 100]).await.is_err() {
                        break;
                    }
                    // A sleep of nothing still takes a millisecond.
                    if !pause.is_zero() {
                        tokio::time::sleep(pause).await;
                    }
                }
            }
        });
        url
    }

    #[tokio::test]
    async fn what_is_fetched_has_a_limit_in_bytes_and_in_time() {
        let fetcher = Fetcher::new().expect("client");
        let second = Duration::from_secs(1);
        let announced = server("HTTP/1.1 200 OK\r\ncontent-length: 20000\r\n\r\n", Duration::ZERO).await;
        let error = fetcher.get(&announced, 19_999, second).await.expect_err("a byte too many");
        assert!(error.detail.contains("19999"), "{error}");
        assert_eq!(fetcher.get(&announced, 20_000, second).await.expect("as long as it may be").len(), 20_000);
        let silent = server("HTTP/1.1 200 OK\r\nconnection: close\r\n\r\n", Duration::ZERO).await;
        assert!(fetcher.get(&silent, 5_000, second).await.is_err(), "it does not say how long it is");
        let slow = server("HTTP/1.1 200 OK\r\ncontent-length: 20000\r\n\r\n", Duration::from_millis(50)).await;
        let begun = std::time::Instant::now();
        assert!(fetcher.get(&slow, 20_000, Duration::from_millis(300)).await.is_err());
        assert!(begun.elapsed() < 2 * second, "{:?}", begun.elapsed());
    }

    #[tokio::test]
    async fn a_proxy_is_used_for_the_public_network_alone() {
        use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
        let proxy = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("binds");
        let address = format!("http://{}", proxy.local_addr().expect("address"));
        let seen = tokio::spawn(async move {
            let (mut stream, _) = proxy.accept().await.expect("called");
            let mut head = vec![0; 1_024];
            let count = stream.read(&mut head).await.expect("reads");
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n").await;
            String::from_utf8_lossy(&head[..count]).into_owned()
        });
        let fetcher = Fetcher::through(Some(&address)).expect("client");
        let url = Url::parse("http://engine.saltmarsh.example/say").expect("a url");
        let client = fetcher.client(Network::Public, &url, None).expect("a name");
        client.get(url).send().await.expect("through the proxy, which alone knows the name");
        assert!(seen.await.expect("ran").starts_with("GET http://engine.saltmarsh.example/say HTTP/1.1"));
        let url = Url::parse(&format!("{address}/say")).expect("a url");
        let client = fetcher.client(Network::Private, &url, None).expect("an address");
        assert!(client.get(url).send().await.is_err(), "the proxy is gone, and no other way was taken");
    }

    #[tokio::test]
    async fn a_name_that_leads_home_is_refused() {
        let fetcher = Fetcher::new().expect("client");
        let url = Url::parse("http://localhost:9/").expect("a url");
        let client = fetcher.client(Network::Public, &url, None).expect("a name");
        let error = client.get(url).send().await.expect_err("resolved to loopback");
        assert!(error.is_connect(), "{error:?}");
    }
}
