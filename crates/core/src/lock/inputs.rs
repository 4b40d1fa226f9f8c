//! The digest of what a lock is made from.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::charter::DeclaredCharter;
use crate::digest::Digest;
use crate::facet::{Facet, Fits};
use crate::manifest::{Need, StandIn};
use crate::name::{FacetName, Family, NamePattern, PackageName, RegistryName};
use crate::range::Range;
use crate::workspace::{Project, Workspace};

/// All that counts, in the order in which it is taken in.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Inputs<'w, F, M, R> {
    registries: Vec<(&'w RegistryName, &'w str, Vec<&'w str>)>,
    in_folders: F,
    stand_ins: &'w BTreeMap<PackageName, StandIn>,
    projects: M,
    families: &'w BTreeMap<Family, Range>,
    capabilities: &'w BTreeMap<PackageName, PackageName>,
    facets: &'w BTreeMap<FacetName, Facet>,
    charters: Vec<(&'w PackageName, &'w Range, bool, Vec<&'w PackageName>)>,
    rules: R,
    targets: Vec<(&'w str, &'w Fits)>,
}

/// The digest of all in a workspace's manifests that a resolution depends on: needs, families, capabilities and registries, in
/// one form for any layout. Comments and what a project says of itself don't count, unless it is used from its path.
pub fn inputs(workspace: &Workspace) -> Digest {
    // What is in folders, as packages that others need.
    let listings = workspace.listings();
    let in_folders = listings.values().map(|listing| {
        let releases = listing.history.releases().iter().map(|release| &release.entry);
        (&listing.source, releases.collect::<Vec<_>>())
    });
    let targets = workspace.targets.iter().map(|target| (target.name.as_str(), &target.values));
    let inputs = Inputs {
        registries: registries(workspace),
        in_folders: in_folders.collect::<Vec<_>>(),
        stand_ins: &workspace.stand_ins,
        projects: workspace.projects.iter().map(of_project).collect::<Vec<_>>(),
        families: &workspace.families,
        capabilities: &workspace.capabilities,
        facets: &workspace.facets,
        charters: workspace.charters.iter().map(of_charter).collect(),
        rules: workspace.rules.deciding(),
        targets: targets.collect(),
    };
    let mut text = Vec::new();
    // Texts, lists and maps with names for keys: nothing in it can fail to be JSON.
    let _ = serde_json::to_writer(&mut text, &inputs);
    Digest::of(&text)
}

/// The registries by name, whose order in a manifest says nothing.
fn registries(workspace: &Workspace) -> Vec<(&RegistryName, &str, Vec<&str>)> {
    let mut registries: Vec<_> = workspace.registries.iter().collect();
    registries.sort_by(|a, b| a.name.cmp(&b.name));
    let shown = registries.into_iter().map(|registry| {
        let mut owns: Vec<&str> = registry.owns.iter().map(NamePattern::as_str).collect();
        owns.sort_unstable();
        (&registry.name, registry.url.as_str(), owns)
    });
    shown.collect()
}

fn of_charter(charter: &DeclaredCharter) -> (&PackageName, &Range, bool, Vec<&PackageName>) {
    let except = charter.except.iter().map(|exception| &exception.package);
    (&charter.name, &charter.range, charter.prereleases, except.collect())
}

fn of_project(project: &Project) -> impl Serialize {
    let targets: Vec<&str> = project.targets.iter().map(|target| target.name.as_str()).collect();
    let needs: Vec<_> = project.manifest.needs.iter().map(of_need).collect();
    (&project.folder, project.name(), targets, &project.manifest.fits, needs)
}

fn of_need(need: &Need) -> impl Serialize {
    let who = (&need.package, &need.range, &need.registry, &need.source, need.prereleases);
    let what = (&need.without, &need.targets, &need.components, need.bare, &need.parts);
    (who, &need.purpose, what)
}
