//! All registries of a manifest as one catalogue; the registry of a package is never a guess.

use std::collections::{BTreeMap, HashMap};
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bibliotax_core::advisory::Affecting;
use bibliotax_core::card::{Archive, Card, Entry};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facets;
use bibliotax_core::history::{History, Release};
use bibliotax_core::location::Location;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::manifest::RegistryDeclaration;
use bibliotax_core::name::{FacetName, NamePattern, PackageName, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Listing, Resolution};
use bibliotax_core::source;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::Workspace;
use jiff::Timestamp;
use rayon::prelude::*;

use crate::advisories::Advisories;
use crate::catalogue::connections::Connections;
use crate::catalogue::prefetch::Prefetcher;
use crate::catalogue::registry::Registry;
use crate::catalogue::registry::mirrored::MirrorStatus;
use crate::catalogue::seen_histories::SeenHistories;
use crate::catalogue::stop::Stop;
use crate::client::network::Network;
use crate::model::error::RegistryError;
use crate::model::names::Named;
use crate::search::{Found, Query};
use crate::sources::direct_sources::{DirectSources, Freshness};

/// How many questions are under way at once where registries are behind a network.
const MAX_CONCURRENT_REQUESTS: usize = 16;

/// The registries that a workspace declares, and what its projects take from elsewhere.
pub struct Registries {
    sources: Arc<Sources>,
    facets: Arc<Facets>,
    ahead: Prefetcher,
    /// When patience with a search ends.
    deadline: Option<Instant>,
    stop: Stop,
}

/// Where packages are looked up.
#[derive(Clone)]
struct Sources {
    /// What needs take from folders.
    in_folders: BTreeMap<PackageName, Arc<Listing>>,
    /// What they take from git repositories and archives.
    elsewhere: DirectSources,
    declared: Vec<Declared>,
    /// Where a package comes from by what its need says.
    by_need: HashMap<PackageName, RegistryName>,
    /// Where a package came from before.
    by_lock: HashMap<PackageName, RegistryName>,
    /// The cards that locked releases stay with, though they were corrected since.
    pinned: HashMap<PackageName, PinnedCard>,
    advisories: Advisories,
    /// Nothing later is seen.
    until: Option<Timestamp>,
    now: Timestamp,
}

/// A registry that a manifest declares.
#[derive(Clone)]
pub(crate) struct Declared {
    pub name: RegistryName,
    pub source: Registry,
    owns: Vec<NamePattern>,
    /// What it said before.
    seen: Arc<SeenHistories>,
}

impl Declared {
    /// Whether a package comes from it even where others hold the name, too.
    fn owns(&self, package: &PackageName) -> bool {
        self.owns.iter().any(|pattern| pattern.matches(package))
    }

    /// Whether it owns other packages and not this one.
    fn has_others(&self, package: &PackageName) -> bool {
        !self.owns.is_empty() && !self.owns(package)
    }

    /// The history of a package as it was at a time, as long as nothing vanished of what was seen of it before.
    pub fn history(
        &self,
        package: &PackageName,
        until: Option<Timestamp>,
    ) -> Result<Option<History>, RegistryError> {
        self.source.history_seen(package, until, &self.seen)
    }
}

/// The card that a locked release stays with.
#[derive(Clone)]
struct PinnedCard {
    registry: RegistryName,
    version: Version,
    card: Digest,
}

impl PinnedCard {
    fn of(package: &LockedPackage) -> Option<Self> {
        let registry = package.source.registry()?.clone();
        Some(Self { registry, version: package.version.clone(), card: package.card? })
    }

    fn in_registry(&self, name: &RegistryName) -> Option<(&Version, &Digest)> {
        (self.registry == *name).then_some((&self.version, &self.card))
    }
}

impl Registries {
    /// Opens the registries of a workspace that is in `root`; packages that are locked stay with theirs, and with the
    /// commits that they are at unless they are looked for again.
    pub fn open(
        workspace: &Workspace,
        root: &Path,
        locked: &[LockedPackage],
        freshness: Freshness,
        network: &Network,
        connections: &Connections,
    ) -> Result<Self, RegistryError> {
        let open = |declaration: &RegistryDeclaration| {
            let opened = connections.open(declaration, root, network);
            let has_others = workspace.registries.len() > 1;
            let source = match opened {
                Err(error) if has_others => Registry::unreached(&declaration.name, error)?,
                opened => opened?,
            };
            let (name, owns) = (declaration.name.clone(), declaration.owns.clone());
            let seen = Arc::new(SeenHistories::of(&name, &place_of(declaration, root), network));
            Ok(Declared { name, source, owns, seen })
        };
        let declared = workspace.registries.iter().map(open).collect::<Result<Vec<_>, RegistryError>>()?;
        let by_need =
            workspace.needs().filter_map(|(_, need)| Some((need.package.clone(), need.registry.clone()?)));
        let by_lock = locked.iter();
        let by_lock =
            by_lock.filter_map(|package| Some((package.name.clone(), package.source.registry()?.clone())));
        let charters = workspace.bound.iter().map(|charter| (charter.name.clone(), charter.source.clone()));
        let (by_need, by_lock) = (by_need.collect(), by_lock.chain(charters).collect());
        let staying = locked.iter().filter(|package| !freshness.is_anew(&package.name));
        let pinned = staying.filter_map(|package| Some((package.name.clone(), PinnedCard::of(package)?)));
        let pinned = pinned.collect();
        let facets = Arc::new(facets(workspace, &declared)?);
        let in_folders = workspace.listings().into_iter().map(|(name, listing)| (name, Arc::new(listing)));
        let in_folders = in_folders.collect();
        let elsewhere = DirectSources::of(workspace, root, locked, freshness, network);
        let is_remote = declared.iter().any(|declared| declared.source.is_remote()) || !elsewhere.is_empty();
        let sources = Arc::new(Sources {
            in_folders,
            elsewhere,
            declared,
            by_need,
            by_lock,
            pinned,
            advisories: Advisories::of(workspace, root, network),
            until: None,
            now: network.now,
        });
        let concurrency = network.concurrency.unwrap_or(MAX_CONCURRENT_REQUESTS);
        let ahead = if is_remote { Prefetcher::new(concurrency) } else { Prefetcher::default() };
        Ok(Self { sources, facets, ahead, deadline: None, stop: Stop::default() })
    }

    /// The same registries as they are opened, for another question.
    #[must_use]
    pub fn again(&self) -> Self {
        let (sources, facets) = (Arc::clone(&self.sources), Arc::clone(&self.facets));
        Self { sources, facets, ahead: Prefetcher::default(), deadline: None, stop: Stop::default() }
    }

    /// The same registries, asked by so many threads beside the one that waits for the answers.
    #[must_use]
    pub fn with_fetchers(self, fetchers: usize) -> Self {
        Self { ahead: Prefetcher::new(fetchers), ..self }
    }

    /// The registries as they were at a time: the same answers years later.
    #[must_use]
    pub fn as_of(mut self, until: Option<Timestamp>) -> Self {
        Arc::make_mut(&mut self.sources).until = until;
        self
    }

    /// Whether they are seen as they were at a time.
    pub fn are_of_the_past(&self) -> bool {
        self.sources.until.is_some()
    }

    /// The same registries for a search that gives up after this long, counted from now.
    #[must_use]
    pub fn patient_for(self, effort: Duration) -> Self {
        Self { deadline: Instant::now().checked_add(effort), ..self }
    }

    /// The same registries for a search that gives up once it is stopped.
    #[must_use]
    pub fn until(self, stop: Stop) -> Self {
        Self { stop, ..self }
    }

    /// Asks at once for all that these needs can reach, where that is one question instead of many.
    pub fn prefetch_closure(&self, needs: &[(PackageName, Range)]) {
        for declared in &self.sources.declared {
            declared.source.prefetch_closure(needs);
        }
    }

    /// How many places may have an archive of a package.
    pub fn places(&self, package: &PackageName, source: &source::Source, archive: &Archive) -> usize {
        match (self.registry(package, source), &archive.url) {
            (Ok(registry), None) => registry.places(),
            _ => 1,
        }
    }

    /// Opens an archive of a package at one of the places that may have it, numbered from 0 with the best first, with who that is
    /// where there are several; its bytes are yet to be checked. Where it [may break off](Self::is_resumable), it is opened from a
    /// byte on.
    pub fn open_archive(
        &self,
        package: &PackageName,
        source: &source::Source,
        archive: &Archive,
        place: usize,
        from: u64,
    ) -> Result<(Box<dyn Read + Send>, Option<String>), RegistryError> {
        let elsewhere = &self.sources.elsewhere;
        let opened = match (source, &archive.url) {
            (source::Source::Registry(_), None) => {
                return self.registry(package, source)?.open_archive(package, archive, place, from);
            }
            (source::Source::Registry(_), Some(url)) => {
                let registry = self.registry(package, source)?;
                match elsewhere.open_url(package, url, registry.is_inside()) {
                    // A mirror may have kept what isn't there any more.
                    Err(error) if is_away(&error) || matches!(error, RegistryError::NoArchive { .. }) => {
                        return registry.open_archive(package, archive, 0, from).map_err(|_| error);
                    }
                    opened => opened?,
                }
            }
            (source, _) => elsewhere.open_archive(package, source, archive)?,
        };
        Ok((opened, None))
    }

    /// The other registries that have a package of this name, where only the lock says which one is meant.
    pub fn also_in(
        &self,
        package: &PackageName,
        source: &source::Source,
    ) -> Result<Vec<RegistryName>, RegistryError> {
        let Some(registry) = source.registry() else { return Ok(Vec::new()) };
        let is_settled = self.sources.by_need.contains_key(package)
            || self.sources.declared.iter().any(|declared| declared.owns(package));
        let others =
            self.sources.declared.iter().filter(|declared| !is_settled && declared.name != *registry);
        let has = |declared: &Declared| {
            let history = match declared.history(package, self.sources.until) {
                Err(error) if is_away(&error) => None,
                history => history?,
            };
            Ok(history.is_some_and(|history| history.providers().is_empty()).then(|| declared.name.clone()))
        };
        others.filter_map(|declared| has(declared).transpose()).collect()
    }

    /// Whether a package's history may say that a release doesn't stand any more: a look at its text, which is far quicker than to
    /// read what it says.
    pub fn may_be_troubled(&self, package: &PackageName, source: &source::Source) -> bool {
        let registry = matches!(source, source::Source::Registry(_)).then(|| self.registry(package, source));
        let text = registry.and_then(|registry| registry.ok()?.history_text(package).ok()?);
        text.is_some_and(|text| ["withdrawn", "deprecated"].iter().any(|word| text.contains(word)))
    }

    /// Whether an archive comes over a network, where it may break off, and can be read from any byte on.
    pub fn is_resumable(&self, package: &PackageName, source: &source::Source, archive: &Archive) -> bool {
        let is_of_registry = matches!(source, source::Source::Registry(_)) && archive.url.is_none();
        is_of_registry && self.registry(package, source).is_ok_and(|registry| registry.is_remote())
    }

    /// Whether a commit is what its tag names, or is on its branch, in the repository that a package is locked to.
    pub fn has_commit(
        &self,
        package: &PackageName,
        source: &source::GitSource,
    ) -> Result<bool, RegistryError> {
        self.sources.elsewhere.has_commit(package, source)
    }

    /// A package from no registry with just the release that it is locked to, by its files in the store.
    pub fn listing_in_store(&self, package: &PackageName) -> Result<Option<Listing>, RegistryError> {
        self.sources.elsewhere.listing_in_store(package)
    }

    /// Works out which bytes the chosen packages are that come from no registry.
    pub fn complete(&self, resolution: &mut Resolution) -> Result<(), RegistryError> {
        self.sources.elsewhere.complete(resolution)
    }

    fn registry(&self, package: &PackageName, source: &source::Source) -> Result<&Registry, RegistryError> {
        let declared = source.registry().and_then(|registry| self.sources.named(registry));
        let undeclared =
            || RegistryError::Undeclared { package: package.clone(), registry: source.to_string() };
        declared.map(|declared| &declared.source).ok_or_else(undeclared)
    }

    /// Finds packages by words in each registry; what makes searching fast is kept below `cache`.
    pub fn find(
        &self,
        query: &Query,
        cache: &Path,
        now: Timestamp,
    ) -> Vec<(RegistryName, Result<Found, RegistryError>)> {
        let find = |declared: &Declared| declared.source.find(query, &self.facets, cache, now);
        let declared = self.sources.declared.par_iter();
        declared.map(|declared| (declared.name.clone(), find(declared))).collect()
    }

    /// What is known of the packages whose names begin with a text, in each registry that knows any, at once.
    pub fn beginning_with(&self, text: &str, most: usize, cache: &Path) -> Vec<(RegistryName, Named)> {
        let of_one = |declared: &Declared| -> Vec<(RegistryName, Named)> {
            // A registry that can't say is no reason to say nothing of the others.
            let found = declared.source.beginning_with(text, most, cache).unwrap_or_default();
            found.into_iter().map(|named| (declared.name.clone(), named)).collect()
        };
        self.sources.declared.iter().flat_map(of_one).collect()
    }

    /// Brings what makes that fast up to date.
    pub fn follow_names(&self) {
        self.sources.declared.iter().for_each(|declared| declared.source.follow_names());
    }

    /// The full card of a release; from a registry it has to be what its entry names.
    pub fn card(&self, listing: &Listing, release: &Release) -> Result<Card, RegistryError> {
        let Entry { name, version, card: digest, .. } = &release.entry;
        if let Some((_, card)) = listing.own.get(version) {
            return Ok(card.clone());
        }
        let text = self.card_text(name, &listing.source, digest)?;
        let wrong = |_| RegistryError::WrongCard { package: name.clone(), digest: *digest };
        serde_json::from_str(&text).map_err(wrong)
    }

    /// The text of a card as it was published, checked.
    pub fn card_text(
        &self,
        package: &PackageName,
        source: &source::Source,
        digest: &Digest,
    ) -> Result<String, RegistryError> {
        self.registry(package, source)?.card_text(package, digest)
    }

    /// Where each mirror of a registry stands with a package.
    pub fn mirror_statuses(&self, package: &PackageName, source: &source::Source) -> Vec<MirrorStatus> {
        self.registry(package, source).map(|registry| registry.mirror_statuses(package)).unwrap_or_default()
    }

    /// What people should know of who answers, feeds of advisories among them.
    pub fn warnings(&self) -> Vec<String> {
        let of_sources = self.sources.elsewhere.warnings().into_iter();
        let of_feeds = self.sources.advisories.warnings();
        self.warnings_of_registries().into_iter().chain(of_sources).chain(of_feeds).collect()
    }

    /// What people should know of the registries that answer.
    pub fn warnings_of_registries(&self) -> Vec<String> {
        let of_one = |declared: &Declared| {
            let accepted = declared.seen.accepted().into_iter();
            declared.source.warning(&declared.name).into_iter().chain(accepted)
        };
        self.sources.declared.iter().flat_map(of_one).collect()
    }

    /// Remembers what registries said, so that what changes later is noticed.
    pub fn remember(&self) {
        self.sources.declared.iter().for_each(|declared| declared.seen.note());
    }

    /// The advisories of the feeds.
    pub fn feeds(&self) -> &Advisories {
        &self.sources.advisories
    }

    /// The names of all packages in all registries; for suggestions.
    pub fn names(&self) -> Vec<PackageName> {
        self.sources.declared.iter().flat_map(|declared| declared.source.names()).collect()
    }

    pub(crate) fn declared(&self) -> &[Declared] {
        &self.sources.declared
    }

    pub(crate) fn elsewhere(&self) -> &DirectSources {
        &self.sources.elsewhere
    }

    /// A package, where it is clear which one is meant.
    pub(crate) fn listing_of(&self, package: &PackageName) -> Option<Arc<Listing>> {
        self.listing(package).ok().flatten()
    }

    /// Whether no registry is declared at all.
    pub fn is_empty(&self) -> bool {
        self.sources.declared.is_empty()
    }
}

impl Sources {
    fn named(&self, name: &RegistryName) -> Option<&Declared> {
        self.declared.iter().find(|declared| declared.name == *name)
    }

    fn look_up(&self, package: &PackageName) -> Result<Option<Arc<Listing>>, RegistryError> {
        if let Some(listing) = self.in_folders.get(package) {
            return Ok(Some(Arc::clone(listing)));
        }
        if let Some(listing) = self.elsewhere.listing(package)? {
            return Ok(Some(Arc::new(listing)));
        }
        let (mut found, mut unreached) = (Vec::new(), None);
        for declared in self.candidates(package) {
            match declared.history(package, self.until) {
                Ok(Some(mut history)) => {
                    if let Some((version, card)) =
                        self.pinned.get(package).and_then(|pinned| pinned.in_registry(&declared.name))
                    {
                        history.pin(version, card);
                    }
                    found.push(Listing::new(declared.name.clone().into(), history));
                }
                Ok(None) => {}
                // A registry says with `owns` what no other one may have; what it may have beside that, others have, too.
                Err(error) if is_away(&error) && declared.has_others(package) => {
                    unreached = unreached.or(Some(error));
                }
                Err(error) => return Err(error),
            }
        }
        if let Some(error) = unreached.filter(|_| found.is_empty()) {
            return Err(error);
        }
        if found.iter().all(|listing| !listing.history.providers().is_empty()) {
            // A capability has the providers of all registries.
            return Ok(found.into_iter().reduce(|one, other| together(one, &other)).map(Arc::new));
        }
        if found.len() > 1 {
            let registries = found.into_iter().map(|listing| listing.source.to_string()).collect();
            return Err(RegistryError::Ambiguous { package: package.clone(), registries });
        }
        Ok(found.pop().map(Arc::new))
    }

    /// The registries that a package may come from: the one that its need names, else those that own it,
    /// else the one that it is locked to, else all.
    fn candidates(&self, package: &PackageName) -> Vec<&Declared> {
        if let Some(declared) = self.by_need.get(package).and_then(|name| self.named(name)) {
            return vec![declared];
        }
        let owners: Vec<&Declared> = self.declared.iter().filter(|declared| declared.owns(package)).collect();
        if !owners.is_empty() {
            return owners;
        }
        match self.by_lock.get(package).and_then(|name| self.named(name)) {
            Some(declared) => vec![declared],
            None => self.declared.iter().collect(),
        }
    }
}

impl Catalogue for Registries {
    type Error = RegistryError;

    fn is_out_of_time(&self) -> bool {
        self.stop.is_stopped() || self.deadline.is_some_and(|deadline| Instant::now() > deadline)
    }

    fn listing(&self, package: &PackageName) -> Result<Option<Arc<Listing>>, RegistryError> {
        self.ahead.get(package, |package| self.sources.look_up(package))
    }

    fn advisories(&self, listing: &Listing) -> Result<Arc<[Affecting]>, RegistryError> {
        self.sources.advisories.affecting(listing, &self.sources.elsewhere)
    }

    fn now(&self) -> Timestamp {
        self.sources.until.unwrap_or(self.sources.now)
    }

    fn facets(&self) -> Arc<Facets> {
        Arc::clone(&self.facets)
    }

    fn prefetch(&self, packages: &[PackageName]) {
        let sources = Arc::clone(&self.sources);
        self.ahead.prefetch(packages, move |package| sources.look_up(package).ok());
    }
}

/// All facets that the manifests and the registries define, after a look at what the manifests say of them.
fn facets(workspace: &Workspace, declared: &[Declared]) -> Result<Facets, RegistryError> {
    let mut facets = Facets::default();
    let mut definers: BTreeMap<FacetName, String> = BTreeMap::new();
    let of_registries = declared.iter().map(|declared| (declared.name.to_string(), declared.source.facets()));
    for (definer, defined) in of_registries.chain([("the manifest".to_owned(), &workspace.facets)]) {
        for (name, facet) in defined {
            facets.define(name, facet).map_err(|there| {
                let first = definers.get(name).map_or("bibliotax itself", String::as_str);
                let definitions =
                    [(first.to_owned(), Box::new(there)), (definer.clone(), Box::new(facet.clone()))];
                RegistryError::FacetClash { facet: name.clone(), definitions }
            })?;
            definers.entry(name.clone()).or_insert_with(|| definer.clone());
        }
    }
    for place in workspace.places() {
        let target = (!place.is_promise).then(|| place.name.clone());
        facets.check(&place.values).map_err(|problem| RegistryError::Facet { target, problem })?;
    }
    Ok(facets)
}

/// Whether nobody answered.
fn is_away(error: &RegistryError) -> bool {
    matches!(error, RegistryError::Unreachable { .. } | RegistryError::NoMirrorAnswers)
}

/// What a registry's place is remembered under: its URL, or the whole path of its folder.
pub fn place_of(declaration: &RegistryDeclaration, root: &Path) -> String {
    let url = declaration.url.trim_end_matches('/');
    match Location::of(url).path() {
        None => url.to_owned(),
        Some(path) => {
            let folder = root.join(path);
            let whole = folder.canonicalize().unwrap_or(folder);
            whole.to_string_lossy().into_owned()
        }
    }
}

/// A capability with the providers of both.
fn together(mut one: Listing, other: &Listing) -> Listing {
    other.history.providers().iter().for_each(|provider| one.history.add_provider(provider.clone()));
    one
}
