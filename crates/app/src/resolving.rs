//! From manifests to a lock: opens registries once, solves problems, explains conflicts with ways out.

pub mod charters;
mod hints;
mod warnings;
pub mod ways_out;

use bibliotax_core::lock::{Change, ChangedRelease, Lock, LockedPackage};
use bibliotax_core::name::{PackageName, RegistryName};
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{
    self, Catalogue, Conflict, OpenCapability, Problem, Resolution, Unresolved, open_capability,
    ways_out as relaxed,
};
use bibliotax_core::workspace::Workspace;
use bibliotax_present::words::{count, manifest_key};
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;

use crate::environment::Environment;
use crate::failure::{self, Failure};
use crate::search_options::SearchOptions;
use crate::workspace::{LockFile, WorkspaceFolder};

pub use self::warnings::{about_release, known_warnings, prefetch_locked, warnings_about};

/// Solves problems of a workspace with its registries, which are opened once.
pub struct Resolver<'w> {
    /// The workspace.
    pub workspace: &'w WorkspaceFolder,
    /// The registries.
    pub registries: Registries,
    options: &'w SearchOptions,
}

/// A lock that was worked out, with warnings about what was chosen.
pub struct Resolved {
    /// The lock.
    pub lock: Lock,
    /// What people should know of it.
    pub warnings: Vec<String>,
}

impl<'w> Resolver<'w> {
    /// Opens the registries that `declared` names, which may be more than what the manifests on disk do.
    pub fn open(
        workspace: &'w WorkspaceFolder,
        declared: &Workspace,
        environment: &Environment,
        options: &'w SearchOptions,
    ) -> Result<Self, Failure> {
        Self::open_fresh(workspace, declared, Freshness::Locked, environment, options)
    }

    /// The same; what comes from no registry is as fresh as that.
    pub fn open_fresh(
        workspace: &'w WorkspaceFolder,
        declared: &Workspace,
        freshness: Freshness,
        environment: &Environment,
        options: &'w SearchOptions,
    ) -> Result<Self, Failure> {
        let opened = workspace.open_registries(declared, freshness, &environment.network_for(options));
        let registries = opened.map_err(|error| hints::at_its_place(error, &workspace.manifests))?;
        Ok(Self {
            workspace,
            registries: registries.patient_for(options.effort).until(environment.stop.clone()),
            options,
        })
    }

    /// The lock that `declared`, bound by its charters, leads to, staying with what is locked.
    pub fn resolve(&self, declared: &Workspace) -> Result<Resolved, Failure> {
        self.resolve_problem(&Problem::new(declared, &self.workspace.locked()), declared)
    }

    /// The lock that a problem of `declared` leads to.
    pub fn resolve_problem(&self, problem: &Problem, declared: &Workspace) -> Result<Resolved, Failure> {
        let (mut resolution, warnings) = self.choose(problem, declared)?;
        Ok(Resolved { lock: self.lock_of(declared, &mut resolution)?, warnings })
    }

    /// The answer to a problem of `declared`, with warnings about what was chosen; where there is none, a failure with ways out.
    pub fn choose(
        &self,
        problem: &Problem,
        declared: &Workspace,
    ) -> Result<(Resolution, Vec<String>), Failure> {
        let registries = &self.registries;
        if registries.is_empty() && declared.needs().any(|(_, need)| need.source.is_none()) {
            return Err(no_registry());
        }
        registries.prefetch_closure(&needs_of(problem));
        let resolution = match resolve::resolve(problem, registries) {
            Ok(resolution) => resolution,
            Err(unresolved) => return Err(self.unsolved(problem, declared, unresolved)?),
        };
        let mut warnings = registries.warnings();
        warnings.extend(warnings::about(problem, declared, &resolution, &registries.facets()));
        Ok((resolution, warnings))
    }

    /// Why a problem has no answer, with ways out and what was probably meant.
    pub fn unsolved(
        &self,
        problem: &Problem,
        declared: &Workspace,
        unresolved: Unresolved<RegistryError>,
    ) -> Result<Failure, Failure> {
        let conflict = conflict_of(unresolved)?;
        let ways = relaxed(problem, &conflict, &self.registries)?;
        let mut ways = ways_out::as_commands(&ways, self.workspace, declared);
        let locked = self.workspace.locked();
        ways.extend(self.other_charters(declared, &conflict, |bound| Problem::new(bound, &locked))?);
        let meant = hints::perhaps_meant(problem, &conflict, &self.registries)?;
        Ok(failure::conflict(conflict, ways, self.options.in_full).because(meant))
    }

    /// Whether what was locked of the chosen packages is still what their registries have.
    fn check_chosen(&self, resolution: &Resolution) -> Result<(), Failure> {
        // A lock that was edited says nothing of its registries.
        let LockFile::Sound { lock, .. } = &self.workspace.lock else { return Ok(()) };
        let before = resolution.packages.iter().filter_map(|chosen| {
            let package = lock.package(&chosen.release.entry.name)?;
            (package.source == chosen.source).then_some(package)
        });
        self.check_locked(before)
    }

    /// Whether locked releases are still what their registries have.
    pub fn check_locked<'l>(&self, locked: impl Iterator<Item = &'l LockedPackage>) -> Result<(), Failure> {
        let registries = &self.registries;
        if registries.are_of_the_past() {
            return Ok(());
        }
        for package in locked.filter(|package| package.source.registry().is_some()) {
            let is_accepted = self.options.accept_changed.contains(&package.name);
            let listing = if is_accepted { None } else { registries.listing(&package.name)? };
            let listing = listing.filter(|listing| listing.source == package.source);
            if let Some(changed) = listing.and_then(|listing| package.changed_in(&listing.history)) {
                return Err(changed_release(&changed));
            }
        }
        Ok(())
    }

    /// The lock of what was chosen, once it is known which bytes all of it is, and that none of it changed since it was locked.
    pub fn lock_of(&self, declared: &Workspace, resolution: &mut Resolution) -> Result<Lock, Failure> {
        self.check_chosen(resolution)?;
        let problem = Problem::new(declared, &self.workspace.locked());
        if let Some(open) = open_capability(&problem, &declared.registries, resolution, &self.registries)? {
            return Err(ambiguous(&open));
        }
        self.registries.complete(resolution)?;
        if self.workspace.is_held() {
            self.registries.remember();
        }
        Ok(Lock::new(declared, resolution))
    }
}

/// What a problem asks for, and what was chosen for it before.
pub fn needs_of(problem: &Problem) -> Vec<(PackageName, Range)> {
    let direct = problem.needs.iter().map(|need| (need.package.clone(), need.range.clone()));
    let locked = problem.locked.iter().map(|(name, version)| (name.clone(), Range::exactly(version)));
    direct.chain(locked).collect()
}

/// That there is no registry to look packages up in.
pub fn no_registry() -> Failure {
    Failure::new("registry.none", "the manifest declares no registry")
        .advice("add one under `[registries]`: `seedhouse = \"../registry\"`")
}

/// Fails unless some registry has a package; with the nearest names if none does.
pub fn check_known(registries: &Registries, package: &PackageName) -> Result<(), Failure> {
    if registries.listing(package)?.is_some() {
        return Ok(());
    }
    let names = registries.names();
    let near = nearest(package.as_str(), names.iter().map(PackageName::as_str), 3);
    let failure = Failure::new("package.unknown", format!("no registry has a package {package}"));
    Err(match near.as_slice() {
        [] if names.is_empty() => failure.advice("publish it first: the registries have no packages yet"),
        [] => failure.advice(format!("check the name; {} are known", count(names.len(), "package"))),
        near => failure.advice(either(near)),
    })
}

/// The name of the locked package that a word means: its own, or that of a capability that it was taken for.
pub fn locked_name(lock: &Lock, word: &str) -> Result<PackageName, Failure> {
    let name: PackageName = Failure::read_word(word)?;
    let answering = lock.answering(&name).map(|package| package.name.clone());
    answering.ok_or_else(|| not_locked_package(lock, &name))
}

/// That a package is not in the lock, with the nearest that are.
pub fn not_locked_package(lock: &Lock, package: &PackageName) -> Failure {
    let near = nearest(package.as_str(), lock.packages.iter().map(|package| package.name.as_str()), 3);
    let failure = Failure::new("explain.not-here", format!("`{package}` is not in the lock"));
    match near.as_slice() {
        [] => failure.advice(format!("`bibliotax explain {package} any` shows whether it could be")),
        near => failure.advice(either(near)),
    }
}

/// The conflict that a problem ended in; the failure where it ended without an answer.
pub fn conflict_of(unresolved: Unresolved<RegistryError>) -> Result<Box<Conflict>, Failure> {
    match unresolved {
        Unresolved::Conflict(conflict) => Ok(conflict),
        Unresolved::Catalogue(error) => Err(error.into()),
        Unresolved::GaveUp(struggled) => Err(gave_up(&struggled)),
        Unresolved::Open(open) => Err(ambiguous(&open)),
    }
}

/// The failure of a locked release that its registry has otherwise now.
fn changed_release(changed: &ChangedRelease) -> Failure {
    let ChangedRelease { package, version, registry, what } = changed;
    let what = match what {
        Change::Gone => format!("{registry} doesn't have it any more"),
        Change::Card => format!("{registry} has a different card for it"),
        Change::Archive => format!("{registry} has a different archive for it"),
    };
    let message = format!("{package} {version} differs from the locked release: {what}");
    Failure::new("registry.changed-release", message).advice(failure::accept_changed(package))
}

/// That nobody chose who is to provide a capability.
fn ambiguous(open: &OpenCapability) -> Failure {
    let OpenCapability { name, providers, more, needed_in } = open;
    let shown = |(provider, registry): &(PackageName, Option<RegistryName>)| match registry {
        Some(registry) => format!("{provider} of {registry}"),
        None => provider.to_string(),
    };
    let more = (*more > 0).then(|| format!("{more} more"));
    let providers = providers.iter().map(shown).chain(more).collect::<Vec<_>>().join(" and ");
    let message = match needed_in {
        Some(registry) => format!("a package of {registry} needs {name}, which only {providers} provides"),
        None => format!("{providers} provide {name}, and none is chosen"),
    };
    let advice = format!("choose one under `[capabilities]`: `{} = \"PACKAGE\"`", manifest_key(name));
    Failure::new("package.ambiguous", message).advice(advice)
}

/// The failure of a search that found no answer in the time that it had.
fn gave_up(struggled: &[PackageName]) -> Failure {
    let names: Vec<&str> = struggled.iter().map(PackageName::as_str).collect();
    let advice = "narrow the ranges of these packages or of what needs them, or allow more time: \
        `bibliotax resolve --effort 300` (nothing was changed)";
    Failure::new(
        "resolve.gave-up",
        "resolving took too long: neither a solution nor a contradiction was found",
    )
    .because([format!("Most often tried: {}.", names.join(", "))])
    .advice(advice)
}
