//! Which packages of a lock go onto a shelf: each once for every target that reaches it.

use std::collections::BTreeSet;

use super::{Lock, LockedFile, LockedNeed, LockedPackage, LockedProject, NeedGraph, by_spot};
use crate::facet::{Facets, Fits, Target};
use crate::name::{PackageName, PartName, Purpose, TargetName};
use crate::variant::{Variant, made_for};

/// A place on a shelf: a package as one target has it.
#[derive(Debug, Clone)]
pub struct Slot<'l> {
    /// The target; `None` where the project declares none.
    pub target: Option<&'l str>,
    /// The package.
    pub package: &'l LockedPackage,
    /// The files that the target takes of it, of each part at most one.
    pub files: Vec<&'l LockedFile>,
}

impl Slot<'_> {
    /// Where the package lies, inside the shelf.
    pub fn path(&self) -> String {
        let folder = self.package.name.folder();
        self.target.map_or(folder.clone(), |target| format!("{target}/{folder}"))
    }
}

/// That a package has no file of a part for the machine at hand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotForMachine {
    /// The package.
    pub package: PackageName,
    /// The part.
    pub part: PartName,
    /// What its files are for.
    pub there_are: Vec<Fits>,
}

/// What of a lock is looked at.
#[derive(Debug, Clone, Copy)]
pub struct Scope<'a> {
    /// The projects; empty for all there are.
    pub projects: &'a [PackageName],
    /// The targets; empty for all there are.
    pub targets: &'a [TargetName],
    /// What is needed for these purposes only is left out.
    pub without: &'a [Purpose],
    /// What takes its own files where no target is declared.
    pub machine: &'a Target,
}

impl<'a> Scope<'a> {
    /// All of a lock.
    pub fn all(machine: &'a Target) -> Self {
        Self { projects: &[], targets: &[], without: &[], machine }
    }

    /// Whether it is the whole of a lock.
    pub fn is_all(&self) -> bool {
        self.projects.is_empty() && self.targets.is_empty() && self.without.is_empty()
    }

    /// The same with all projects and purposes.
    #[must_use]
    pub fn with_all_projects(self) -> Self {
        Self { projects: &[], without: &[], ..self }
    }

    /// The projects of a lock that are in scope.
    pub fn projects_of<'l>(&self, lock: &'l Lock) -> Vec<&'l LockedProject> {
        let is_in =
            |project: &&LockedProject| self.projects.is_empty() || self.projects.contains(&project.name);
        lock.projects.iter().filter(is_in).collect()
    }

    /// Whether what is on a target, or on none, is in scope.
    pub fn has_spot(&self, target: Option<&str>) -> bool {
        target.is_none_or(|target| self.has_target(target))
    }

    /// Whether a project in scope has a need on a target in scope, and for a purpose that is not left out.
    pub fn has_need(&self, project: &LockedProject, need: &LockedNeed) -> bool {
        project.spots().into_iter().any(|spot| self.has_spot(spot) && need.counts(spot, self.without))
    }

    /// Whether a target is in scope.
    pub fn has_target(&self, target: &str) -> bool {
        self.targets.is_empty() || self.targets.iter().any(|wanted| wanted.as_str() == target)
    }
}

impl Lock {
    /// The targets that anything is for, by name; none where no project has any.
    pub fn targets(&self) -> Vec<&str> {
        let mut targets: Vec<&str> =
            self.projects.iter().flat_map(|project| project.targets.iter().map(TargetName::as_str)).collect();
        targets.sort_unstable();
        targets.dedup();
        targets
    }

    /// The places on a shelf that are in scope; a package without files has none.
    pub fn slots(&self, scope: &Scope<'_>) -> Result<Vec<Slot<'_>>, NotForMachine> {
        let wanted = self.wanted(scope).into_iter();
        let in_scope = wanted.filter(|(_, target)| scope.has_spot(*target));
        let slot = |(at, target): (usize, Option<_>)| slot(&self.packages[at], target, scope.machine);
        let slots = in_scope.map(slot).collect::<Result<Vec<_>, _>>()?;
        Ok(slots.into_iter().filter(|slot| !slot.files.is_empty()).collect())
    }

    /// The packages that a project in scope needs on any target, and for more than the purposes that are left out.
    pub fn packages_for(&self, scope: &Scope<'_>) -> Vec<&LockedPackage> {
        let mut places: Vec<usize> = self.wanted(scope).into_iter().map(|(at, _)| at).collect();
        places.dedup();
        places.into_iter().map(|at| &self.packages[at]).collect()
    }

    /// The packages that these projects reach; all where none are named.
    pub fn packages_of(&self, projects: &[PackageName]) -> Vec<&LockedPackage> {
        let machine = Target::this_machine();
        self.packages_for(&Scope { projects, ..Scope::all(&machine) })
    }

    /// The packages that projects in scope need, by their places in the lock, each with every target that it is needed on.
    fn wanted(&self, scope: &Scope<'_>) -> Vec<(usize, Option<&str>)> {
        if scope.projects.is_empty() && scope.without.is_empty() {
            let packages = self.packages.iter().enumerate();
            return packages.flat_map(|(at, package)| package.spots().map(move |spot| (at, spot))).collect();
        }
        let wires = NeedGraph::of(self);
        let mut wanted = BTreeSet::new();
        for (spot, projects) in by_spot(&scope.projects_of(self)) {
            let reached = wires.reached_on(spot, &projects, scope.without);
            wanted.extend(reached.into_keys().map(|at| (at, spot)));
        }
        wanted.into_iter().collect()
    }
}

impl LockedPackage {
    /// The targets on which it is needed; nothing once where no project has any.
    pub(super) fn spots(&self) -> impl Iterator<Item = Option<&str>> {
        let nowhere = self.targets.is_empty().then_some(None);
        self.targets.iter().map(|target| Some(target.as_str())).chain(nowhere)
    }
}

/// A package as it is on a target.
fn slot<'l>(
    package: &'l LockedPackage,
    target: Option<&'l str>,
    machine: &Target,
) -> Result<Slot<'l>, NotForMachine> {
    match target {
        None | Some(Target::THIS_MACHINE) => for_machine(package, target, machine),
        Some(name) => {
            let files = package.files.iter().filter(|file| file.is_for(name)).collect();
            Ok(Slot { target, package, files })
        }
    }
}

/// The files that the machine at hand takes of those that are for `target`.
fn for_machine<'l>(
    package: &'l LockedPackage,
    target: Option<&'l str>,
    machine: &Target,
) -> Result<Slot<'l>, NotForMachine> {
    // Only built-in facets are known of a machine, and they are defined without any registry.
    let facets = Facets::default();
    let is_for = |file: &&LockedFile| target.is_none_or(|target| file.is_for(target));
    let there_are: Vec<LockedFile> = package.files.iter().filter(is_for).cloned().collect();
    let mut files: Vec<&LockedFile> = Vec::new();
    for file in package.files.iter().filter(is_for) {
        if files.iter().any(|taken| taken.part == file.part) {
            continue;
        }
        let taken = facets.variant(&there_are, &file.part, machine);
        let taken = taken.and_then(|taken| package.files.iter().find(|file| *file == taken));
        files.push(taken.ok_or_else(|| NotForMachine {
            package: package.name.clone(),
            part: file.part.clone(),
            there_are: made_for(&there_are, &file.part),
        })?);
    }
    Ok(Slot { target, package, files })
}

impl Variant for LockedFile {
    fn part(&self) -> &PartName {
        &self.part
    }

    fn only_for(&self) -> &Fits {
        &self.only_for
    }
}
