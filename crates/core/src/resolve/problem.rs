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
    /// Which releases are better where several will do.
    pub prefer: Prefer,
    /// Releases that must stay, unless their package leaves.
    pub held: BTreeMap<PackageName, Version>,
    /// Whether a locked package that can't stay moves to the nearest release instead of the best.
    pub gentle: bool,
}

/// Which releases are better where several will do; deprecated ones are worse than all others either way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Prefer {
    /// The newer, the better.
    #[default]
    Newest,
    /// The older, the better: to see whether the lower ends of ranges hold.
    Oldest,
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
    /// Whether this is a question ("could it be …?") and not a need that somebody declared.
    pub asked: bool,
}

impl Problem {
    /// The problem of a project that needs nothing yet.
    pub fn of(project: PackageName) -> Self {
        let (needs, locked, held) = Default::default();
        Self { project, needs, locked, prefer: Prefer::Newest, held, gentle: false }
    }

    /// The problem that a manifest poses when these packages are locked.
    pub fn new(manifest: &Manifest, locked: &[LockedPackage]) -> Self {
        let needs = manifest.needs.iter().map(|need| ProblemNeed {
            package: need.package.clone(),
            range: need.range.clone(),
            prereleases: need.prereleases,
            asked: false,
        });
        let locked = locked.iter().map(|package| (package.name.clone(), package.version.clone()));
        let (needs, locked) = (needs.collect(), locked.collect());
        Self { needs, locked, ..Self::of(manifest.project.name.clone()) }
    }

    /// The same problem without what is declared of `package`.
    #[must_use]
    pub fn without(mut self, package: &PackageName) -> Self {
        self.needs.retain(|need| need.package != *package);
        self
    }

    /// The same problem with the question whether `package` could be in `range` put first.
    #[must_use]
    pub fn asking(&self, package: &PackageName, range: &Range) -> Self {
        let mut problem = self.clone();
        let asked =
            ProblemNeed { package: package.clone(), range: range.clone(), prereleases: false, asked: true };
        problem.needs.insert(0, asked);
        problem
    }
}
