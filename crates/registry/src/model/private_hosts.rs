//! Hosts that only this machine or its network reaches: services there trust every client that reaches them.
//!
//! A registry, a card or a repository from outside must not name such a place: this machine would ask there in its stead.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use url::{Host, Url};

/// Whether a URL names a place inside: this machine, its link or a private network.
pub fn is_inside(url: &Url) -> bool {
    match url.host() {
        Some(Host::Ipv4(address)) => is_inner_address(address.into()),
        Some(Host::Ipv6(address)) => is_inner_address(address.into()),
        Some(Host::Domain(name)) => is_inner_name(name),
        None => false,
    }
}

/// Names that are never looked up outside (RFC 6761, section 6.3; RFC 6762, section 3; RFC 9476 aside, names without a point).
fn is_inner_name(name: &str) -> bool {
    let name = name.trim_end_matches('.').to_ascii_lowercase();
    let is_below = |zone: &str| name == zone || name.ends_with(&format!(".{zone}"));
    ["localhost", "local", "internal", "home.arpa"].into_iter().any(is_below) || !name.contains('.')
}

/// Addresses of this machine (RFC 1122, section 3.2.1.3; RFC 4291), its link (RFC 3927; RFC 4291), private networks (RFC 1918;
/// RFC 4193; RFC 6598), and what stands for one of these.
pub fn is_inner_address(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => is_inner_v4(address),
        IpAddr::V6(address) => is_inner_v6(address),
    }
}

fn is_inner_v4(address: Ipv4Addr) -> bool {
    let [first, second, ..] = address.octets();
    address.is_loopback()
        || address.is_private()
        || address.is_link_local()
        || address.is_unspecified()
        || address.is_broadcast()
        || address.is_multicast()
        || first == 0
        || first == 100 && (64..128).contains(&second)
        || first >= 240
}

fn is_inner_v6(address: Ipv6Addr) -> bool {
    let parts = address.segments();
    let embedded = |high: u16, low: u16| {
        let ([a, b], [c, d]) = (high.to_be_bytes(), low.to_be_bytes());
        is_inner_v4(Ipv4Addr::new(a, b, c, d))
    };
    address.is_loopback()
        || address.is_unspecified()
        || address.is_multicast()
        || address.is_unique_local()
        || address.is_unicast_link_local()
        || address.to_ipv4_mapped().is_some_and(is_inner_v4)
        // Addresses of version 4 behind a translator (RFC 6052) or a relay (RFC 3056).
        || parts[..6] == [0x64, 0xff9b, 0, 0, 0, 0] && embedded(parts[6], parts[7])
        || parts[0] == 0x2002 && embedded(parts[1], parts[2])
}

/// Whether a URL leads inside, by its host or by the addresses that the host has now.
pub fn leads_inside(url: &Url) -> bool {
    let addresses = || url.socket_addrs(|| None).unwrap_or_default();
    is_inside(url) || addresses().iter().any(|address| is_inner_address(address.ip()))
}

/// Finds addresses of names, but none inside: a name that somebody outside chose may lead anywhere, and elsewhere at each look.
pub struct OnlyOutside;

impl Resolve for OnlyOutside {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let host = name.as_str().to_owned();
            let is_proxy = proxies().contains(&host);
            let found = tokio::net::lookup_host((host, 0)).await?;
            let outside: Vec<SocketAddr> =
                found.filter(|address| is_proxy || !is_inner_address(address.ip())).collect();
            if outside.is_empty() {
                return Err("only this machine or its network reaches that".into());
            }
            Ok(Box::new(outside.into_iter()) as Addrs)
        })
    }
}

/// The hosts of the proxies that the environment names: they may be inside, and are not what is asked for.
fn proxies() -> Vec<String> {
    let named = ["http_proxy", "https_proxy", "all_proxy", "HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"];
    let urls = named.iter().filter_map(|name| std::env::var(name).ok());
    let hosts = urls.filter_map(|url| Url::parse(&url).ok()?.host_str().map(str::to_owned));
    hosts.collect()
}

/// Whether a URL leads to this machine itself.
pub(crate) fn is_loopback(url: &Url) -> bool {
    match url.host() {
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        Some(Host::Domain(name)) => name == "localhost",
        None => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_inside_are_known_however_they_are_written() {
        let is_inside = |host: &str| is_inside(&Url::parse(&format!("http://{host}/x")).unwrap());
        for inside in [
            "localhost",
            "127.0.0.1",
            "127.1",
            "2130706433",
            "0x7f.1",
            "0.0.0.0",
            "10.1.2.3",
            "172.16.0.1",
            "192.168.1.1",
            "169.254.169.254",
            "100.64.0.1",
            "[::1]",
            "[::]",
            "[fe80::1]",
            "[fd00::1]",
            "[::ffff:10.0.0.1]",
            "[64:ff9b::7f00:1]",
            "[2002:7f00:1::]",
            "LOCALHOST.",
            "a.localhost",
            "printer.local",
            "shed",
            "metadata.internal",
            "224.0.0.1",
        ] {
            assert!(is_inside(inside), "{inside}");
        }
        for outside in [
            "garden.example",
            "192.0.2.1",
            "8.8.8.8",
            "172.32.0.1",
            "100.128.0.1",
            "[2001:db8::1]",
            "local.example",
        ] {
            assert!(!is_inside(outside), "{outside}");
        }
    }

    #[test]
    fn a_name_that_leads_inside_has_no_address_for_who_asks_outside_only() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let found = runtime.block_on(OnlyOutside.resolve("localhost".parse().unwrap()));
        assert!(found.is_err());
        assert!(leads_inside(&Url::parse("http://localhost:1/").unwrap()));
        assert!(!leads_inside(&Url::parse("https://192.0.2.7/").unwrap()));
    }
}
