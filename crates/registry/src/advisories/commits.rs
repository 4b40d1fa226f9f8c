//! The histories of the repositories that packages come from, for records that speak of commits.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;

use bibliotax_core::advisory::CommitHistory;
use bibliotax_core::history::Release;
use bibliotax_core::name::PackageName;
use bibliotax_core::source::{CommitId, GitSource, Source};

use crate::model::mutex::lock;
use crate::sources::direct_sources::DirectSources;

/// The histories of one package's commits, each walked when it is first asked about.
pub struct Commits<'s> {
    package: Option<PackageName>,
    places: BTreeMap<CommitId, GitSource>,
    sources: &'s DirectSources,
    /// What each commit was built on, with itself.
    known: Mutex<BTreeMap<CommitId, Option<BTreeSet<String>>>>,
}

impl<'s> Commits<'s> {
    /// Those of a package's releases.
    pub fn of(releases: &[(&Release, &Source)], sources: &'s DirectSources) -> Self {
        let places = releases.iter().filter_map(|(_, source)| source.git());
        let places = places.map(|git| (git.commit.clone(), git.clone())).collect();
        let package = releases.first().map(|(release, _)| release.entry.name.clone());
        Self { package, places, sources, known: Mutex::default() }
    }

    fn history(&self, commit: &CommitId) -> Option<BTreeSet<String>> {
        let (package, place) = (self.package.as_ref()?, self.places.get(commit)?);
        self.sources.history_of(package, place).ok()
    }
}

impl CommitHistory for Commits<'_> {
    fn leads_to(&self, commit: &str, other: &CommitId) -> Option<bool> {
        let mut known = lock(&self.known);
        let history = known.entry(other.clone()).or_insert_with(|| self.history(other));
        history.as_ref().map(|history| history.contains(commit))
    }

    fn comes_before(&self, other: &CommitId, commit: &str) -> Option<bool> {
        let (package, place) = (self.package.as_ref()?, self.places.get(other)?);
        self.sources.is_before(package, place, commit).ok()
    }
}
