//! Where a request comes from: the connection, or what a trusted proxy passes on.

use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};

use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{Extensions, HeaderMap, HeaderValue, header};
use ipnet::IpNet;

use crate::listen::OverTls;
use crate::state::App;

/// Header in which proxies pass on the address that a request came from.
const FORWARDED_FOR: &str = "x-forwarded-for";
/// Header in which they pass on whether it came by `http` or `https`.
const FORWARDED_PROTO: &str = "x-forwarded-proto";

/// Where a request comes from.
pub struct Client {
    /// Address.
    pub address: String,
    /// What the program there calls itself.
    pub program: String,
    /// Whether the pages are served over TLS there.
    pub over_tls: bool,
}

/// Longer names of programs are cut.
const MOST_PROGRAM_LETTERS: usize = 200;

impl FromRequestParts<App> for Client {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Infallible> {
        let peer = parts.extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
        let header = |name| parts.headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok());
        let address = peer.map(|peer| behind(peer, &parts.headers, &app.trusted_proxies).to_string());
        Ok(Client {
            over_tls: over_tls(&parts.extensions, &parts.headers, &app.trusted_proxies),
            address: address.unwrap_or_default(),
            program: header(header::USER_AGENT).unwrap_or_default().chars().take(MOST_PROGRAM_LETTERS).collect(),
        })
    }
}

/// Whether a request came over TLS: to this port, or to a trusted proxy that says so. A browser that says that its page
/// did is believed too, for its cookies only become safer by that.
pub fn over_tls(extensions: &Extensions, headers: &HeaderMap, trusted: &[IpNet]) -> bool {
    let says = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
    let peer = extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip().to_canonical());
    let is_proxy = peer.is_some_and(|peer| trusted.iter().any(|net| net.contains(&peer)));
    extensions.get::<OverTls>().is_some()
        || (is_proxy && says(FORWARDED_PROTO).is_some_and(|scheme| scheme.trim().eq_ignore_ascii_case("https")))
        || says(header::ORIGIN.as_str()).is_some_and(|origin| origin.starts_with("https://"))
}

/// Address of who stands behind trusted proxies: of the addresses that they passed on, the last that is none of
/// theirs. Whatever stands before it anybody may have written.
fn behind(peer: IpAddr, headers: &HeaderMap, trusted: &[IpNet]) -> IpAddr {
    let is_trusted = |address: &IpAddr| trusted.iter().any(|net| net.contains(&address.to_canonical()));
    let mut client = peer.to_canonical();
    let passed_on = headers.get_all(FORWARDED_FOR).iter().filter_map(|value| value.to_str().ok());
    let passed_on: Vec<&str> = passed_on.flat_map(|value| value.split(',')).map(str::trim).collect();
    for address in passed_on.into_iter().rev() {
        if !is_trusted(&client) {
            break;
        }
        let Ok(address) = address.parse::<IpAddr>() else { break };
        client = address.to_canonical();
    }
    client
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_trusted_proxies_say_who_stands_behind_them() {
        let behind = |peer: &str, forwarded: &[&str], trusted: &[&str]| {
            let mut headers = HeaderMap::new();
            forwarded.iter().for_each(|value| {
                headers.append(FORWARDED_FOR, value.parse().unwrap());
            });
            let trusted: Vec<IpNet> = trusted.iter().map(|net| net.parse().unwrap()).collect();
            super::behind(peer.parse().unwrap(), &headers, &trusted).to_string()
        };
        assert_eq!(behind("127.0.0.1", &["10.1.1.1"], &[]), "127.0.0.1", "nobody is trusted unless told");
        assert_eq!(behind("127.0.0.1", &["10.1.1.1"], &["127.0.0.0/8"]), "10.1.1.1");
        assert_eq!(behind("127.0.0.1", &["192.0.2.7, 10.1.1.1"], &["127.0.0.0/8"]), "10.1.1.1", "made up before it");
        assert_eq!(behind("127.0.0.1", &["192.0.2.7", "10.1.1.1"], &["127.0.0.0/8", "10.0.0.0/8"]), "192.0.2.7");
        assert_eq!(behind("127.0.0.1", &["nonsense"], &["127.0.0.0/8"]), "127.0.0.1");
        assert_eq!(behind("::ffff:127.0.0.1", &["::1"], &["127.0.0.1/32"]), "::1");
        assert_eq!(behind("10.9.9.9", &[], &["10.0.0.0/8"]), "10.9.9.9");
    }

    #[test]
    fn only_a_trusted_proxy_says_that_tls_ends_there() {
        let trusted: Vec<IpNet> = vec!["10.0.0.0/8".parse().unwrap()];
        let asked = |peer: &str, name: &'static str, value: &'static str| {
            let mut extensions = Extensions::new();
            extensions.insert(ConnectInfo(SocketAddr::new(peer.parse().unwrap(), 4711)));
            over_tls(
                &extensions,
                &HeaderMap::from_iter([(name.parse().unwrap(), HeaderValue::from_static(value))]),
                &trusted,
            )
        };
        assert!(asked("10.1.2.3", FORWARDED_PROTO, "https"));
        assert!(!asked("10.1.2.3", FORWARDED_PROTO, "http"));
        assert!(!asked("192.0.2.7", FORWARDED_PROTO, "https"));
        assert!(asked("192.0.2.7", "origin", "https://hurnix.example"));
        let mut extensions = Extensions::new();
        extensions.insert(OverTls);
        assert!(over_tls(&extensions, &HeaderMap::new(), &trusted));
    }
}
