//! Warnings about a resolution.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::facet::{Facets, Fit, Target};
use bibliotax_core::history::Release;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::{FacetName, PackageName, PartName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, ChosenPackage, Problem, Resolution};
use bibliotax_core::rules::Stance;
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::catalogue::connections::Connections;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;
use rayon::prelude::*;

use crate::environment::Environment;
use crate::workspace::WorkspaceFolder;

/// All that people should know of the answer to a problem.
pub fn about(
    problem: &Problem,
    workspace: &Workspace,
    resolution: &Resolution,
    facets: &Facets,
) -> Vec<String> {
    let releases = resolution.packages.iter().flat_map(|package| about_release(&package.release));
    let wishes = about_wishes(workspace, resolution);
    releases.chain(wishes).chain(about_fits(problem, resolution, facets)).collect()
}

/// What manifests wish that made no difference.
fn about_wishes(workspace: &Workspace, resolution: &Resolution) -> Vec<String> {
    let idle = workspace.needs().filter(|(_, need)| !need.without.is_empty()).flat_map(|(_, need)| {
        let left_out = resolution.package(&need.package).map_or(&[][..], |package| &package.left_out);
        let idle = need.without.iter().filter(|name| !left_out.contains(name));
        idle.map(|name| format!("{} doesn't need {name}, so leaving it out changes nothing", need.package))
    });
    let passed = workspace.capabilities.iter().filter_map(|(capability, preferred)| {
        let provider = resolution.packages.iter().find(|package| package.provides.contains(capability))?;
        let name = &provider.release.entry.name;
        let text = format!(
            "{capability} is provided by {name}, because {preferred}, which the manifest prefers, isn't possible"
        );
        (name != preferred).then_some(text)
    });
    let asking = workspace.needs().filter(|(_, need)| !need.parts.is_empty());
    let lacking = asking.filter_map(|(_, need)| Some((need, resolution.package(&need.package)?)));
    let lacking =
        lacking.flat_map(|(need, package)| need.parts.iter().filter_map(|part| lacks(package, part)));
    idle.chain(passed).chain(lacking).collect()
}

/// That a requested part is missing, or missing for some targets.
fn lacks(package: &ChosenPackage, part: &PartName) -> Option<String> {
    let entry = &package.release.entry;
    let files = || package.files.iter().filter(|file| file.file.part == *part);
    let without: Vec<&str> = package
        .targets
        .iter()
        .filter(|target| !files().any(|file| file.targets.contains(target)))
        .map(String::as_str)
        .collect();
    match (files().next(), without.as_slice()) {
        (Some(_), []) => None,
        (None, _) => Some(format!("{} {} has no part {part}", entry.name, entry.version)),
        (_, without) => {
            Some(format!("{} {} has no part {part} for {}", entry.name, entry.version, without.join(", ")))
        }
    }
}

/// That chosen releases say nothing of facets that the project's targets have: one line for all that are silent alike.
fn about_fits(problem: &Problem, resolution: &Resolution, facets: &Facets) -> Vec<String> {
    let mut silent: BTreeMap<BTreeSet<FacetName>, Vec<&PackageName>> = BTreeMap::new();
    for package in &resolution.packages {
        let entry = &package.release.entry;
        let is_reached = |place: &&Target| place.is_promise || package.targets.contains(&place.name);
        let components = package.components.iter().cloned().collect();
        let places = problem.places.iter().filter(is_reached);
        let fits = places.map(|place| facets.fit_release(entry, &components, place));
        let undeclared =
            fits.filter_map(|fit| if let Fit::NotDeclared(facets) = fit { Some(facets) } else { None });
        let stance = |facet: &FacetName| problem.rules.undeclared(None, &entry.name, facet).0;
        let shown = undeclared.flatten().filter(|facet| stance(facet) == Stance::Warn);
        let shown: BTreeSet<FacetName> = shown.collect();
        if !shown.is_empty() {
            silent.entry(shown).or_default().push(&entry.name);
        }
    }
    let one = |(facets, packages): (&BTreeSet<FacetName>, &Vec<&PackageName>)| {
        let facets: Vec<&str> = facets.iter().map(FacetName::as_str).collect();
        let who = match packages.as_slice() {
            [one] => format!("{one} doesn't declare"),
            many => format!("{} packages don't declare", many.len()),
        };
        format!("{who} {}; see `bibliotax fit`", facets.join(", "))
    };
    silent.iter().map(one).collect()
}

/// What people should know of a release that was chosen.
pub fn about_release(release: &Release) -> Vec<String> {
    let (name, version) = (&release.entry.name, &release.entry.version);
    let withdrawn = release.withdrawn.as_ref().map(|withdrawal| {
        format!("{name} {version} was withdrawn ({}); it stays because the lock has it", withdrawal.reason)
    });
    let deprecated = release.deprecated.as_ref().map(|deprecation| {
        let instead =
            deprecation.instead.as_ref().map(|name| format!("; use {name} instead")).unwrap_or_default();
        format!("{name} {version} is deprecated ({}){instead}", deprecation.reason)
    });
    withdrawn.into_iter().chain(deprecated).collect()
}

/// Asks for all that sources say of these locked packages at once, so that a question for one of them waits for nobody.
pub fn prefetch_locked<'l>(
    registries: &Registries,
    packages: impl Iterator<Item = &'l LockedPackage> + Clone,
) {
    let of_registries = packages.clone().filter(|package| package.source.registry().is_some());
    let exact = of_registries.map(|package| (package.name.clone(), Range::exactly(&package.version)));
    registries.prefetch_closure(&exact.collect::<Vec<_>>());
    registries.prefetch(&packages.map(|package| package.name.clone()).collect::<Vec<_>>());
}

/// What is known of how locked releases stand, from what registries said when they were asked last: offline mode is on.
pub fn known_warnings(workspace: &WorkspaceFolder, lock: &Lock, environment: &Environment) -> Vec<String> {
    let (network, connections) = (environment.offline_if(true).network(), Connections::default());
    let locked = &lock.packages;
    let registries = Registries::open(
        &workspace.declared,
        &workspace.root,
        locked,
        Freshness::Locked,
        &network,
        &connections,
    );
    let stand_ins = locked.iter().filter(|package| package.stood_in);
    let stand_ins =
        stand_ins.map(|package| format!("{} is the stand-in for {}", package.source, package.name));
    let of_releases = registries.map(|registries| {
        let is_troubled =
            |package: &&LockedPackage| registries.may_be_troubled(&package.name, &package.source);
        let troubled: Vec<&LockedPackage> = locked.par_iter().filter(is_troubled).collect();
        warnings_about(&troubled, &registries)
    });
    of_releases.unwrap_or_default().into_iter().chain(stand_ins).collect()
}

/// Warnings about locked releases, where their registries can be asked.
pub fn warnings_about(packages: &[&LockedPackage], registries: &Registries) -> Vec<String> {
    prefetch_locked(registries, packages.iter().copied());
    let release = |package: &&LockedPackage| {
        let listing = registries.listing(&package.name).ok()??;
        listing.history.release(&package.version).cloned()
    };
    let mut warnings: Vec<String> =
        packages.iter().filter_map(release).flat_map(|release| about_release(&release)).collect();
    warnings.extend(registries.warnings());
    warnings
}
