//! Merges locks package by package: what each side chose, for the resolver to hold as far as it can.

use std::collections::{BTreeMap, BTreeSet};

use super::{Side, changed};
use crate::charter::LockedCharter;
use crate::digest::Digest;
use crate::lock::{Lock, LockedPackage, LockedProject};
use crate::name::{PackageName, RegistryName};
use crate::version::Version;

/// What is known of one side's lock: all of it, or the packages that could be read.
#[derive(Debug, Clone, Default)]
pub struct LockSide {
    /// The lock, where it can be trusted.
    pub lock: Option<Lock>,
    /// Its packages, sorted by name.
    pub packages: Vec<LockedPackage>,
    /// Its charters, sorted by name.
    pub charters: Vec<LockedCharter>,
}

impl LockSide {
    /// A whole lock.
    pub fn of(lock: Lock) -> Self {
        Self { packages: lock.packages.clone(), charters: lock.charters.clone(), lock: Some(lock) }
    }

    /// Whether there is no lock, from which nothing follows for any package.
    fn is_missing(&self) -> bool {
        self.lock.is_none() && self.packages.is_empty()
    }

    fn package(&self, name: &PackageName) -> Option<&LockedPackage> {
        let at = self.packages.binary_search_by(|package| package.name.cmp(name)).ok()?;
        Some(&self.packages[at])
    }
}

/// A package that both sides moved, each to another release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BothMoved {
    /// The package.
    pub name: PackageName,
    /// Our release.
    pub ours: Version,
    /// Theirs.
    pub theirs: Version,
    /// The side whose release is taken first.
    pub preferred: Side,
}

impl BothMoved {
    /// The release of a side.
    pub fn of(&self, side: Side) -> &Version {
        match side {
            Side::Ours => &self.ours,
            Side::Theirs => &self.theirs,
        }
    }
}

/// What two locks come to.
#[derive(Debug, Clone, Default)]
pub struct MergedLock {
    /// The packages, each as one of the sides has it, sorted by name. Nobody has seen yet whether they go together.
    pub packages: Vec<LockedPackage>,
    /// The charters' releases, each as one of the sides has it, sorted by name: the newer of what both moved.
    pub charters: Vec<LockedCharter>,
    /// The packages that both sides moved to different releases.
    pub both_moved: Vec<BothMoved>,
}

/// Merges the packages of two locks that came from one: what only one side changed is as that side has it; of what both changed, the
/// newer release is taken first.
pub fn merge_locks(base: &LockSide, ours: &LockSide, theirs: &LockSide) -> MergedLock {
    let chosen = |side: &'_ LockSide| if side.is_missing() { base.clone() } else { side.clone() };
    let sides = [base, &chosen(ours), &chosen(theirs)];
    let names: BTreeSet<&PackageName> =
        sides.iter().flat_map(|side| side.packages.iter().map(|package| &package.name)).collect();
    let charters = sides.map(|side| side.charters.as_slice());
    let mut merged = MergedLock { charters: merged_charters(charters), ..MergedLock::default() };
    for name in names {
        let [before, our, their] = sides.map(|side| side.package(name));
        match changed(before, our, their) {
            Some(package) => merged.packages.extend(package.cloned()),
            None => merged.add_both_changed(before, our, their),
        }
    }
    merged
}

impl MergedLock {
    /// Takes a package that both sides have otherwise than before.
    fn add_both_changed(
        &mut self,
        before: Option<&LockedPackage>,
        ours: Option<&LockedPackage>,
        theirs: Option<&LockedPackage>,
    ) {
        let (ours, theirs) = match (ours, theirs) {
            (Some(ours), Some(theirs)) => (ours, theirs),
            // Gone on one side and moved on the other: who still needs it has it as it is there.
            (one, other) => return self.packages.extend(one.or(other).cloned()),
        };
        // What a release is needed for is worked out anew, so it is releases and sources that count.
        let release = |package: &'_ LockedPackage| (package.version.clone(), package.source.clone());
        let [was, our, their] = [before.map(release), Some(release(ours)), Some(release(theirs))];
        let side = match changed(was.as_ref(), our.as_ref(), their.as_ref()) {
            Some(taken) if taken == their.as_ref() && our != their => Side::Theirs,
            Some(_) => Side::Ours,
            None => {
                let preferred = if theirs.version > ours.version { Side::Theirs } else { Side::Ours };
                self.both_moved.push(BothMoved {
                    name: ours.name.clone(),
                    ours: ours.version.clone(),
                    theirs: theirs.version.clone(),
                    preferred,
                });
                preferred
            }
        };
        self.packages.push(if side == Side::Ours { ours.clone() } else { theirs.clone() });
    }

    /// A lock of these packages that nothing is made from: the next command that writes works it out from the manifests, and stays with
    /// these releases. `None` where a side can't be trusted, so that there is nothing to stand on.
    pub fn unfinished(&self, base: &LockSide, ours: &LockSide, theirs: &LockSide) -> Option<Lock> {
        let (our, their) = (ours.lock.as_ref()?, theirs.lock.as_ref()?);
        let registries: BTreeMap<RegistryName, Option<String>> =
            their.registries.clone().into_iter().chain(our.registries.clone()).collect();
        let before = base.lock.as_ref().map(|lock| lock.projects.as_slice()).unwrap_or_default();
        let projects = merged_projects(before, &our.projects, &their.projects);
        let both = format!("{}\n{}", our.made_from, their.made_from);
        let made_from =
            if our.made_from == their.made_from { our.made_from } else { Digest::of(both.as_bytes()) };
        let (charters, packages) = (self.charters.clone(), self.packages.clone());
        let lock = Lock { made_from, registries, charters, projects, packages };
        // Only what reads back is a lock.
        Lock::read(&lock.to_string()).ok()
    }
}

fn merged_charters([base, ours, theirs]: [&[LockedCharter]; 3]) -> Vec<LockedCharter> {
    let of = |charters: &'_ [LockedCharter], name: &PackageName| {
        charters.iter().find(|charter| charter.name == *name).cloned()
    };
    let names: BTreeSet<&PackageName> = ours.iter().chain(theirs).map(|charter| &charter.name).collect();
    let charter = |name: &PackageName| {
        let [before, our, their] = [base, ours, theirs].map(|charters| of(charters, name));
        match changed(before.as_ref(), our.as_ref(), their.as_ref()) {
            Some(charter) => charter.cloned(),
            None => our.into_iter().chain(their).max_by(|a, b| a.version.cmp(&b.version)),
        }
    };
    names.into_iter().filter_map(charter).collect()
}

fn merged_projects(
    base: &[LockedProject],
    ours: &[LockedProject],
    theirs: &[LockedProject],
) -> Vec<LockedProject> {
    let of = |projects: &'_ [LockedProject], name: &PackageName| {
        projects.iter().find(|project| project.name == *name).cloned()
    };
    let new = theirs.iter().filter(|project| of(ours, &project.name).is_none());
    let names = ours.iter().chain(new).map(|project| &project.name);
    let project = |name: &PackageName| {
        let [before, our, their] = [base, ours, theirs].map(|projects| of(projects, name));
        match changed(before.as_ref(), our.as_ref(), their.as_ref()) {
            Some(project) => project.cloned(),
            None => our.or(their),
        }
    };
    names.filter_map(project).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::samples::{test_charter, test_lock, test_source};

    fn side(packages: &[(&str, &str)]) -> LockSide {
        LockSide::of(test_lock(packages))
    }

    fn shown(merged: &MergedLock) -> Vec<String> {
        merged.packages.iter().map(|package| format!("{} {}", package.name, package.version)).collect()
    }

    #[test]
    fn what_one_side_changed_is_as_that_side_has_it() {
        let base = side(&[("a", "1.0"), ("b", "1.0"), ("c", "1.0"), ("d", "1.0")]);
        let ours = side(&[("a", "1.1"), ("b", "1.0"), ("d", "1.0"), ("e", "1.0")]);
        let theirs = side(&[("a", "1.0"), ("b", "0.9"), ("c", "1.0"), ("d", "1.0"), ("f", "2.0")]);
        let merged = merge_locks(&base, &ours, &theirs);
        assert_eq!(shown(&merged), ["a 1.1", "b 0.9", "d 1.0", "e 1.0", "f 2.0"]);
        assert!(merged.both_moved.is_empty());
        assert_eq!(shown(&merge_locks(&base, &theirs, &ours)), shown(&merged), "from either side");
        let unfinished = merged.unfinished(&base, &ours, &theirs).unwrap();
        assert_eq!(unfinished.packages, merged.packages);
    }

    #[test]
    fn of_what_both_moved_the_newer_is_taken_first() {
        let base = side(&[("a", "1.0"), ("b", "1.0"), ("c", "1.0")]);
        let ours = side(&[("a", "1.1"), ("b", "2.0"), ("c", "1.2")]);
        let theirs = side(&[("a", "1.2"), ("b", "1.5")]);
        let merged = merge_locks(&base, &ours, &theirs);
        assert_eq!(shown(&merged), ["a 1.2", "b 2.0", "c 1.2"]);
        let sides: Vec<(&str, Side)> =
            merged.both_moved.iter().map(|both| (both.name.as_str(), both.preferred)).collect();
        assert_eq!(sides, [("a", Side::Theirs), ("b", Side::Ours)]);
        let again = merge_locks(&base, &theirs, &ours);
        assert_eq!(shown(&again), shown(&merged));
    }

    #[test]
    fn a_charter_is_as_one_side_moved_it_and_the_newer_of_both() {
        let side = |charters: &[(&str, &str)]| {
            let charters = charters.iter().map(|(name, version)| test_charter(name, version, &[]));
            LockSide::of(Lock { charters: charters.collect(), ..test_lock(&[("a", "1.0")]) })
        };
        let base = side(&[("season", "1.0"), ("trees", "1.0")]);
        let (ours, theirs) = (side(&[("season", "1.2"), ("trees", "1.0")]), side(&[("season", "1.1")]));
        for merged in [merge_locks(&base, &ours, &theirs), merge_locks(&base, &theirs, &ours)] {
            let shown = merged.charters.iter().map(|charter| charter.release().to_string());
            assert_eq!(shown.collect::<Vec<_>>(), ["season 1.2"], "the other one is gone on one side");
            assert_eq!(merged.unfinished(&base, &ours, &theirs).unwrap().charters, merged.charters);
        }
    }

    #[test]
    fn a_lock_that_is_gone_says_nothing_of_its_packages() {
        let (base, theirs) = (side(&[("a", "1.0")]), side(&[("a", "1.0"), ("b", "1.0")]));
        for (ours, theirs) in [(LockSide::default(), theirs.clone()), (theirs, LockSide::default())] {
            assert_eq!(shown(&merge_locks(&base, &ours, &theirs)), ["a 1.0", "b 1.0"]);
        }
    }

    #[test]
    fn a_package_that_only_one_side_has_elsewhere_comes_from_there() {
        let (base, mut ours, mut theirs) =
            (side(&[("a", "1.0")]), side(&[("a", "1.0")]), side(&[("a", "1.0")]));
        ours.packages[0].needs = vec!["b".parse().unwrap()];
        theirs.packages[0].source = test_source("elsewhere");
        theirs.packages[0].version = "0.9".parse().unwrap();
        let merged = merge_locks(&base, &ours, &theirs);
        assert_eq!((&merged.packages[0], merged.both_moved.len()), (&theirs.packages[0], 0));
    }
}
