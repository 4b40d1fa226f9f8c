//! `survey`: which packages many workspaces use, in which versions.

mod charters;
mod places;

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::advisory::{Affecting, Severity};
use bibliotax_core::fitting;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::rules::NO_LICENSE;
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::registries::Registries;
use rayon::prelude::*;

pub use self::charters::{AllowedRange, UsedCharter};
pub use self::places::Surveyed;
use crate::context::Context;
use crate::failure::Failure;
use crate::lookup;
use crate::resolving::Resolver;
use crate::search_options::SearchOptions;

/// What is asked.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Folders and git repositories that have workspaces; `URL#BRANCH` means a branch.
    pub places: Vec<String>,
    /// Only these packages; none for all.
    pub packages: Vec<String>,
    /// Only what is behind the newest release somewhere.
    pub is_behind: bool,
    /// Only what an advisory affects somewhere.
    pub is_affected: bool,
    /// Only what is outside of what a charter allows somewhere.
    pub is_outside: bool,
    /// Charters that all workspaces are compared with, also those that don't take them on.
    pub charters: Vec<String>,
    /// The registries that are asked what is newest; none for those that are declared here.
    pub registries: Vec<String>,
}

/// What was found.
pub struct Report {
    /// The workspaces, in the order of the places.
    pub workspaces: Vec<Surveyed>,
    /// The charters that they take on, and those that were named, by name.
    pub charters: Vec<UsedCharter>,
    /// The packages that they use, by name.
    pub packages: Vec<UsedPackage>,
    /// What couldn't be found out.
    pub warnings: Vec<String>,
}

/// A package that workspaces use.
pub struct UsedPackage {
    /// The package.
    pub name: PackageName,
    /// Its newest release, where a registry that was asked has it.
    pub newest: Option<Version>,
    /// What the newest releases of charters allow of it.
    pub allowed: Vec<AllowedRange>,
    /// The releases that are used, the newest first.
    pub releases: Vec<UsedRelease>,
}

/// A release that workspaces use.
pub struct UsedRelease {
    /// Its version.
    pub version: Version,
    /// Its licence, as locks have it.
    pub license: String,
    /// Where it comes from.
    pub source: String,
    /// The workspaces that use it, by their numbers.
    pub by: Vec<usize>,
    /// The advisories that affect it.
    pub advisories: Vec<UsedAdvisory>,
    /// Whether it is outside of what the newest release of a charter allows a workspace that uses it.
    pub is_outside: bool,
}

/// An advisory that affects a release that is used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UsedAdvisory {
    /// Its name.
    pub id: String,
    /// How bad it is.
    pub severity: Severity,
}

impl UsedPackage {
    /// Whether a release that is used is older than the newest one.
    pub fn is_behind(&self) -> bool {
        self.releases.iter().any(|release| self.is_release_behind(release))
    }

    /// Whether a release that is used is outside of what a charter allows.
    pub fn is_outside(&self) -> bool {
        self.releases.iter().any(|release| release.is_outside)
    }

    /// Whether a release is older than the newest one.
    pub fn is_release_behind(&self, release: &UsedRelease) -> bool {
        self.newest.as_ref().is_some_and(|newest| release.version < *newest)
    }
}

/// Reads the locks at all places, and what registries and feeds here know of the packages in them.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let wanted: BTreeSet<PackageName> =
        request.packages.iter().map(|word| Failure::read_word(word)).collect::<Result<_, Failure>>()?;
    let workspaces = places::survey(&request.places, context)?;
    let mut packages = used(&workspaces);
    packages.retain(|package| wanted.is_empty() || wanted.contains(&package.name));
    let mut warnings = Vec::new();
    let named: BTreeSet<PackageName> =
        request.charters.iter().map(|word| Failure::read_word(word)).collect::<Result<_, Failure>>()?;
    let registries = match ask(&mut packages, request, context, &mut warnings) {
        Ok(registries) => Some(registries),
        Err(failure) => {
            warnings.push(format!("what is newest isn't known: {}", failure.message));
            None
        }
    };
    let charters = charters::used(&workspaces, &named, registries.as_ref());
    if let Some(unknown) = named.iter().find(|name| !charters.iter().any(|used| used.name == **name)) {
        let failure = Failure::new("charter.none", format!("no registry here has a charter {unknown}"));
        return Err(failure.advice("check its name, or name its registry: `--registry PLACE`"));
    }
    charters::compare(&mut packages, &charters, &named);
    packages.retain(|package| {
        let is_affected = || package.releases.iter().any(|release| !release.advisories.is_empty());
        (!request.is_behind || package.is_behind())
            && (!request.is_affected || is_affected())
            && (!request.is_outside || package.is_outside())
    });
    Ok(Report { workspaces, charters, packages, warnings })
}

/// The packages that locks have, each with the releases and who has them.
fn used(workspaces: &[Surveyed]) -> Vec<UsedPackage> {
    type Key = (Version, String, String);
    let mut packages: BTreeMap<&PackageName, BTreeMap<Key, Vec<usize>>> = BTreeMap::new();
    for (number, lock) in
        workspaces.iter().enumerate().filter_map(|(at, one)| Some((at, one.lock.as_ref().ok()?)))
    {
        for package in &lock.packages {
            let key = (package.version.clone(), license(package), source(package));
            packages.entry(&package.name).or_default().entry(key).or_default().push(number);
        }
    }
    let package = |(name, releases): (&PackageName, BTreeMap<Key, Vec<usize>>)| {
        let release = |((version, license, source), by): (Key, Vec<usize>)| UsedRelease {
            version,
            license,
            source,
            by,
            advisories: Vec::new(),
            is_outside: false,
        };
        let releases = releases.into_iter().rev().map(release).collect();
        UsedPackage { name: name.clone(), newest: None, allowed: Vec::new(), releases }
    };
    packages.into_iter().map(package).collect()
}

fn license(package: &LockedPackage) -> String {
    package.license.as_ref().map_or(NO_LICENSE.to_owned(), ToString::to_string)
}

fn source(package: &LockedPackage) -> String {
    if package.stood_in { format!("{}, a stand-in", package.source) } else { package.source.to_string() }
}

/// Asks registries and feeds what they know of packages; the registries that were asked.
fn ask(
    packages: &mut [UsedPackage],
    request: &Request,
    context: &Context<'_>,
    warnings: &mut Vec<String>,
) -> Result<Registries, Failure> {
    let workspace = lookup::workspace(&request.registries, context)?;
    let options = SearchOptions::default();
    let resolver = Resolver::open(&workspace, &workspace.declared, context.environment, &options)?;
    let registries = &resolver.registries;
    let names: Vec<PackageName> = packages.iter().map(|package| package.name.clone()).collect();
    registries.prefetch(&names);
    packages.par_iter_mut().for_each(|package| {
        // Of what isn't in these registries, only the locks say something.
        let Ok(Some(listing)) = registries.listing(&package.name) else { return };
        let newest = fitting::newest(listing.history.releases());
        package.newest = newest.map(|release| release.entry.version.clone());
        let advisories = registries.advisories(&listing).unwrap_or_default();
        for release in &mut package.releases {
            let affects = |one: &&Affecting| one.versions.contains(&release.version);
            let affecting = advisories.iter().filter(affects);
            let known =
                affecting.map(|one| UsedAdvisory { id: one.advisory.id.clone(), severity: one.severity });
            release.advisories = known.collect();
        }
    });
    warnings.extend(registries.warnings());
    Ok(resolver.registries)
}
