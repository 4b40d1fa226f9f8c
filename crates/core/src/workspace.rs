//! A workspace: the projects that share one lock and one shelf.
//!
//! A project on its own is a workspace of one, so that resolving, locking and installing know no other case. What
//! concerns all (registries, families, facets, …) may be said by the root and by projects, and said alike where twice; rules and
//! the shelf's settings are the root's.

mod charters;
mod circle;
mod drift;
mod elsewhere;
mod joined;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

pub use self::drift::Drift;
pub use self::elsewhere::DirectSources;
pub use self::joined::Misfit;
use crate::build_tool::BuildTool;
use crate::card::{Card, CardNeed};
use crate::charter::{DeclaredCharter, LockedCharter};
use crate::facet::{Facet, Facets, Target};
use crate::manifest::{
    Device, Manifest, Need, ProjectDeclaration, RegistryDeclaration, ShelfSettings, StandIn, StatedCard,
};
use crate::name::{FacetName, Family, PackageName, PartName, ToolName};
use crate::range::Range;
use crate::resolve::Listing;
use crate::rules::Rules;
use crate::source::Source;
use crate::version::Version;

/// Several projects with one lock and one shelf.
#[derive(Debug, Clone)]
pub struct Workspace {
    /// The projects, the root's first and the others in the order in which it lists them.
    pub projects: Vec<Project>,
    /// Projects outside of the workspace that its own need by their folder.
    pub neighbours: Vec<Project>,
    /// Where packages are looked up; places are seen from the root's folder.
    pub registries: Vec<RegistryDeclaration>,
    /// The ranges that families are kept in.
    pub families: BTreeMap<Family, Range>,
    /// The packages that come from git repositories and archives; places are seen from the root's folder.
    pub elsewhere: BTreeMap<PackageName, DirectSources>,
    /// The packages that something else stands in for.
    pub stand_ins: BTreeMap<PackageName, StandIn>,
    /// The ranges that projects may share.
    pub shared: BTreeMap<PackageName, Range>,
    /// The providers to take for capabilities where that is possible.
    pub capabilities: BTreeMap<PackageName, PackageName>,
    /// The environments that projects run in, each once.
    pub targets: Vec<Target>,
    /// The build tools that the root has links rendered for.
    pub links: Vec<BuildTool>,
    /// The root's tools of targets.
    pub tools: BTreeMap<String, BTreeMap<ToolName, String>>,
    /// The facets that manifests define.
    pub facets: BTreeMap<FacetName, Facet>,
    /// The machines that targets stand for, as far as they have names.
    pub devices: Vec<Device>,
    /// How the shelf is made.
    pub shelf: ShelfSettings,
    /// What the team allows, with the rules of its charters.
    pub rules: Arc<Rules>,
    /// The charters that it takes on.
    pub charters: Vec<DeclaredCharter>,
    /// The releases of them that bind it, by name; none before these are known.
    pub bound: Vec<LockedCharter>,
}

/// A project of a workspace.
#[derive(Debug, Clone)]
pub struct Project {
    /// Its folder, from the workspace's and with `/` between; empty for the workspace's own.
    pub folder: String,
    /// Its `[project]` part.
    pub declaration: ProjectDeclaration,
    /// What its manifest says.
    pub manifest: Manifest,
    /// The targets that it runs in: its own, or those of the root where it declares none.
    pub targets: Vec<Target>,
}

impl Workspace {
    /// No project, only registries to look packages up in.
    pub fn of_registries(registries: Vec<RegistryDeclaration>) -> Self {
        Self::of_root(&Manifest { registries, ..Manifest::default() })
    }

    /// All needs of all projects, in the order of projects and manifests, each with whose it is.
    pub fn needs(&self) -> impl Iterator<Item = (&Project, &Need)> {
        self.projects
            .iter()
            .flat_map(|project| project.manifest.needs.iter().map(move |need| (project, need)))
    }

    /// The project of this name.
    pub fn project(&self, name: &PackageName) -> Option<&Project> {
        self.projects.iter().find(|project| project.name() == name)
    }

    /// The project in a folder, of the workspace or beside it.
    pub fn in_folder(&self, folder: &str) -> Option<&Project> {
        self.projects.iter().chain(&self.neighbours).find(|project| project.folder == folder)
    }

    /// The project that a need means, where it names a folder.
    pub fn project_of(&self, project: &Project, need: &Need) -> Option<&Project> {
        self.in_folder(&folder_from(&project.folder, need.source.as_ref()?.folder()?)?)
    }

    /// What releases have to fit: all targets, then what projects promise of themselves.
    pub fn places(&self) -> Vec<Target> {
        let machine = self.has_unbound_projects().then(Target::this_machine);
        let promises = self.projects.iter().filter_map(|project| project.manifest.promise());
        self.targets.iter().cloned().chain(machine).chain(promises).collect()
    }

    /// Whether some projects run in targets and others on any machine.
    pub fn has_unbound_projects(&self) -> bool {
        !self.targets.is_empty() && self.projects.iter().any(|project| project.targets.is_empty())
    }

    /// The names of the targets that a project's packages are installed for; none where no project has any.
    pub fn targets_of<'w>(&'w self, project: &'w Project) -> Vec<&'w str> {
        if project.targets.is_empty() && !self.targets.is_empty() {
            return vec![Target::THIS_MACHINE];
        }
        project.targets.iter().map(|target| target.name.as_str()).collect()
    }

    /// The packages that needs take from folders, or that folders stand in for, each with the one release that is there.
    pub fn listings(&self) -> BTreeMap<PackageName, Listing> {
        let projects = self.needs().map(|(project, need)| self.project_of(project, need));
        let of_neighbours = self.neighbours.iter().flat_map(|neighbour| {
            neighbour.manifest.needs.iter().map(|need| self.project_of(neighbour, need))
        });
        let projects = projects.chain(of_neighbours).flatten();
        let needed =
            projects.filter_map(|project| Some((project.name().clone(), project.listing(None, None)?)));
        let standing_in = self.stand_ins.iter().filter_map(|(name, stand_in)| {
            let listing = self.listing_standing_in(name, stand_in)?;
            let listing = Listing { is_stand_in: true, ..listing };
            Some((name.clone(), listing))
        });
        needed.chain(standing_in).collect()
    }

    /// What stands in for a package, where it is in a folder: a project, or files without a manifest that a card describes.
    fn listing_standing_in(&self, name: &PackageName, stand_in: &StandIn) -> Option<Listing> {
        let folder = folder_from("", stand_in.source.folder()?)?;
        let (stated, version) = (self.card_for(name), stand_in.version.as_ref());
        if let Some(project) = self.in_folder(&folder) {
            return project.listing(version, stated);
        }
        let stated = stated?;
        let version = version.or(stated.version.as_ref()).cloned();
        let version = version.unwrap_or_else(|| Version::from_numeric([0; 4], 1));
        let mut card = Card::bare(name.clone(), version.clone(), jiff::Timestamp::UNIX_EPOCH);
        stated.laid_over(&mut card);
        card.version = version;
        card.files.clear();
        let path = if folder.is_empty() { "." } else { &folder };
        Listing::of_own([(Source::folder(path), card)])
    }

    /// The card that people wrote for a package: beside what stands in for it, or with a need of it.
    pub fn card_for(&self, name: &PackageName) -> Option<&StatedCard> {
        let of_stand_in = self.stand_ins.get(name).and_then(|stand_in| stand_in.card.as_ref());
        let of_needs = || {
            let mut needs = self.needs().filter(|(_, need)| need.package == *name);
            needs.find_map(|(_, need)| need.source.as_ref()?.card())
        };
        of_stand_in.or_else(of_needs)
    }
}

impl Project {
    /// The project of a manifest that is in `folder`; `None` where it is none.
    pub fn new(folder: String, manifest: Manifest) -> Option<Self> {
        let declaration = manifest.project.clone()?;
        let targets = manifest.targets.clone();
        Some(Self { folder, declaration, manifest, targets })
    }

    /// Its name.
    pub fn name(&self) -> &PackageName {
        &self.declaration.name
    }

    /// Its folder, from the workspace's: `.` for that one.
    pub fn path(&self) -> &str {
        if self.folder.is_empty() { "." } else { &self.folder }
    }

    /// The version that it has as a package: 0 before it has any.
    pub fn version(&self) -> Version {
        self.declaration.version.clone().unwrap_or_else(|| Version::from_numeric([0; 4], 1))
    }

    /// Whether it publishes archives beside, or instead of, its main one.
    pub fn has_parts(&self) -> bool {
        !self.manifest.card.parts.is_empty()
    }

    /// The folders inside its own of the parts that a target takes.
    pub fn part_folders(&self, target: &Target, facets: &Facets) -> Vec<String> {
        let parts = &self.manifest.card.parts;
        let names: BTreeSet<&PartName> = parts.iter().map(|part| &part.part).collect();
        let taken = names.into_iter().filter_map(|name| facets.variant(parts, name, target));
        taken.map(|part| part.from.to_string()).collect()
    }

    /// The project as a package that is used where it lies, at this version if it has none itself.
    fn listing(&self, version: Option<&Version>, stated: Option<&StatedCard>) -> Option<Listing> {
        let needs = self.manifest.needs.iter().map(CardNeed::from).collect();
        let version = version.filter(|_| self.declaration.version.is_none()).cloned();
        let version = version.unwrap_or_else(|| self.version());
        // What is in a folder was never published.
        let mut card = self.manifest.card_of(&self.declaration, version, needs, jiff::Timestamp::UNIX_EPOCH);
        stated.iter().for_each(|stated| stated.laid_over(&mut card));
        Listing::of_own([(Source::folder(self.path()), card)])
    }
}

/// The folder that a way leads to from another, both seen from the workspace's; `None` where that folder is unknown.
///
/// Folders outside begin with `..`.
pub fn folder_from(folder: &str, way: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in way.split(['/', '\\']) {
        match (part, parts.last()) {
            ("" | ".", _) => {}
            ("..", Some(last)) if *last != ".." => {
                parts.pop();
            }
            (part, _) => parts.push(part),
        }
    }
    Some(parts.join("/"))
}
