//! Manifests joined: each declaration once, and a fault where two differ.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Display;
use std::ops;

use super::{Project, Workspace, folder_from};
use crate::fault::Fault;
use crate::location::Location;
use crate::manifest::{Manifest, Need, RegistryDeclaration};
use crate::name::PackageName;
use crate::nearest::{WordAt, push_with_nearest};

/// What is wrong in one of the manifests.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// The folder of the manifest, from the workspace's.
    pub folder: String,
    /// What is wrong there.
    pub fault: Fault,
}

impl Workspace {
    /// The workspace of a root (whose own project, if it is one, comes first), the manifests that it lists with their
    /// folders, and those of other folders that are needed; on failure all that doesn't go together.
    pub fn join(
        root: Manifest,
        projects: Vec<(String, Manifest)>,
        neighbours: Vec<(String, Manifest)>,
    ) -> Result<Self, Vec<Misfit>> {
        let project = |(folder, manifest)| Project::new(folder, manifest);
        let mut listed: Vec<Project> = projects.into_iter().filter_map(project).collect();
        let mut joined = Self::of_root(&root);
        let mut misfits = Vec::new();
        for project in &mut listed {
            misfits.extend(joined.take_over(project));
            if project.targets.is_empty() {
                project.targets.clone_from(&root.targets);
            }
        }
        joined.neighbours = neighbours.into_iter().filter_map(project).collect();
        joined.projects = Project::new(String::new(), root).into_iter().chain(listed).collect();
        misfits.extend(joined.homeless_devices());
        misfits.extend(joined.misfits_of_projects());
        misfits.extend(joined.wrong_stand_ins());
        misfits.extend(joined.find_elsewhere());
        if misfits.is_empty() { Ok(joined) } else { Err(misfits) }
    }

    pub(super) fn of_root(root: &Manifest) -> Self {
        Self {
            projects: Vec::new(),
            neighbours: Vec::new(),
            registries: root.registries.clone(),
            families: root.families.clone(),
            elsewhere: BTreeMap::new(),
            stand_ins: root.stand_ins.clone(),
            shared: root.shared.clone(),
            capabilities: root.capabilities.clone(),
            targets: root.targets.clone(),
            links: root.links.clone(),
            tools: root.tools.clone(),
            facets: root.facets.clone(),
            devices: root.devices.clone(),
            shelf: root.shelf,
            rules: root.rules.clone(),
            charters: root.charters.clone(),
            bound: Vec::new(),
        }
    }

    /// Takes over what a project says for all; what others say otherwise.
    fn take_over(&mut self, project: &Project) -> Vec<Misfit> {
        let manifest = &project.manifest;
        let mut differing: Vec<(String, ops::Range<usize>)> = Vec::new();
        for registry in
            manifest.registries.iter().map(|registry| registry_from_root(registry, &project.folder))
        {
            match self.registries.iter().find(|other| other.name == registry.name) {
                None => self.registries.push(registry),
                Some(other) if is_same(other, &registry) => {}
                Some(_) => differing.push((format!("the registry `{}`", registry.name), registry.span)),
            }
        }
        for target in &manifest.targets {
            match self.targets.iter().find(|other| other.name == target.name) {
                None => self.targets.push(target.clone()),
                Some(other) if other.values == target.values => {}
                Some(_) => differing.push((format!("the target `{}`", target.name), 0..0)),
            }
        }
        for device in &manifest.devices {
            match self.devices.iter().find(|other| other.name == device.name) {
                None => self.devices.push(device.clone()),
                Some(other) if other.target == device.target => {}
                Some(_) => differing.push((format!("the device `{}`", device.name), device.span.clone())),
            }
        }
        let maps = [
            add(&mut self.families, &manifest.families, "the range of the family"),
            add(&mut self.capabilities, &manifest.capabilities, "the provider of"),
            add(&mut self.facets, &manifest.facets, "the facet"),
        ];
        differing.extend(maps.into_iter().flatten().map(|what| (what, 0..0)));
        let misfit = |(what, span)| {
            let message = format!("{what} is defined differently elsewhere in the workspace");
            let fault = Fault::new("workspace.differs", message, span);
            project.misfit(fault.advice("define it once, in the workspace's root"))
        };
        differing.into_iter().map(misfit).collect()
    }

    /// The root's devices that are of no target at all.
    fn homeless_devices(&self) -> Vec<Misfit> {
        let names: BTreeSet<&str> = self.targets.iter().map(|target| target.name.as_str()).collect();
        let mut faults = Vec::new();
        for device in self.devices.iter().filter(|device| !names.contains(device.target.as_str())) {
            let fault = Fault::new("manifest.unknown-target", device.homeless(), device.span.clone());
            push_with_nearest(&mut faults, fault, (&device.target, WordAt::Fault), names.iter().copied());
        }
        faults.into_iter().map(|fault| Misfit { folder: String::new(), fault }).collect()
    }

    /// What is wrong between projects.
    fn misfits_of_projects(&self) -> Vec<Misfit> {
        let mut misfits = Vec::new();
        let mut names: BTreeMap<&str, &Project> = BTreeMap::new();
        for project in &self.projects {
            let name = project.name().as_str();
            if let Some(other) = names.insert(name, project) {
                let message = format!("{} and {} are both called {name}", shown(other), shown(project));
                let fault = Fault::new("workspace.two-projects", message, project.declaration.span.clone());
                misfits.push(project.misfit(fault.advice("give one of them another name")));
            }
            misfits.extend(self.in_circle(project));
            let needs = project.manifest.needs.iter();
            misfits.extend(needs.filter_map(|need| self.wrong_folder(project, need)));
        }
        misfits
    }

    /// That projects need each other in a circle: told at the first of them by name.
    fn in_circle(&self, project: &Project) -> Option<Misfit> {
        let (need, way) = self.circle(project)?;
        let is_first = way.iter().all(|other| *other >= project.name().as_str());
        let message = format!("projects need each other in a circle: {}", way.join(", "));
        let fault = Fault::new("workspace.circle", message, need.span.clone());
        is_first.then(|| project.misfit(fault.advice("move what both need into a project of its own")))
    }

    /// That a need names a folder in which there is no such project.
    fn wrong_folder(&self, project: &Project, need: &Need) -> Option<Misfit> {
        let path = need.source.as_ref()?.folder()?;
        let fault = wrong_project(self.project_of(project, need), path, &need.package, &need.span)?;
        Some(project.misfit(fault))
    }

    /// That what stands in for a package is no such project.
    fn wrong_stand_ins(&self) -> Vec<Misfit> {
        let wrong = self.stand_ins.iter().filter_map(|(name, stand_in)| {
            let path = stand_in.source.folder()?;
            let there = self.in_folder(&folder_from("", path)?);
            if there.is_none() && self.card_for(name).is_some() {
                return None;
            }
            let fault = wrong_project(there, path, name, &stand_in.span)?;
            Some(Misfit { folder: String::new(), fault })
        });
        wrong.collect()
    }
}

/// That the project in a folder is not the one that is wanted of it.
fn wrong_project(
    there: Option<&Project>,
    path: &str,
    wanted: &PackageName,
    at: &ops::Range<usize>,
) -> Option<Fault> {
    let (code, message, advice) = match there {
        Some(there) if there.name() == wanted => return None,
        Some(there) => (
            "workspace.other-name",
            format!("the project in `{path}` is called `{}`, not `{wanted}`", there.name()),
            format!("use that name: `{}`", there.name()),
        ),
        None => (
            "workspace.no-project",
            format!("there is no project in `{path}`, the source of `{wanted}`"),
            "the path is relative to this manifest's folder, and leads to a folder with a bibliotax.toml"
                .to_owned(),
        ),
    };
    Some(Fault::new(code, message, at.clone()).advice(advice))
}

impl Project {
    pub(super) fn misfit(&self, fault: Fault) -> Misfit {
        Misfit { folder: self.folder.clone(), fault }
    }
}

fn shown(project: &Project) -> &str {
    if project.folder.is_empty() { "the root" } else { &project.folder }
}

/// Adds what is not there yet; what is there and says something else.
fn add<K: Ord + Clone + Display, V: PartialEq + Clone>(
    all: &mut BTreeMap<K, V>,
    more: &BTreeMap<K, V>,
    what: &str,
) -> Vec<String> {
    let mut differing = Vec::new();
    for (key, value) in more {
        if all.entry(key.clone()).or_insert_with(|| value.clone()) != value {
            differing.push(format!("{what} `{key}`"));
        }
    }
    differing
}

/// A registry that a manifest in `folder` declares, with places as they are seen from the root.
fn registry_from_root(registry: &RegistryDeclaration, folder: &str) -> RegistryDeclaration {
    let place = |url: &String| seen_from_root(url, folder);
    let mirrors = registry.mirrors.iter().map(place).collect();
    RegistryDeclaration { url: place(&registry.url), mirrors, ..registry.clone() }
}

/// A place that a manifest in `folder` names, as it is seen from the root: only relative paths are another there.
pub(super) fn seen_from_root(place: &str, folder: &str) -> String {
    let path = match Location::of(place) {
        Location::Relative(path) => folder_from(folder, &path),
        _ => None,
    };
    path.map_or_else(|| place.to_owned(), |path| if path.is_empty() { ".".to_owned() } else { path })
}

fn is_same(one: &RegistryDeclaration, other: &RegistryDeclaration) -> bool {
    let is_alike = one.allowed == other.allowed && one.owns == other.owns;
    // The root's own places are as written.
    let plain = |url: &String| match Location::of(url) {
        Location::Relative(path) => folder_from("", &path),
        _ => Some(url.clone()),
    };
    let mirrors = |registry: &RegistryDeclaration| registry.mirrors.iter().map(plain).collect::<Vec<_>>();
    is_alike && plain(&one.url) == plain(&other.url) && mirrors(one) == mirrors(other)
}
