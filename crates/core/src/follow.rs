//! Where the releases of a package appear, for catalogues of what others publish.

mod url_pattern;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::fault::Fault;
use crate::name::PackageName;
use crate::tags::TagPattern;
use crate::version::Version;

pub use self::url_pattern::{NamedVersion, UrlPattern};

/// The keys of `follow`.
pub const FOLLOW_KEYS: [&str; 8] =
    ["git", "tags", "page", "links", "registry", "package", "archive", "prereleases"];

/// Where upstream's releases appear, and where the archive of each is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "FollowKeys", into = "FollowKeys")]
pub struct Follow {
    /// Where they appear.
    pub place: FollowedPlace,
    /// Where their archives are; without it, where the archive of the newest release is, with the other version.
    pub archive: Option<UrlPattern>,
    /// Whether early releases count like any other.
    pub prereleases: bool,
}

/// A place where releases appear.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FollowedPlace {
    /// As tags of a git repository.
    Git {
        /// Its URL.
        url: String,
        /// How its tags name releases; without it, as they suggest.
        tags: Option<TagPattern>,
    },
    /// As links of a page or of a feed.
    Page {
        /// Its URL.
        url: String,
        /// The links that name releases; without it, those to archives.
        links: Option<UrlPattern>,
    },
    /// In a registry like ours.
    Registry {
        /// Its URL.
        url: String,
        /// The package's name there; without it, the same.
        package: Option<PackageName>,
    },
}

impl FollowedPlace {
    /// The URL of the place.
    pub fn url(&self) -> &str {
        match self {
            Self::Git { url, .. } | Self::Page { url, .. } | Self::Registry { url, .. } => url,
        }
    }
}

/// `follow` as it is written.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FollowKeys {
    /// The git repository whose tags name the releases.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub git: Option<String>,
    /// How its tags name releases: `v*`, `VER-{major}-{minor}-{patch}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<String>,
    /// The page or feed that links to the releases.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
    /// Which links of the page name releases, where those aren't links to archives: `releases/v{version}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub links: Option<String>,
    /// The registry that has the releases.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub registry: Option<String>,
    /// The package's name there, where it is another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageName>,
    /// Where the archives of releases are: `https://files.example/moss-{version}.tar.gz`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub archive: Option<String>,
    /// Whether early releases count like any other.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub prereleases: bool,
}

impl TryFrom<FollowKeys> for Follow {
    type Error = Fault;

    fn try_from(keys: FollowKeys) -> Result<Self, Fault> {
        let FollowKeys { git, tags, page, links, registry, package, archive, prereleases } = keys;
        let fault = |message: &str, advice: &str| Fault::new("card.follow", message, 0..0).advice(advice);
        let alone = |key: &str, with: &str| {
            fault(&format!("`{key}` in `follow` is only for `{with}`"), &format!("remove `{key}`"))
        };
        let archive: Option<UrlPattern> = archive.map(|text| text.parse()).transpose()?;
        let links: Option<UrlPattern> = links.map(|text| text.parse()).transpose()?;
        if tags.is_some() && git.is_none() {
            return Err(alone("tags", "git"));
        }
        if links.is_some() && page.is_none() {
            return Err(alone("links", "page"));
        }
        if package.is_some() && registry.is_none() {
            return Err(alone("package", "registry"));
        }
        if archive.is_some() && registry.is_some() {
            return Err(alone("archive", "git` and `page"));
        }
        if git.is_none() && [&archive, &links].into_iter().flatten().any(UrlPattern::has_tag) {
            return Err(fault("`{tag}` in `follow` is only for `git`", "write `{version}`"));
        }
        let is_whole = archive.as_ref().is_none_or(UrlPattern::is_whole);
        if !is_whole && (git.is_some() || links.is_some()) {
            return Err(fault("`archive` in `follow` isn't a whole URL", "begin it with `https://`"));
        }
        let place = match (git, page, registry) {
            (Some(url), None, None) => {
                FollowedPlace::Git { url, tags: tags.map(|text| text.parse()).transpose()? }
            }
            (None, Some(url), None) => FollowedPlace::Page { url, links },
            (None, None, Some(url)) => FollowedPlace::Registry { url, package },
            _ => {
                return Err(fault(
                    "`follow` names no place where releases appear, or several",
                    "write one of `git`, `page` and `registry`, with its URL",
                ));
            }
        };
        Ok(Self { place, archive, prereleases })
    }
}

impl From<Follow> for FollowKeys {
    fn from(follow: Follow) -> Self {
        let text = |pattern: UrlPattern| pattern.as_str().to_owned();
        let keys =
            Self { archive: follow.archive.map(text), prereleases: follow.prereleases, ..Self::default() };
        match follow.place {
            FollowedPlace::Git { url, tags } => {
                Self { git: Some(url), tags: tags.map(|tags| tags.to_string()), ..keys }
            }
            FollowedPlace::Page { url, links } => Self { page: Some(url), links: links.map(text), ..keys },
            FollowedPlace::Registry { url, package } => Self { registry: Some(url), package, ..keys },
        }
    }
}

impl JsonSchema for Follow {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Follow".into()
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        FollowKeys::json_schema(generator)
    }
}

/// Which releases of upstream a catalogue lacks, newest first: those above all that it has, and those above the newest that it has of
/// their own line, which is what begins with the same number, or with the same two. What it passed over once isn't news.
pub fn lacking<'v>(has: &[&Version], upstream: impl IntoIterator<Item = &'v Version>) -> Vec<&'v Version> {
    let is_new = |version: &Version| {
        let above = |length: usize| {
            let line = |other: &Version| other.point().numeric[..length] == version.point().numeric[..length];
            let newest = has.iter().filter(|other| line(other)).max();
            newest.map(|newest| **newest < *version)
        };
        // Above all, or above the newest of its line.
        (0..3).any(|length| above(length) == Some(true))
    };
    let mut found: Vec<&Version> = upstream.into_iter().filter(|version| is_new(version)).collect();
    found.sort_unstable_by(|one, other| other.cmp(one));
    found.dedup();
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn follow(json: &str) -> Result<Follow, serde_json::Error> {
        serde_json::from_str(json)
    }

    #[test]
    fn a_place_is_read_and_written_alike() {
        for text in [
            r#"{"git":"https://git.example/moss","tags":"v*","archive":"https://files.example/{tag}.zip"}"#,
            r#"{"page":"https://files.example/","archive":"moss-{version}.zip","prereleases":true}"#,
            r#"{"page":"https://files.example/","links":"r/{version}","archive":"https://files.example/{version}.zip"}"#,
            r#"{"registry":"https://packages.example/","package":"moss/map"}"#,
        ] {
            assert_eq!(serde_json::to_string(&follow(text).unwrap()).unwrap(), text);
        }
        for wrong in [
            r"{}",
            r#"{"git":"https://git.example/moss","page":"https://files.example/"}"#,
            r#"{"page":"https://files.example/","tags":"v*"}"#,
            r#"{"git":"https://git.example/moss","links":"{version}"}"#,
            r#"{"git":"https://git.example/moss","package":"moss"}"#,
            r#"{"git":"https://git.example/moss","archive":"moss-{version}.zip"}"#,
            r#"{"page":"https://files.example/","archive":"https://files.example/{tag}.zip"}"#,
            r#"{"page":"https://files.example/","links":"r/{version}","archive":"{version}.zip"}"#,
            r#"{"registry":"https://packages.example/","archive":"https://files.example/{version}.zip"}"#,
            r#"{"git":"https://git.example/moss","tags":"v"}"#,
            r#"{"git":"https://git.example/moss","branch":"main"}"#,
        ] {
            assert!(follow(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn what_is_above_all_or_above_its_own_line_is_new() {
        let versions =
            |texts: &[&str]| -> Vec<Version> { texts.iter().map(|text| text.parse().unwrap()).collect() };
        for (has, upstream, new) in [
            (&["1.0"][..], &["0.9", "1.0", "1.0.0", "1.0.1", "1.1", "2.0"][..], &["2.0", "1.1", "1.0.1"][..]),
            (&["1.1.0", "3.0"], &["1.1.1", "1.0.9", "2.0", "3.0.1"], &["3.0.1", "1.1.1"]),
            (&["1.0", "1.1.5", "1.2"], &["1.1.3", "1.1.6", "1.2.0", "1.0.1"], &["1.1.6", "1.0.1"]),
            (&["2.0"], &["1.9"], &[]),
        ] {
            let (has, upstream) = (versions(has), versions(upstream));
            let found = lacking(&has.iter().collect::<Vec<_>>(), &upstream);
            assert_eq!(found.iter().map(|version| version.as_str()).collect::<Vec<_>>(), new);
        }
    }
}
