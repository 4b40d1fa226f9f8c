//! What is asked of the resolver.

use std::collections::BTreeMap;

use crate::lock::LockedPackage;
use crate::manifest::Manifest;
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// The needs of a project and what was chosen for them before.
#[derive(Debug, Clone)]
pub struct Problem {
    /// The project, as sentences name it.
    pub project: PackageName,
    /// Its direct needs, those that matter most first.
    pub needs: Vec<ProblemNeed>,
    /// The releases to stay with where that is possible.
    pub locked: BTreeMap<PackageName, Version>,
}

/// A direct need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProblemNeed {
    /// The package.
    pub package: PackageName,
    /// The versions that will do.
    pub range: Range,
    /// Whether pre-releases count like any other version.
    pub prereleases: bool,
}

impl Problem {
    /// The problem that a manifest poses when these packages are locked.
    pub fn new(manifest: &Manifest, locked: &[LockedPackage]) -> Self {
        let needs = manifest.needs.iter().map(|need| ProblemNeed {
            package: need.package.clone(),
            range: need.range.clone(),
            prereleases: need.prereleases,
        });
        let locked = locked.iter().map(|package| (package.name.clone(), package.version.clone()));
        Self { project: manifest.project.name.clone(), needs: needs.collect(), locked: locked.collect() }
    }
}
