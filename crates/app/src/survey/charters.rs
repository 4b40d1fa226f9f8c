//! Which workspaces follow which charters, and what strays from the newest releases of these.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::charter::LockedCharter;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::registries::Registries;

use super::{Surveyed, UsedPackage};
use crate::resolving::charters::{locked_charter, open_releases};

/// A charter that workspaces take on.
pub struct UsedCharter {
    /// The charter.
    pub name: PackageName,
    /// Its newest release: of a registry that was asked, else of the locks.
    pub newest: Version,
    /// The releases that are used, the newest first, each with the workspaces that use it, by their numbers.
    pub releases: Vec<(Version, Vec<usize>)>,
    /// The workspaces that don't take it on, by their numbers.
    pub without: Vec<usize>,
    /// What its newest release states.
    charter: LockedCharter,
}

/// What a charter allows of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AllowedRange {
    /// The charter.
    pub charter: PackageName,
    /// The range that its newest release has.
    pub range: Range,
}

impl UsedCharter {
    /// Whether a workspace has an older release of it than the newest.
    pub fn is_behind(&self) -> bool {
        self.releases.iter().any(|(version, _)| *version < self.newest)
    }
}

/// The charters of workspaces, and those that were named, by name.
pub(super) fn used(
    workspaces: &[Surveyed],
    named: &BTreeSet<PackageName>,
    registries: Option<&Registries>,
) -> Vec<UsedCharter> {
    let locks = || workspaces.iter().enumerate().filter_map(|(at, one)| Some((at, one.lock.as_ref().ok()?)));
    let locked = locks().flat_map(|(_, lock)| lock.charters.iter().map(|charter| &charter.name));
    let names: BTreeSet<&PackageName> = locked.chain(named).collect();
    let of_charter = |name: &PackageName| {
        let mut releases: BTreeMap<&Version, (&LockedCharter, Vec<usize>)> = BTreeMap::new();
        let mut without = Vec::new();
        for (number, lock) in locks() {
            match lock.charter(name) {
                Some(charter) => {
                    releases.entry(&charter.version).or_insert((charter, Vec::new())).1.push(number);
                }
                None => without.push(number),
            }
        }
        let newest_locked = releases.values().next_back().map(|(charter, _)| (*charter).clone());
        let newest = registries.and_then(|registries| newest_of(name, registries)).or(newest_locked)?;
        Some(UsedCharter {
            name: name.clone(),
            newest: newest.version.clone(),
            releases: releases.into_iter().rev().map(|(version, (_, by))| (version.clone(), by)).collect(),
            without,
            charter: newest,
        })
    };
    names.into_iter().filter_map(of_charter).collect()
}

/// The newest release of a charter that registries have.
fn newest_of(name: &PackageName, registries: &Registries) -> Option<LockedCharter> {
    let listing = registries.listing(name).ok()??;
    let mut finals = open_releases(&listing).filter(|release| !release.entry.version.is_pre());
    locked_charter(&listing, finals.next()?)
}

/// Says of packages what charters allow of them, and which of their releases are outside of that: of workspaces that take the charter
/// on, or of all where it was `named`.
pub(super) fn compare(packages: &mut [UsedPackage], charters: &[UsedCharter], named: &BTreeSet<PackageName>) {
    for package in packages {
        for used in charters {
            let Some(range) = used.charter.charter.range_of(&package.name) else { continue };
            package.allowed.push(AllowedRange { charter: used.name.clone(), range: range.clone() });
            let is_for_all = named.contains(&used.name);
            for release in &mut package.releases {
                let follows = release.by.iter().any(|number| is_for_all || !used.without.contains(number));
                let is_inside = range.set(true).contains(release.version.point());
                release.is_outside |= follows && !is_inside;
            }
        }
    }
}
