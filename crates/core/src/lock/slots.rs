//! What of a lock goes where on a shelf: each package once for every target that reaches it.

use super::{Lock, LockedFile, LockedPackage};
use crate::facet::{Facets, Fits, Target};
use crate::name::{PackageName, PartName};
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

impl Lock {
    /// The targets that anything is for, by name; none where the project declares none.
    pub fn targets(&self) -> Vec<&str> {
        targets_of(&self.packages)
    }

    /// The places on a shelf, of these targets if some are named; a package without files has none. Where the project
    /// declares no targets, `machine` takes what is for it.
    pub fn slots(&self, only: &[String], machine: &Target) -> Result<Vec<Slot<'_>>, NotForMachine> {
        let slots = if self.targets().is_empty() {
            self.packages
                .iter()
                .map(|package| for_machine(package, machine))
                .collect::<Result<Vec<_>, _>>()?
        } else {
            self.packages.iter().flat_map(|package| for_targets(package, only)).collect()
        };
        Ok(slots.into_iter().filter(|slot| !slot.files.is_empty()).collect())
    }
}

/// The targets that reach any of these packages, by name.
fn targets_of(packages: &[LockedPackage]) -> Vec<&str> {
    let reached = packages.iter().flat_map(|package| &package.reached);
    let mut targets: Vec<&str> = reached.flat_map(|reach| reach.targets.iter().map(String::as_str)).collect();
    targets.sort_unstable();
    targets.dedup();
    targets
}

fn for_targets<'l>(package: &'l LockedPackage, only: &[String]) -> Vec<Slot<'l>> {
    let mut targets = targets_of(std::slice::from_ref(package));
    targets.retain(|target| only.is_empty() || only.iter().any(|wanted| wanted == target));
    let slot = |target: &'l str| {
        let takes = |file: &&LockedFile| file.targets.is_empty() || file.targets.iter().any(|t| t == target);
        Slot { target: Some(target), package, files: package.files.iter().filter(takes).collect() }
    };
    targets.into_iter().map(slot).collect()
}

fn for_machine<'l>(package: &'l LockedPackage, machine: &Target) -> Result<Slot<'l>, NotForMachine> {
    // Only what is built in can be told of a machine, and it is defined without any registry.
    let facets = Facets::default();
    let mut files: Vec<&LockedFile> = Vec::new();
    for file in &package.files {
        if files.iter().any(|taken| taken.part == file.part) {
            continue;
        }
        let taken = facets.variant(&package.files, &file.part, machine);
        files.push(taken.ok_or_else(|| NotForMachine {
            package: package.name.clone(),
            part: file.part.clone(),
            there_are: made_for(&package.files, &file.part),
        })?);
    }
    Ok(Slot { target: None, package, files })
}

impl Variant for LockedFile {
    fn part(&self) -> &PartName {
        &self.part
    }

    fn only_for(&self) -> &Fits {
        &self.only_for
    }
}
