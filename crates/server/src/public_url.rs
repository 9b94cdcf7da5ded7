//! How the service is reached from outside, and which hosts name it.

use std::net::IpAddr;

/// How the service is reached from outside.
#[derive(Debug, Clone)]
pub(crate) struct PublicUrl(pub(crate) String);

impl PublicUrl {
    pub(crate) fn is_https(&self) -> bool {
        self.0.starts_with("https://")
    }

    /// Whether a `Host` field names this service: by its own name, by an
    /// address, or as `localhost`, which no stranger's name server answers for.
    pub(crate) fn is_host(&self, host: &str) -> bool {
        let own = self.0.split_once("://").map_or("", |(_, rest)| rest.split('/').next().unwrap_or_default());
        let name = host.rsplit_once(':').filter(|(_, port)| port.bytes().all(|byte| byte.is_ascii_digit()));
        let name = name.map_or(host, |(name, _)| name);
        let bare = name.trim_start_matches('[').trim_end_matches(']');
        !host.is_empty()
            && (host.eq_ignore_ascii_case(own)
                || name.eq_ignore_ascii_case("localhost")
                || bare.parse::<IpAddr>().is_ok())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_service_is_reached_by_its_own_name_or_an_address() {
        let url = PublicUrl("https://speech.saltmarsh.example:8443".into());
        for host in ["speech.saltmarsh.example:8443", "127.0.0.1:7420", "[::1]:7420", "LOCALHOST:1", "192.0.2.7"] {
            assert!(url.is_host(host), "{host}");
        }
        for host in ["", "speech.saltmarsh.example", "evil.example", "127.0.0.1.evil.example:7420", "localhost.x"] {
            assert!(!url.is_host(host), "{host}");
        }
        assert!(url.is_https() && !PublicUrl("http://127.0.0.1".into()).is_https());
    }
}
