//! `explain`: why a package is here at its version, and why not at another.

use bibliotax_core::charter::{CharterRelease, LockedCharter};
use bibliotax_core::compare::{Change, compare};
use bibliotax_core::graph::{NeedPaths, paths_to};
use bibliotax_core::lock::{CharterUse, Lock, LockedPackage, Scope};
use bibliotax_core::name::{Family, PackageName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Conflict, Problem, resolve, ways_out};
use bibliotax_core::version::Version;
use bibliotax_core::workspace::Workspace;

use crate::context::Context;
use crate::failure::{Failure, Way};
use crate::machine::this_machine;
use crate::need::words::{self, Wanted};
use crate::newer::newest_elsewhere;
use crate::resolving::charters::MovingCharters;
use crate::resolving::{
    Resolver, about_release, check_known, conflict_of, needs_of, not_locked_package, ways_out as as_ways,
};
use crate::search_options::SearchOptions;
use crate::workspace::ProjectWords;
use crate::workspace::WorkspaceFolder;

/// Most paths that are listed.
const MAX_PATHS: usize = 12;

/// What is explained.
#[derive(Debug, Clone)]
pub struct Request {
    wanted: Wanted,
    projects: ProjectWords,
    targets: Vec<String>,
    options: SearchOptions,
}

impl Request {
    /// Reads the words: a package, and the range to ask about if there is one. The paths to it are shown that begin at these
    /// projects and are there on these targets; all, where none are named.
    pub fn new(
        words: &[String],
        projects: ProjectWords,
        targets: Vec<String>,
        options: SearchOptions,
    ) -> Result<Self, Failure> {
        let mut wanted = words::parse(words, false)?;
        match (wanted.pop(), wanted.as_slice()) {
            (Some(wanted), []) => Ok(Self { wanted, projects, targets, options }),
            _ => Err(Failure::new("need.words", "this command explains one package at a time")
                .advice("name just one")),
        }
    }
}

/// The answer, with warnings about who gave it.
pub struct Report<'w> {
    /// The answer.
    pub answer: Answer<'w>,
    /// What people should know of the registries.
    pub warnings: Vec<String>,
}

/// What can be said of a package.
pub enum Answer<'w> {
    /// What a charter binds here.
    Charter(Box<ExplainedCharter<'w>>),
    /// Why it is here.
    Here(Box<Here<'w>>),
    /// That it could be in a range.
    Possible(Box<Possible>),
    /// Why it can't be in a range.
    NotPossible(Box<NotPossible>),
}

/// Why a package is here at its version.
pub struct Here<'w> {
    /// The package.
    pub package: &'w LockedPackage,
    /// The shortest paths to it.
    pub paths: NeedPaths,
    /// What charters allow of it.
    pub charters: Vec<(CharterRelease, Range)>,
    /// The charters that it is excepted from, each with the reason.
    pub excepted: Vec<(PackageName, String)>,
    /// What people should know of its release.
    pub about: Vec<String>,
    /// What keeps newer releases out.
    pub newer: Vec<Newer>,
    /// A newer version that its source or a registry has, and that the manifest doesn't let in from there.
    pub elsewhere: Option<Version>,
    /// Whether nobody knows if there is a newer one, since it comes from an archive.
    pub is_unknown: bool,
}

/// What a charter binds in a workspace.
pub struct ExplainedCharter<'w> {
    /// The charter as it is locked.
    pub charter: &'w LockedCharter,
    /// The range in which the workspace takes it on.
    pub range: Range,
    /// The locked packages that it has a range for, each with that.
    pub binds: Vec<(&'w LockedPackage, Range)>,
    /// The names that it has and nobody uses here.
    pub unused: Vec<String>,
    /// The packages that are excepted, each with the reason.
    pub excepted: Vec<(PackageName, String)>,
    /// The newest release that the range accepts, where that is another.
    pub update: Option<Version>,
}

/// A newer release, and what keeps it out.
pub struct Newer {
    /// Its version.
    pub version: Version,
    /// The conflict that it leads to; none where only the lock keeps it out.
    pub conflict: Option<Box<Conflict>>,
}

/// A package could be in a range.
pub struct Possible {
    /// The package.
    pub package: PackageName,
    /// The range.
    pub range: Range,
    /// The lock that this leads to.
    pub lock: Lock,
}

impl Possible {
    /// What would move.
    pub fn moves<'p>(&'p self, old: &'p Lock) -> Vec<Change<'p>> {
        compare(Some(old), &self.lock)
    }
}

/// A package can't be in a range.
pub struct NotPossible {
    /// The package.
    pub package: PackageName,
    /// The range.
    pub range: Range,
    /// Why.
    pub conflict: Box<Conflict>,
    /// Ways out, each tried.
    pub ways: Vec<Way>,
}

/// Explains a package of a workspace's lock.
pub fn report<'w>(
    workspace: &'w WorkspaceFolder,
    request: &Request,
    context: &Context<'_>,
) -> Result<Report<'w>, Failure> {
    let wanted = &request.wanted;
    let lock = workspace.needed_lock()?;
    let declared = &workspace.declared;
    let resolver = Resolver::open(workspace, declared, context.environment, &request.options)?;
    resolver.registries.prefetch_closure(&needs_of(&Problem::new(declared, &lock.packages)));
    let (projects, targets) =
        (request.projects.names(workspace)?, workspace.targets_named(&request.targets)?);
    let machine = this_machine();
    let scope = Scope { projects: &projects, targets: &targets, without: &[], machine: &machine };
    let explaining = Explaining { workspace, lock, resolver: &resolver, package: &wanted.package, scope };
    let answer = match &wanted.range {
        None if lock.charter(&wanted.package).is_some() => explaining.charter()?,
        None => explaining.why_here()?,
        Some(range) => explaining.why_not(range)?,
    };
    Ok(Report { answer, warnings: resolver.registries.warnings() })
}

struct Explaining<'a, 'r, 'w> {
    workspace: &'w WorkspaceFolder,
    lock: &'w Lock,
    resolver: &'a Resolver<'r>,
    package: &'a PackageName,
    /// The part of the lock whose paths to the package are shown.
    scope: Scope<'a>,
}

impl<'w> Explaining<'_, '_, 'w> {
    fn why_here(&self) -> Result<Answer<'w>, Failure> {
        let package = self.lock.answering(self.package).ok_or_else(|| self.not_here())?;
        let paths = paths_to(self.lock, &package.name, &self.scope, MAX_PATHS);
        let listing = self.resolver.registries.listing(&package.name).ok().flatten();
        let release = listing.as_ref().and_then(|listing| listing.history.release(&package.version));
        let about = release.map(about_release).unwrap_or_default();
        let family = release.and_then(|release| release.entry.family.as_ref());
        let (charters, excepted) = (self.allowed(package, family), self.excepted(&package.name));
        let newer = self.newer(package).into_iter().map(|version| self.kept_out(&package.name, version));
        let newer = newer.collect::<Result<Vec<_>, _>>()?;
        let is_outside = package.source.registry().is_none() && package.source.path().is_none();
        let outside: Vec<&LockedPackage> = if is_outside { vec![package] } else { Vec::new() };
        let found = newest_elsewhere(&outside, &self.resolver.registries).remove(&package.name);
        let is_unknown = is_outside && found.is_none();
        let known = newer.iter().map(|newer| &newer.version).chain([&package.version]).max();
        let elsewhere = found.filter(|found| known.is_none_or(|known| found > known));
        Ok(Answer::Here(Box::new(Here {
            package,
            paths,
            charters,
            excepted,
            about,
            newer,
            elsewhere,
            is_unknown,
        })))
    }

    /// What a charter binds here.
    fn charter(&self) -> Result<Answer<'w>, Failure> {
        let charter = self.lock.charter(self.package).ok_or_else(|| self.not_here())?;
        let declared = &self.workspace.declared;
        let taken_on = declared.declared_charter(&charter.name);
        let use_of = CharterUse::of(self.lock, charter);
        let moving = MovingCharters::Only([charter.name.clone()].into());
        let moved = self.resolver.bound_anew(declared, &self.lock.charters, &moving)?;
        let newest = moved.bound.iter().find(|bound| bound.name == charter.name);
        let excepted = taken_on.iter().flat_map(|declared| &declared.except);
        Ok(Answer::Charter(Box::new(ExplainedCharter {
            charter,
            range: taken_on.map_or_else(Range::any, |declared| declared.range.clone()),
            binds: use_of.binds.into_iter().map(|(package, range)| (package, range.clone())).collect(),
            unused: use_of.unused.into_iter().map(str::to_owned).collect(),
            excepted: excepted
                .map(|exception| (exception.package.clone(), exception.reason.clone()))
                .collect(),
            update: newest.map(|bound| bound.version.clone()).filter(|version| *version != charter.version),
        })))
    }

    /// What charters allow of a locked package.
    fn allowed(&self, package: &LockedPackage, family: Option<&Family>) -> Vec<(CharterRelease, Range)> {
        let bounds = self.workspace.declared.charter_bounds();
        let ranges = bounds.iter().flat_map(|bounds| {
            let ranges = bounds.binding(&package.name, family);
            ranges.map(|range| (bounds.release.clone(), range.clone()))
        });
        ranges.collect()
    }

    /// The charters that a package is excepted from, each with the reason.
    fn excepted(&self, package: &PackageName) -> Vec<(PackageName, String)> {
        let charters = self.workspace.declared.charters.iter();
        let excepted = charters
            .filter_map(|charter| Some((charter.name.clone(), charter.exception(package)?.reason.clone())));
        excepted.collect()
    }

    /// That the package is not in the lock: because the manifest does without it, or anyhow.
    fn not_here(&self) -> Failure {
        let failure = not_locked_package(self.lock, self.package);
        let without = self.lock.packages.iter().filter(|package| package.left_out.contains(self.package));
        let without: Vec<&str> = without.map(|package| package.name.as_str()).collect();
        match without.as_slice() {
            [] => failure,
            names => failure.because([format!("The manifest needs {} without it.", names.join(" and "))]),
        }
    }

    /// The next newer release and the newest of all, as far as they could be chosen.
    fn newer(&self, locked: &LockedPackage) -> Vec<Version> {
        let listing = self.resolver.registries.listing(&locked.name).ok().flatten();
        let releases = listing.iter().flat_map(|listing| listing.history.releases());
        let open = releases.filter(|release| release.withdrawn.is_none() && !release.entry.version.is_pre());
        let newer: Vec<Version> = open
            .map(|release| release.entry.version.clone())
            .filter(|version| *version > locked.version)
            .collect();
        match newer.as_slice() {
            [] | [_] | [_, _] => newer,
            [next, .., newest] => vec![next.clone(), newest.clone()],
        }
    }

    /// What keeps a newer release out.
    fn kept_out(&self, name: &PackageName, version: Version) -> Result<Newer, Failure> {
        let problem = Problem::new(&self.workspace.declared, &[]).asking(name, &Range::exactly(&version));
        let conflict = match resolve(&problem, &self.resolver.registries) {
            Ok(_) => None,
            Err(unresolved) => Some(conflict_of(unresolved)?),
        };
        Ok(Newer { version, conflict })
    }

    fn why_not(&self, range: &Range) -> Result<Answer<'w>, Failure> {
        let registries = &self.resolver.registries;
        check_known(registries, self.package)?;
        let declared = &self.workspace.declared;
        match resolve(&self.asking(declared, range, &self.lock.packages), registries) {
            Ok(mut resolution) => {
                let lock = self.resolver.lock_of(declared, &mut resolution)?;
                let (package, range) = (self.package.clone(), range.clone());
                Ok(Answer::Possible(Box::new(Possible { package, range, lock })))
            }
            Err(unresolved) => {
                let conflict = conflict_of(unresolved)?;
                let ways = ways_out(&self.asking(declared, range, &[]), &conflict, registries)?;
                let mut ways = as_ways::as_commands(&ways, self.workspace, declared);
                let asked = |declared: &Workspace| self.asking(declared, range, &[]);
                ways.extend(self.resolver.other_charters(declared, &conflict, asked)?);
                let (package, range) = (self.package.clone(), range.clone());
                Ok(Answer::NotPossible(Box::new(NotPossible { package, range, conflict, ways })))
            }
        }
    }

    /// The question whether the package could be in a range, where these packages are locked.
    fn asking(&self, declared: &Workspace, range: &Range, locked: &[LockedPackage]) -> Problem {
        let problem = Problem::new(declared, locked);
        if self.lock.package(self.package).is_some() {
            problem.asking_where_needed(self.package, range)
        } else {
            problem.asking(self.package, range)
        }
    }
}
