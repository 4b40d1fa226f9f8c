//! Which releases upstream has, found where a card says that they appear.

pub mod links;

use std::collections::BTreeMap;
use std::path::Path;

use bibliotax_core::card::Card;
use bibliotax_core::follow::{Follow, FollowedPlace, NamedVersion, UrlPattern};
use bibliotax_core::history::{History, Release};
use bibliotax_core::manifest::{Allowed, RegistryDeclaration};
use bibliotax_core::name::{PackageName, RegistryName};
use bibliotax_core::source::CommitId;
use bibliotax_core::tags::{TagPattern, proposed};
use bibliotax_core::version::Version;
use jiff::Timestamp;
use url::Url;

use self::links::links_in;
use crate::catalogue::registry::Registry;
use crate::model::error::RegistryError;
use crate::model::private_hosts::leads_inside;
use crate::sources::direct_sources::DirectSources;

/// A release as upstream has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UpstreamRelease {
    /// Its version.
    pub version: Version,
    /// As upstream writes it.
    pub text: String,
    /// When it appeared, where the place says that.
    pub at: Option<Timestamp>,
    /// What it is made of.
    pub form: ReleaseForm,
}

/// What a release of upstream is made of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReleaseForm {
    /// As a commit that has a tag.
    Commit {
        /// The tag.
        tag: String,
        /// The commit.
        commit: CommitId,
    },
    /// As an archive that a page links to; without one, at the place that the version gives.
    Archive(Option<String>),
    /// As a release of another registry.
    InRegistry,
}

impl UpstreamRelease {
    /// How upstream names it.
    pub fn named(&self) -> NamedVersion<'_> {
        let tag = match &self.form {
            ReleaseForm::Commit { tag, .. } => Some(tag.as_str()),
            _ => None,
        };
        NamedVersion { version: &self.version, text: &self.text, tag }
    }
}

/// Looks for what upstream has.
pub struct Upstream<'u> {
    /// Fetches pages and archives, and knows repositories.
    pub sources: &'u DirectSources,
    /// Whether places may be asked that only this machine or its network reaches.
    pub is_inside: bool,
}

impl Upstream<'_> {
    /// The releases that upstream has, oldest first, where the newest card of a package says that they appear. Early ones only where
    /// they are followed.
    pub fn releases(&self, newest: &Card, follow: &Follow) -> Result<Vec<UpstreamRelease>, RegistryError> {
        let name = &newest.name;
        let found = match &follow.place {
            FollowedPlace::Git { url, tags } => self.tagged(name, url, tags.as_ref())?,
            FollowedPlace::Page { url, links } => {
                let links = links.as_ref().or(follow.archive.as_ref());
                self.linked(newest, url, links, follow)?
            }
            FollowedPlace::Registry { url, package } => {
                let package = package.as_ref().unwrap_or(name);
                let (_, history) = self.registry(name, url, package)?;
                history
                    .releases()
                    .iter()
                    .filter(|release| release.withdrawn.is_none())
                    .map(of_registry)
                    .collect()
            }
        };
        let takes_early = follow.prereleases || newest.version.is_pre();
        Ok(found.into_iter().filter(|release| takes_early || !release.version.is_pre()).collect())
    }

    fn tagged(
        &self,
        package: &PackageName,
        url: &str,
        pattern: Option<&TagPattern>,
    ) -> Result<Vec<UpstreamRelease>, RegistryError> {
        self.check_place(package, url)?;
        let refs = self.sources.refs_of(package, url)?;
        let tags = || refs.tags.keys().map(String::as_str);
        let nothing = |what: String| RegistryError::NothingToFollow { url: url.to_owned(), what };
        let suggested = || proposed(tags(), package.as_str()).into_iter().next().map(|(pattern, _)| pattern);
        let pattern = pattern.cloned().or_else(suggested);
        let pattern = pattern.ok_or_else(|| nothing("none of its tags names a release".to_owned()))?;
        let read = pattern.releases(tags());
        if read.releases.is_empty() {
            return Err(nothing(format!("none of its {} tags is like `{pattern}`", refs.tags.len())));
        }
        let release = |(version, tag): (Version, &str)| {
            let text = pattern.text_of(tag).map_or_else(|| version.to_string(), str::to_owned);
            let form = ReleaseForm::Commit { tag: tag.to_owned(), commit: refs.tags.get(tag)?.clone() };
            Some(UpstreamRelease { version, text, at: None, form })
        };
        Ok(read.releases.into_iter().filter_map(release).collect())
    }

    fn linked(
        &self,
        newest: &Card,
        url: &str,
        pattern: Option<&UrlPattern>,
        follow: &Follow,
    ) -> Result<Vec<UpstreamRelease>, RegistryError> {
        let nothing = |what: String| RegistryError::NothingToFollow { url: url.to_owned(), what };
        let pattern = match pattern {
            Some(pattern) => pattern.clone(),
            None => pattern_of(newest).ok_or_else(|| {
                nothing(format!(
                    "the URL of {} {} doesn't have its version in it, so `follow` has to say `archive`",
                    newest.name, newest.version
                ))
            })?,
        };
        let text = self.sources.page(&newest.name, url, self.is_inside)?;
        let place = Url::parse(url).map_err(|_| nothing("it isn't a URL".to_owned()))?;
        let links = links_in(&text, &place);
        let are_archives = !matches!(&follow.place, FollowedPlace::Page { links: Some(_), .. });
        let mut found: BTreeMap<Version, UpstreamRelease> = BTreeMap::new();
        for link in &links {
            let Some((version, text)) = pattern.release_of(&link.url) else { continue };
            let text = if text.is_empty() { version.to_string() } else { text.to_owned() };
            let form = ReleaseForm::Archive(are_archives.then(|| link.url.clone()));
            let release = UpstreamRelease { version: version.clone(), text, at: link.at, form };
            found.entry(version).or_insert(release);
        }
        if found.is_empty() {
            return Err(nothing(format!("none of its {} links is like `{pattern}`", links.len())));
        }
        Ok(found.into_values().collect())
    }

    /// The registry at a URL that a card names, with what it has of the package that is followed there.
    pub fn registry(
        &self,
        package: &PackageName,
        url: &str,
        there: &PackageName,
    ) -> Result<(Registry, History), RegistryError> {
        self.check_place(package, url)?;
        let declaration = RegistryDeclaration {
            name: upstream_name(),
            url: url.to_owned(),
            mirrors: Vec::new(),
            allowed: Allowed::default(),
            owns: Vec::new(),
            span: 0..0,
        };
        let registry = Registry::open(&declaration, Path::new(""), self.sources.network())?;
        let nothing = || RegistryError::NothingToFollow {
            url: url.to_owned(),
            what: format!("it has no package {there}"),
        };
        let history = registry.history(there)?.ok_or_else(nothing)?;
        Ok((registry, history))
    }

    /// A place that a card names is asked only where it may be.
    fn check_place(&self, package: &PackageName, url: &str) -> Result<(), RegistryError> {
        let leads = || Url::parse(url).is_ok_and(|url| leads_inside(&url));
        if self.is_inside || !leads() {
            return Ok(());
        }
        Err(RegistryError::InnerUrl { package: package.clone(), url: url.to_owned() })
    }
}

fn of_registry(release: &Release) -> UpstreamRelease {
    let entry = &release.entry;
    let text = entry.upstream_version.as_ref().map_or(entry.version.as_str(), |text| text.as_str());
    UpstreamRelease {
        version: entry.version.clone(),
        text: text.to_owned(),
        at: entry.dated(),
        form: ReleaseForm::InRegistry,
    }
}

/// What a registry is called that only a card names.
fn upstream_name() -> RegistryName {
    "upstream".parse().unwrap_or_else(|_| unreachable!("it is a name"))
}

/// Where the archives of a package are, by the URL of its newest release's.
fn pattern_of(newest: &Card) -> Option<UrlPattern> {
    let url = newest.files.iter().find_map(|file| file.url.as_deref())?;
    UrlPattern::of_url(url, named_by(newest, None))
}

/// How upstream names the version of a card.
pub fn named_by<'c>(card: &'c Card, tag: Option<&'c str>) -> NamedVersion<'c> {
    let text = card.upstream_version.as_ref().map_or(card.version.as_str(), |text| text.as_str());
    NamedVersion { version: &card.version, text, tag }
}
