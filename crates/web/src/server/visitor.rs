//! Where a request comes from: the other end of the connection, or whom a trusted proxy names.

use crate::server::state::AppState;
use actix_web::{HttpRequest, web};
use std::net::IpAddr;

/// The address that a request comes from, for limits and for what is written down.
///
/// A proxy says in `X-Forwarded-For` whom it speaks for. Anybody can send that header, so it counts only from a proxy that
/// the settings name, and of its list only the last that is no such proxy itself.
pub(crate) fn address_of(request: &HttpRequest) -> String {
    let Some(peer) = request.peer_addr().map(|peer| peer.ip()) else { return String::new() };
    let trusted = request
        .app_data::<web::Data<AppState>>()
        .map_or(&[][..], |state| state.configuration.trusted_proxies.as_slice());
    let forwarded = request.headers().get_all("x-forwarded-for").filter_map(|value| value.to_str().ok());
    origin(peer, &forwarded.collect::<Vec<_>>().join(","), trusted).to_string()
}

/// Whom a chain of proxies speaks for.
fn origin(peer: IpAddr, forwarded: &str, trusted: &[IpAddr]) -> IpAddr {
    if !trusted.contains(&peer) {
        return peer;
    }
    let chain = forwarded.rsplit(',').map_while(|name| name.trim().parse::<IpAddr>().ok());
    let mut last = peer;
    for address in chain {
        last = address;
        if !trusted.contains(&address) {
            break;
        }
    }
    last
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_trusted_proxy_speaks_for_others() {
        let ip = |text: &str| text.parse::<IpAddr>().unwrap();
        let proxies = [ip("127.0.0.1"), ip("10.0.0.9")];
        let from = |peer: &str, forwarded: &str| origin(ip(peer), forwarded, &proxies).to_string();
        assert_eq!(from("192.0.2.7", "203.0.113.5"), "192.0.2.7", "anybody can send the header");
        assert_eq!(from("127.0.0.1", "203.0.113.5"), "203.0.113.5");
        assert_eq!(from("127.0.0.1", "198.51.100.1, 203.0.113.5"), "203.0.113.5", "the last one counts");
        assert_eq!(from("127.0.0.1", "198.51.100.1, 203.0.113.5, 10.0.0.9"), "203.0.113.5");
        assert_eq!(from("127.0.0.1", ""), "127.0.0.1");
        assert_eq!(from("127.0.0.1", "nonsense, 10.0.0.9"), "10.0.0.9");
        assert_eq!(from("127.0.0.1", "2001:db8::7"), "2001:db8::7");
    }
}
