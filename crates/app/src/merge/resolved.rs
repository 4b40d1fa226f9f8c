//! Works out the lock of merged manifests, with what both sides chose.

use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::merge::{BothMoved, MergedLock, Side};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Problem, Update, reconcile};
use bibliotax_core::version::Version;
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::catalogue::registries::Registries;

use super::Settled;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::resolving::charters::MovingCharters;
use crate::resolving::{Resolved, Resolver, needs_of};
use crate::search_options::SearchOptions;
use crate::workspace::WorkspaceFolder;

/// A lock that holds what both sides chose, as far as that goes together.
pub struct ResolvedMerge {
    /// What the merged manifests declare, bound by its charters.
    pub declared: Workspace,
    /// The lock.
    pub resolved: Resolved,
    /// What became of the packages that both sides moved.
    pub settled: Vec<Settled>,
    /// The packages that have neither side's release.
    pub moved: Vec<(PackageName, Version)>,
    /// The registries that were asked.
    pub registries: Registries,
}

/// Merged manifests, and what both sides chose for them.
pub struct MergedWorkspace<'m> {
    /// The workspace as it is here.
    pub workspace: &'m WorkspaceFolder,
    /// What the merged manifests declare.
    pub declared: &'m Workspace,
    /// What both sides chose.
    pub merged: &'m MergedLock,
}

impl MergedWorkspace<'_> {
    /// The lock that the manifests lead to, with what both sides chose. Where registries can't be asked, what is cached of them has to do.
    pub fn resolve(
        &self,
        environment: &Environment,
        options: &SearchOptions,
    ) -> Result<ResolvedMerge, Failure> {
        match self.resolve_with(environment, options) {
            Err(failure) if failure.code == "registry.unreachable" => {
                self.resolve_with(&environment.offline_if(true), options).map_err(|_| failure)
            }
            done => done,
        }
    }

    fn resolve_with(
        &self,
        environment: &Environment,
        options: &SearchOptions,
    ) -> Result<ResolvedMerge, Failure> {
        let resolver = Resolver::open(self.workspace, self.declared, environment, options)?;
        let declared = &resolver.bound_anew(self.declared, &self.merged.charters, &MovingCharters::none())?;
        let problem = Problem::new(declared, &self.merged.packages);
        let others: Vec<(PackageName, Version)> = self
            .merged
            .both_moved
            .iter()
            .map(|both| (both.name.clone(), both.of(both.preferred.other()).clone()))
            .collect();
        resolver.registries.prefetch_closure(&needs_of(&problem));
        match reconcile(&problem, &others, &resolver.registries) {
            Ok(update) => self.finished(&resolver, declared, update),
            Err(unresolved) => Err(resolver.unsolved(&problem, declared, unresolved)?),
        }
    }

    fn finished(
        &self,
        resolver: &Resolver<'_>,
        declared: &Workspace,
        update: Update,
    ) -> Result<ResolvedMerge, Failure> {
        let MergedLock { packages, both_moved, .. } = self.merged;
        let mut resolution = update.resolution;
        let lock = resolver.lock_of(declared, &mut resolution)?;
        let settled = both_moved.iter().filter_map(|both| settled(both, &lock)).collect();
        let moved = moved(&lock, packages, both_moved);
        let warnings = resolver.registries.warnings();
        let registries = resolver.registries.again();
        let (declared, resolved) = (declared.clone(), Resolved { lock, warnings });
        Ok(ResolvedMerge { declared, resolved, settled, moved, registries })
    }
}

fn settled(both: &BothMoved, lock: &Lock) -> Option<Settled> {
    let version = lock.package(&both.name)?.version.clone();
    let taken = [Side::Ours, Side::Theirs].into_iter().find(|side| *both.of(*side) == version);
    let BothMoved { name, ours, theirs, .. } = both.clone();
    Some(Settled { name, ours, theirs, taken, version })
}

/// The packages whose release no side chose, though one of them chose another.
fn moved(lock: &Lock, chosen: &[LockedPackage], both_moved: &[BothMoved]) -> Vec<(PackageName, Version)> {
    let is_moved_by_both = |name: &PackageName| both_moved.iter().any(|both| both.name == *name);
    let moved = chosen.iter().filter(|package| !is_moved_by_both(&package.name)).filter_map(|package| {
        let now = lock.package(&package.name)?;
        (now.version != package.version).then(|| (now.name.clone(), now.version.clone()))
    });
    moved.collect()
}
