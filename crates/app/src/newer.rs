//! `newer`: what has newer releases than the lock, what keeps them out, and what changed with them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bibliotax_core::facet::Facets;
use bibliotax_core::fitting;
use bibliotax_core::history::Release;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::newer::{Newer as News, newer};
use bibliotax_core::resolve::{Catalogue, Listing, Problem, Resolution, resolve, update};
use bibliotax_core::version::Version;
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::catalogue::all_sources::{At, newest_of_all};
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;
use rayon::prelude::*;

use crate::context::Context;
use crate::failure::{self, Failure};
use crate::resolving::charters::MovingCharters;
use crate::resolving::{Resolver, conflict_of, locked_name, needs_of};
use crate::search_options::SearchOptions;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// Most of the last releases of a package whose notes are shown.
const MAX_NOTES: usize = 3;

/// What is asked about.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Only these packages.
    pub packages: Vec<String>,
    /// Only what projects need themselves.
    pub is_direct: bool,
    /// Only what these projects reach.
    pub projects: ProjectWords,
    /// Only what is needed on these targets; none for all.
    pub targets: Vec<String>,
    /// Whether upstreams are asked, too, where cards say that releases appear.
    pub asks_upstream: bool,
    /// How it is resolved.
    pub options: SearchOptions,
}

/// What is newer.
pub struct Report<'w> {
    /// The charters that have newer releases.
    pub charters: Vec<CharterNews>,
    /// The packages that have news.
    pub packages: Vec<PackageNews<'w>>,
    /// What facets there are.
    pub facets: Arc<Facets>,
    /// How many packages were looked at.
    pub asked: usize,
    /// Packages from archives, of which nobody knows whether there are newer ones.
    pub unknown: Vec<PackageName>,
    /// What upstreams have that no registry here has, by package; why one can't be asked.
    pub upstream: Vec<(PackageName, At)>,
    /// Why an update finds no set of releases, where it doesn't.
    pub stuck: Option<Failure>,
    /// What people should know of the registries.
    pub warnings: Vec<String>,
}

impl Report<'_> {
    /// Why an update finds no set of releases, sentence by sentence; nothing where it does.
    pub fn stuck_reasons(&self) -> Vec<String> {
        self.stuck.as_ref().map(Failure::reasons).unwrap_or_default()
    }

    /// The same as a warning.
    pub fn why_stuck(&self) -> Option<String> {
        let reasons = self.stuck_reasons();
        (!reasons.is_empty()).then(|| format!("an update isn't possible now: {}", reasons.join(" ")))
    }
}

/// News of a charter.
#[derive(Debug, Clone)]
pub struct CharterNews {
    /// The charter.
    pub name: PackageName,
    /// The release that binds the workspace.
    pub locked: Version,
    /// The release that an update would use, where that is another.
    pub update: Option<Version>,
    /// The newest release beyond that.
    pub beyond: Option<Version>,
    /// Newer versions with what changed in them, the newest first.
    pub notes: Vec<(Version, String)>,
}

/// News of a package, with what changed in its last releases, the newest first.
pub struct PackageNews<'w> {
    /// The news.
    pub news: News<'w>,
    /// Versions with what changed in them.
    pub notes: Vec<(Version, String)>,
}

/// Looks for newer releases than those that a workspace's lock has.
pub fn report<'w>(
    workspace: &'w WorkspaceFolder,
    request: &Request,
    context: &Context<'_>,
) -> Result<Report<'w>, Failure> {
    let lock = workspace.needed_lock()?;
    let is_charter = |word: &&String| lock.charters.iter().any(|charter| charter.name.as_str() == *word);
    let (charters, packages): (Vec<&String>, Vec<&String>) = request.packages.iter().partition(is_charter);
    let wanted = packages.into_iter().map(|word| locked_name(lock, word));
    let wanted = wanted.collect::<Result<Vec<PackageName>, _>>()?;
    let (is_for_all, only_charters) =
        (request.packages.is_empty(), wanted.is_empty() && !charters.is_empty());
    let shown = shown(request, workspace, lock)?;
    let targets = workspace.targets_named(&request.targets)?;
    let is_asked = |package: &LockedPackage| {
        let is_there = targets.is_empty() || targets.iter().any(|target| package.is_on(target.as_str()));
        let is_wanted = is_for_all || wanted.contains(&package.name);
        is_there && is_wanted && !only_charters && shown.contains(&package.name)
    };
    let declared = &workspace.declared;
    let freshness = Freshness::AllAnew;
    let resolver =
        Resolver::open_fresh(workspace, declared, freshness, context.environment, &request.options)?;
    let registries = &resolver.registries;
    // An update of everything moves charters, too.
    let declared = &resolver.bound_anew(declared, &lock.charters, &MovingCharters::All)?;
    let is_asked_charter = |name: &PackageName| {
        is_for_all && request.projects.is_empty() || charters.iter().any(|word| *word == name.as_str())
    };
    let charters = charter_news(lock, declared, registries, is_asked_charter)?;
    let problem = Problem::new(declared, &lock.packages);
    registries.prefetch_closure(&needs_of(&problem));
    let names: Vec<PackageName> = lock.packages.iter().map(|package| package.name.clone()).collect();
    registries.prefetch(&names);
    let (updated, stuck) = updated(&problem, registries, &request.options)?;
    resolver.check_locked(lock.packages.iter().filter(|package| is_asked(package)))?;
    let outside: Vec<&LockedPackage> = lock
        .packages
        .iter()
        .filter(|package| {
            is_asked(package) && package.source.registry().is_none() && package.source.path().is_none()
        })
        .collect();
    let elsewhere = newest_elsewhere(&outside, registries);
    let upstream = if request.asks_upstream {
        let asked: Vec<&LockedPackage> = lock.packages.iter().filter(|package| is_asked(package)).collect();
        newest_upstream(&asked, registries)
    } else {
        Vec::new()
    };
    let mut all = newer(lock, declared, &updated, &elsewhere, registries)?;
    all.retain(|news| is_asked(news.package));
    let packages = all.into_par_iter().map(|news| with_notes(news, registries)).collect();
    let asked = lock.packages.iter().filter(|package| is_asked(package)).count();
    let unknown = outside.iter().filter(|package| !elsewhere.contains_key(&package.name));
    let unknown = unknown.map(|package| package.name.clone()).collect();
    let (facets, warnings) = (registries.facets(), registries.warnings());
    Ok(Report { charters, packages, facets, asked, unknown, upstream, stuck, warnings })
}

/// What is newer of the charters that are asked about.
fn charter_news(
    lock: &Lock,
    moved: &Workspace,
    registries: &Registries,
    is_asked: impl Fn(&PackageName) -> bool,
) -> Result<Vec<CharterNews>, Failure> {
    let mut found = Vec::new();
    for charter in lock.charters.iter().filter(|charter| is_asked(&charter.name)) {
        let Some(listing) = registries.listing(&charter.name)? else { continue };
        let updated = moved.bound.iter().find(|bound| bound.name == charter.name);
        let update = updated.map(|bound| bound.version.clone()).filter(|version| *version != charter.version);
        let reached = update.as_ref().unwrap_or(&charter.version);
        let newest = fitting::newest(listing.history.releases()).map(|release| release.entry.version.clone());
        let beyond = newest.filter(|newest| newest > reached);
        if update.is_some() || beyond.is_some() {
            let notes = notes_since(&charter.version, &listing, registries);
            let (name, locked) = (charter.name.clone(), charter.version.clone());
            found.push(CharterNews { name, locked, update, beyond, notes });
        }
    }
    Ok(found)
}

/// The newest version of each of these packages that any place is known to have: tags of its repository, a registry.
pub fn newest_elsewhere(
    packages: &[&LockedPackage],
    registries: &Registries,
) -> BTreeMap<PackageName, Version> {
    let newest = |package: &&LockedPackage| {
        let places = registries.all_sources(&package.name, None);
        // The archive itself says nothing of others.
        let others: Vec<At> = places
            .into_iter()
            .filter(|at| package.source.git().is_some() || at.place != package.source.to_string())
            .collect();
        Some((package.name.clone(), newest_of_all(&others)?.clone()))
    };
    packages.par_iter().filter_map(newest).collect()
}

/// What upstreams have that is newer than all that the registries of these packages have, and those that can't be asked.
fn newest_upstream(packages: &[&LockedPackage], registries: &Registries) -> Vec<(PackageName, At)> {
    let of_package = |package: &&LockedPackage| {
        let listing = registries.listing(&package.name).ok().flatten()?;
        let newest = fitting::newest(listing.history.releases())?;
        let at = registries.upstream_of(&registries.card(&listing, newest).ok()?)?;
        let is_news = at.newest.as_ref().map_or(true, |upstream| upstream.version > newest.entry.version);
        is_news.then(|| (package.name.clone(), at))
    };
    packages.par_iter().filter_map(of_package).collect()
}

/// What an update would lead to; where it leads nowhere, what is locked, and why.
fn updated(
    problem: &Problem,
    registries: &Registries,
    options: &SearchOptions,
) -> Result<(Resolution, Option<Failure>), Failure> {
    let unresolved = match update(problem, &[], registries) {
        Ok(updated) => return Ok((updated.resolution, None)),
        Err(unresolved) => unresolved,
    };
    let failure = failure::conflict(conflict_of(unresolved)?, Vec::new(), options.in_full);
    // What was locked may still go together, such as a release that was withdrawn since.
    match resolve(problem, registries) {
        Ok(resolution) => Ok((resolution, Some(failure))),
        Err(_) => Err(failure),
    }
}

/// The packages that are looked at: what some projects reach or, where only that is asked about, need themselves.
fn shown(
    request: &Request,
    workspace: &WorkspaceFolder,
    lock: &Lock,
) -> Result<BTreeSet<PackageName>, Failure> {
    let projects = request.projects.names(workspace)?;
    if !request.is_direct {
        return Ok(lock.packages_of(&projects).iter().map(|package| package.name.clone()).collect());
    }
    let needs = workspace.declared.needs();
    let needs = needs.filter(|(project, _)| projects.is_empty() || projects.contains(project.name()));
    let answering = needs.filter_map(|(_, need)| lock.answering(&need.package));
    Ok(answering.map(|package| package.name.clone()).collect())
}

/// News with what changed since the locked release, as far as cards say it.
fn with_notes<'w>(news: News<'w>, registries: &Registries) -> PackageNews<'w> {
    let listing = registries.listing(&news.package.name).ok().flatten();
    let notes = listing.map(|listing| notes_since(&news.package.version, &listing, registries));
    PackageNews { news, notes: notes.unwrap_or_default() }
}

/// What changed in the last releases since a version, as far as cards say it, the newest first.
fn notes_since(since: &Version, listing: &Listing, registries: &Registries) -> Vec<(Version, String)> {
    let releases = listing.history.releases().iter().rev().filter(|release| {
        let version = &release.entry.version;
        *version > *since && release.withdrawn.is_none() && !version.is_pre()
    });
    let note = |release: &Release| {
        Some((release.entry.version.clone(), registries.card(listing, release).ok()?.notes?))
    };
    releases.take(MAX_NOTES).filter_map(note).collect()
}
