//! Which releases of a package records affect.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::affected::CommitHistory;
use super::key::{Key, repository_of};
use super::{Advisory, Severity};
use crate::card::Entry;
use crate::history::Release;
use crate::source::Source;
use crate::version::Version;

/// An advisory, with the releases of one package that it affects.
#[derive(Debug, Clone, PartialEq)]
pub struct Affecting {
    /// The advisory; of several about one thing the one that speaks of our package, else the first by name.
    pub advisory: Arc<Advisory>,
    /// All names of it.
    pub names: BTreeSet<String>,
    /// How bad it is by the worst of its records.
    pub severity: Severity,
    /// The releases.
    pub versions: BTreeSet<Version>,
}

impl Affecting {
    /// The nearest release behind a version that it doesn't affect.
    pub fn fixed_after<'r>(&self, version: &Version, releases: &'r [Release]) -> Option<&'r Version> {
        let mut later = releases.iter().filter(|release| release.withdrawn.is_none());
        let is_fixed = |release: &&Release| {
            release.entry.version > *version && !self.versions.contains(&release.entry.version)
        };
        later.find(is_fixed).map(|release| &release.entry.version)
    }

    /// Whether a release is the first behind an affected one that isn't.
    pub fn is_fixed_by(&self, version: &Version, before: Option<&Version>) -> bool {
        !self.versions.contains(version) && before.is_some_and(|before| self.versions.contains(before))
    }
}

/// What records affect which of these releases of a package, each with where it comes from, the worst first; those about one thing are
/// one.
pub fn affecting(
    releases: &[(&Release, &Source)],
    records: &[Arc<Advisory>],
    history: &dyn CommitHistory,
) -> Vec<Affecting> {
    let mut found: Vec<Affecting> = Vec::new();
    for record in records {
        let affected =
            releases.iter().filter(|(release, source)| affects(record, &release.entry, source, history));
        let versions: BTreeSet<Version> =
            affected.map(|(release, _)| release.entry.version.clone()).collect();
        if !versions.is_empty() {
            let names = record.aliases.iter().chain([&record.id]).cloned().collect();
            found.push(Affecting {
                advisory: Arc::clone(record),
                names,
                severity: record.severity(),
                versions,
            });
        }
    }
    let mut merged = merged(found);
    merged.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.advisory.id.cmp(&b.advisory.id)));
    merged
}

/// Whether a record affects a release from a source.
fn affects(record: &Advisory, entry: &Entry, source: &Source, history: &dyn CommitHistory) -> bool {
    let ours = Key::of_package(entry.name.as_str());
    let repository = source.git().and_then(|git| Some((Key::of_repository(&git.git)?, &git.commit)));
    let upstream = || entry.upstream.iter().filter_map(|url| Some((url, url.version()?)));
    record.affected.iter().any(|affected| {
        let is_named = |key: &Key| affected.package.as_ref() == Some(key);
        is_named(&ours) && affected.affects_ours(&entry.version)
            || upstream().any(|(url, version)| {
                let of_repository = repository_of(url);
                let names_repository = || {
                    affected.commits.iter().any(|commits| Some(&commits.repository) == of_repository.as_ref())
                };
                (is_named(&Key::of_url(url)) || names_repository()) && affected.affects_upstream(version)
            })
            || repository.as_ref().is_some_and(|(key, commit)| affected.affects_commit(key, commit, history))
    })
}

/// The same with those that share a name joined.
fn merged(found: Vec<Affecting>) -> Vec<Affecting> {
    let mut groups: BTreeMap<usize, Affecting> = BTreeMap::new();
    for (number, mut one) in found.into_iter().enumerate() {
        let alike: Vec<usize> = groups
            .iter()
            .filter(|(_, other)| !other.names.is_disjoint(&one.names))
            .map(|(number, _)| *number)
            .collect();
        for other in alike.into_iter().filter_map(|number| groups.remove(&number)) {
            one = joined(other, one);
        }
        groups.insert(number, one);
    }
    groups.into_values().collect()
}

fn joined(one: Affecting, other: Affecting) -> Affecting {
    // What was written about our own package says most to us.
    let rank = |affecting: &Affecting| {
        let is_ours = affecting.advisory.affected.iter().any(|affected| affected.is_ours);
        (!is_ours, affecting.advisory.id.clone())
    };
    let severity = one.severity.max(other.severity);
    let (first, second) = if rank(&one) <= rank(&other) { (one, other) } else { (other, one) };
    Affecting {
        names: first.names.union(&second.names).cloned().collect(),
        versions: first.versions.union(&second.versions).cloned().collect(),
        severity,
        ..first
    }
}
