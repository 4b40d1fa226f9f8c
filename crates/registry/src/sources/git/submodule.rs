//! Where a submodule's repository is, by `.gitmodules`, within what a repository is allowed to point at.
//!
//! The author of a repository wrote its `.gitmodules`. What is asked for must be what anybody else could ask for as well: nothing
//! of this machine and nothing inside its network, and nothing with the keys of the person who installs, unless the
//! repository itself is there.

use bibliotax_core::location::Location;
use bibliotax_core::source::place_problem;
use url::Url;

use crate::model::private_hosts::is_inside;

/// Where a repository is, as far as that decides who may ask for it.
#[derive(Debug, PartialEq, Eq)]
enum Place {
    /// A folder of this machine.
    Local,
    /// A host behind a scheme.
    Remote { scheme: String, host: String, is_inside: bool },
}

impl Place {
    fn of(url: &str) -> Option<Self> {
        match Location::of(url) {
            Location::Relative(_) | Location::Absolute(_) => Some(Self::Local),
            Location::Url { scheme, rest } => Self::remote(scheme, rest),
            Location::OnHost { host, .. } => Self::remote("ssh", host),
        }
    }

    fn remote(scheme: &str, rest: &str) -> Option<Self> {
        // Hosts are compared in the same way for all schemes.
        let url = Url::parse(&format!("https://{rest}")).ok()?;
        let port = url.port().map(|port| format!(":{port}")).unwrap_or_default();
        let host = url.host_str()?.to_ascii_lowercase() + &port;
        Some(Self::Remote { scheme: scheme.to_ascii_lowercase(), host, is_inside: is_inside(&url) })
    }
}

/// The URL of a submodule whose repository has it as `url`, seen from the repository at `within`; else why it isn't asked for.
pub fn submodule_url(within: &str, url: &str) -> Result<String, String> {
    if let Some(problem) = place_problem(url) {
        return Err(problem.to_owned());
    }
    // Only what begins so is relative (gitmodules(5)).
    let is_relative = url.starts_with("./") || url.starts_with("../");
    let joined = if is_relative { joined(within, url) } else { Some(url.to_owned()) };
    let led = joined.ok_or("leads out of its host")?;
    let (base, place) = (Place::of(within), Place::of(&led).ok_or("isn't a valid place")?);
    match (base.ok_or("isn't a valid place")?, place) {
        (Place::Local, Place::Local)
            if is_relative || matches!(Location::of(&led), Location::Absolute(_)) =>
        {
            Ok(led)
        }
        (Place::Local, Place::Local) => Err("is neither a URL nor relative".to_owned()),
        (Place::Remote { .. }, Place::Local) => Err("would lie on this machine".to_owned()),
        (Place::Local, Place::Remote { .. }) => Ok(led),
        (base @ Place::Remote { .. }, place) if is_relative && base != place => {
            Err("leads out of its host".to_owned())
        }
        (
            Place::Remote { scheme: base_scheme, is_inside: base_is_inside, .. },
            Place::Remote { scheme, is_inside, .. },
        ) => {
            if is_inside && !base_is_inside {
                Err("would lie inside this machine's network".to_owned())
            } else if scheme == "ssh" && base_scheme != "ssh" {
                Err("would be fetched with your SSH keys".to_owned())
            } else {
                Ok(led)
            }
        }
    }
}

/// Where a relative URL leads from a repository's, a step at a time as `git submodule` does; `None` above its host.
fn joined(base: &str, way: &str) -> Option<String> {
    let start = base.find("://").map_or(0, |at| at + "://".len());
    let (mut base, mut way) = (base.trim_end_matches('/').to_owned(), way);
    loop {
        if let Some(rest) = way.strip_prefix("./") {
            way = rest;
        } else if let Some(rest) = way.strip_prefix("../") {
            way = rest;
            // A colon stands before the path only where there is no scheme.
            let is_between = |c: char| c == '/' || c == ':' && start == 0;
            let at = start + base.get(start..)?.rfind(is_between)?;
            base.truncate(at + usize::from(base[at..].starts_with(':')));
        } else {
            break;
        }
    }
    // What is left may lead nowhere else any more.
    let stays = !way.split('/').any(|part| part == "..") && base.len() > start;
    let between = if base.ends_with(':') { "" } else { "/" };
    stays.then(|| format!("{base}{between}{way}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn relative_urls_are_seen_from_their_repository() {
        for (base, way, wanted) in [
            ("https://git.example/garden/moss.git", "../dew.git", "https://git.example/garden/dew.git"),
            ("https://git.example/garden/moss", "./map", "https://git.example/garden/moss/map"),
            ("https://git.example/garden/moss/", ".././../dew", "https://git.example/dew"),
            ("git@git.example:garden/moss", "../../dew", "git@git.example:dew"),
            ("/srv/git/moss", "../dew", "/srv/git/dew"),
            ("/srv/git/moss", "/srv/git/dew", "/srv/git/dew"),
            ("git://git.example:9418/moss", "../dew", "git://git.example:9418/dew"),
            ("https://git.example/moss", "https://other.example/dew", "https://other.example/dew"),
            ("ssh://git.example/moss", "git@other.example:dew", "git@other.example:dew"),
            ("https://git.localhost/moss", "http://git.localhost/dew", "http://git.localhost/dew"),
        ] {
            assert_eq!(submodule_url(base, way).as_deref(), Ok(wanted), "{base} {way}");
        }
    }

    #[test]
    fn nothing_leads_to_another_host_or_to_this_machine() {
        for (base, way) in [
            ("git://git.example/moss", "shelf/../../secret"),
            ("git://git.example/moss", "/srv/secret"),
            ("git://git.example/moss", "secret"),
            ("https://git.example/moss", "file:///srv/secret"),
            ("https://git.example/moss", "../../other.example/x"),
            ("https://git.example/moss", "../../../other.example/x"),
            ("https://git.example/moss", "../../../../../srv/secret"),
            ("https://git.example/moss", ".././x/../../../other.example/x"),
            ("https://git.example/garden/moss", "./x/../../../../y"),
            ("https://git.example/moss", "http://127.0.0.1:8080/x"),
            ("https://git.example/moss", "https://[::1]/x"),
            ("https://git.example/moss", "git@git.example:garden/secret"),
            ("https://git.example/moss", "ssh://shed/secret"),
            ("ssh://git.example/moss", "shed:secret"),
            ("https://git.example/moss", "ext::sh -c x"),
            ("https://git.example/moss", "-x"),
            ("/srv/git/moss", "shelf/../../secret"),
        ] {
            assert!(submodule_url(base, way).is_err(), "{base} {way}: {:?}", submodule_url(base, way));
        }
    }
}
