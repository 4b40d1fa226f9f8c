//! The origin that a secret belongs to: scheme, host and port together.
//!
//! A secret for `https://packages.example` goes neither to `http://packages.example`, where anybody on the way could read it,
//! nor to another port, where another program answers. A name that a manifest gives to a registry selects no secret.

use std::fmt;
use std::str::FromStr;

use url::Url;

use crate::model::private_hosts::is_loopback;

/// A scheme, a host and a port, as `https://packages.example` or `http://127.0.0.1:8123` (RFC 6454, section 6.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Origin {
    text: String,
    is_loopback: bool,
}

/// That a text names no host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoOrigin;

impl Origin {
    /// Where a URL leads; `None` where it names no host or is neither `https` nor `http`.
    pub fn of(url: &Url) -> Option<Self> {
        let is_web = matches!(url.scheme(), "https" | "http") && url.has_host();
        is_web.then(|| Self { text: url.origin().ascii_serialization(), is_loopback: is_loopback(url) })
    }

    /// Host and port without the scheme: `packages.example`, `127.0.0.1:8123`.
    pub fn host(&self) -> &str {
        self.text.split_once("://").map_or("", |(_, host)| host)
    }

    /// Whether nobody on the way can read what is sent there.
    pub fn is_safe(&self) -> bool {
        self.is_loopback || self.text.starts_with("https://")
    }
}

/// Whether two URLs are of one owner: of one host, or of hosts below one domain that somebody registered (the Public Suffix List
/// says below which names everybody may register).
pub fn have_one_owner(one: &Url, other: &Url) -> bool {
    let domain = |url: &Url| url.domain().and_then(psl::domain_str).map(str::to_owned);
    one.host() == other.host() || domain(one).is_some() && domain(one) == domain(other)
}

impl FromStr for Origin {
    type Err = NoOrigin;

    /// Reads a URL, of which only the origin counts, or a host with or without a port. A host alone is asked by `https`, and by
    /// `http` where it is this machine itself.
    fn from_str(text: &str) -> Result<Self, NoOrigin> {
        let (scheme, place) = text.split_once("://").unwrap_or(("", text));
        let at = |scheme: &str| {
            let url = Url::parse(&format!("{scheme}://{place}")).map_err(|_| NoOrigin)?;
            let names_a_user = !url.username().is_empty() || url.password().is_some();
            Self::of(&url).filter(|_| !names_a_user).ok_or(NoOrigin)
        };
        match scheme {
            "" if place.contains('/') => Err(NoOrigin),
            "" | "oci" => {
                at("https").and_then(|origin| if origin.is_loopback { at("http") } else { Ok(origin) })
            }
            _ => at(scheme),
        }
    }
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scheme_host_and_port_make_an_origin() {
        for (text, shown) in [
            ("packages.example", "https://packages.example"),
            ("PACKAGES.example:443", "https://packages.example"),
            ("garden.example:5000", "https://garden.example:5000"),
            ("https://garden.example/fernhollow/", "https://garden.example"),
            ("http://garden.example:80/x", "http://garden.example"),
            ("oci://garden.example:5000/fernhollow", "https://garden.example:5000"),
            ("127.0.0.1:8123", "http://127.0.0.1:8123"),
            ("oci://localhost:5000/x", "http://localhost:5000"),
            ("https://localhost:5000", "https://localhost:5000"),
        ] {
            assert_eq!(text.parse::<Origin>().unwrap().to_string(), shown, "{text}");
        }
        for wrong in
            ["", "../here", "a/b", "ftp://garden.example", "https://", "moss@garden.example", "s3://moss"]
        {
            assert_eq!(wrong.parse::<Origin>(), Err(NoOrigin), "{wrong}");
        }
    }

    #[test]
    fn only_encrypted_ways_and_this_machine_are_safe() {
        let is_safe = |text: &str| text.parse::<Origin>().unwrap().is_safe();
        assert!(is_safe("https://garden.example") && is_safe("http://127.0.0.1:1"));
        assert!(!is_safe("http://garden.example") && !is_safe("http://127.0.0.1.garden.example"));
    }

    #[test]
    fn hosts_below_one_registered_domain_have_one_owner() {
        let have = |one: &str, other: &str| {
            let url = |host: &str| Url::parse(&format!("https://{host}/")).unwrap();
            have_one_owner(&url(one), &url(other))
        };
        assert!(have("packages.garden.co.uk", "tokens.garden.co.uk"));
        assert!(have("garden.example", "tokens.garden.example:8443"));
        assert!(have("127.0.0.1:1", "127.0.0.1:2"));
        assert!(!have("garden.co.uk", "moss.co.uk"));
        assert!(!have("garden.github.io", "moss.github.io"), "everybody may have a name there");
        assert!(!have("127.0.0.1", "127.0.0.2"));
        assert!(!have("garden.example", "garden.example.moss.example"));
    }
}
