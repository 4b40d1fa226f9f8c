//! What records and packages are looked up by.

use std::fmt;

use super::ECOSYSTEM;
use crate::card::Entry;
use crate::name::PackageName;
use crate::package_url::PackageUrl;
use crate::source::Source;

/// A name that both a record and a package can have.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key(String);

impl Key {
    /// The key of a package of ours.
    pub fn of_package(name: &str) -> Self {
        Self(format!("{ECOSYSTEM}/{name}"))
    }

    /// The key of upstream software, by its package URL.
    pub fn of_url(url: &PackageUrl) -> Self {
        Self(url.base().to_owned())
    }

    /// The key of a repository; none of a text that names no host.
    pub fn of_repository(url: &str) -> Option<Self> {
        let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
        // `git@host:owner/name`, as some people write it.
        let rest = rest.rsplit_once('@').map_or(rest, |(_, rest)| rest).replacen(':', "/", 1);
        let rest = rest.trim_end_matches('/');
        let rest = rest.strip_suffix(".git").unwrap_or(rest).to_lowercase();
        let is_host = rest.split('/').next().is_some_and(|host| host.contains('.') && !host.starts_with('.'));
        is_host.then(|| Self(format!("git:{rest}")))
    }

    /// The key of the package of an ecosystem, where that has a type of package URLs.
    pub(super) fn of_ecosystem(ecosystem: &str, name: &str) -> Option<Self> {
        let ecosystem = ecosystem.split(':').next().unwrap_or(ecosystem);
        if ecosystem == ECOSYSTEM {
            return Some(Self::of_package(name));
        }
        let (_, kind) = PURL_TYPES.iter().find(|(known, _)| *known == ecosystem)?;
        let name = if *kind == "maven" { name.replace(':', "/") } else { name.to_owned() };
        let name = name.replace('@', "%40");
        format!("pkg:{kind}/{name}").parse().ok().map(|url| Self::of_url(&url))
    }

    /// The key as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// Ecosystems of the OSV format with their types of package URLs.
const PURL_TYPES: [(&str, &str); 16] = [
    ("npm", "npm"),
    ("PyPI", "pypi"),
    ("crates.io", "cargo"),
    ("Go", "golang"),
    ("Maven", "maven"),
    ("NuGet", "nuget"),
    ("RubyGems", "gem"),
    ("Packagist", "composer"),
    ("Hex", "hex"),
    ("Pub", "pub"),
    ("ConanCenter", "conan"),
    ("Hackage", "hackage"),
    ("CRAN", "cran"),
    ("SwiftURL", "swift"),
    ("GitHub Actions", "github"),
    ("Bitnami", "bitnami"),
];

/// The keys that a release is looked up by.
pub fn keys_of_release(name: &PackageName, entry: &Entry, source: &Source) -> Vec<Key> {
    let upstream = entry.upstream.iter().flat_map(|url| [Some(Key::of_url(url)), repository_of(url)]);
    let repository = source.git().and_then(|git| Key::of_repository(&git.git));
    [Some(Key::of_package(name.as_str()))].into_iter().chain(upstream).chain([repository]).flatten().collect()
}

/// The repository of upstream software on a host whose package URLs name repositories.
pub(super) fn repository_of(url: &PackageUrl) -> Option<Key> {
    let hosts =
        [("pkg:github/", "github.com"), ("pkg:gitlab/", "gitlab.com"), ("pkg:bitbucket/", "bitbucket.org")];
    let found = hosts.iter().find_map(|(kind, host)| Some((host, url.base().strip_prefix(kind)?)));
    found.and_then(|(host, path)| Key::of_repository(&format!("https://{host}/{path}")))
}
