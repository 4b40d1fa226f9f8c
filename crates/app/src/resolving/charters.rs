//! Which releases of its charters bind a workspace.
//!
//! They are chosen before anything else, because their rules say what can be chosen: the release that is locked, else the newest.

use std::collections::BTreeSet;

use bibliotax_core::charter::{DeclaredCharter, LockedCharter};
use bibliotax_core::history::Release;
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::resolve::{Catalogue, Conflict, Listing, Problem, resolve};
use bibliotax_core::workspace::Workspace;
use bibliotax_present::words::first_few;
use bibliotax_registry::catalogue::registries::Registries;

use super::Resolver;
use crate::failure::{Failure, Way};

/// Most releases of a charter that are tried, or listed.
const MAX_RELEASES: usize = 5;

/// Which charters move to their newest releases.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MovingCharters {
    /// All.
    All,
    /// These.
    Only(BTreeSet<PackageName>),
}

impl MovingCharters {
    /// None: all stay where that is possible.
    pub fn none() -> Self {
        Self::Only(BTreeSet::new())
    }

    fn has(&self, name: &PackageName) -> bool {
        match self {
            Self::All => true,
            Self::Only(names) => names.contains(name),
        }
    }
}

impl Resolver<'_> {
    /// What is declared, bound by the releases of its charters: those that are locked where they still will do.
    pub fn bound(&self, declared: &Workspace) -> Result<Workspace, Failure> {
        self.bound_anew(declared, &self.workspace.locked_charters(), &MovingCharters::none())
    }

    /// The same; these charters are locked, and some of them move to their newest releases.
    pub fn bound_anew(
        &self,
        declared: &Workspace,
        locked: &[LockedCharter],
        moving: &MovingCharters,
    ) -> Result<Workspace, Failure> {
        self.workspace.bound_by(declared.clone(), self.chosen_charters(&declared.charters, locked, moving)?)
    }

    /// The releases of charters: those that are locked where they still will do, but for those that move.
    pub fn chosen_charters(
        &self,
        charters: &[DeclaredCharter],
        locked: &[LockedCharter],
        moving: &MovingCharters,
    ) -> Result<Vec<LockedCharter>, Failure> {
        let of_charter = |charter: &DeclaredCharter| {
            let locked = locked.iter().find(|locked| locked.name == charter.name);
            match locked.filter(|locked| charter.accepts(&locked.version) && !moving.has(&charter.name)) {
                Some(locked) => Ok(locked.clone()),
                None => newest(charter, &self.registries),
            }
        };
        charters.iter().map(of_charter).collect()
    }

    /// Ways out of a conflict by other releases of the charters in it; `problem` is what is to be solved in a workspace.
    pub(crate) fn other_charters(
        &self,
        declared: &Workspace,
        conflict: &Conflict,
        problem: impl Fn(&Workspace) -> Problem,
    ) -> Result<Vec<Way>, Failure> {
        let names: BTreeSet<&PackageName> = conflict.chartered.iter().map(|(charter, _)| charter).collect();
        let mut ways = Vec::new();
        for name in names {
            ways.extend(self.other_release(declared, name, &problem)?);
        }
        Ok(ways)
    }

    /// The newest other release of a charter with which there is a resolution.
    fn other_release(
        &self,
        declared: &Workspace,
        name: &PackageName,
        problem: &impl Fn(&Workspace) -> Problem,
    ) -> Result<Option<Way>, Failure> {
        let Some(charter) = declared.declared_charter(name) else { return Ok(None) };
        let Some(listing) = self.registries.listing(name)? else { return Ok(None) };
        let bound = |release: &&Release| {
            declared.bound.iter().any(|bound| bound.name == *name && bound.version == release.entry.version)
        };
        let others = open_releases(&listing).filter(|release| !bound(release));
        for release in others.take(MAX_RELEASES) {
            let Some(locked) = locked_charter(&listing, release) else { continue };
            let mut charters = declared.bound.clone();
            charters.retain(|bound| bound.name != *name);
            charters.push(locked);
            let mut workspace = declared.clone();
            if workspace.bind(charters).is_err() {
                continue;
            }
            if resolve(&problem(&workspace), &self.registries).is_ok() {
                let version = &release.entry.version;
                let command = if charter.accepts(version) && is_newest(charter, &listing, release) {
                    format!("bibliotax update {name}")
                } else {
                    format!("bibliotax need {name} \"{version}\"")
                };
                return Ok(Some(Way { command, note: format!("changes the charter {name} to {version}") }));
            }
        }
        Ok(None)
    }
}

/// Whether a release is the newest of a charter in its range.
fn is_newest(charter: &DeclaredCharter, listing: &Listing, release: &Release) -> bool {
    let mut open = open_releases(listing).filter(|release| charter.accepts(&release.entry.version));
    open.next().is_some_and(|newest| newest.entry.version == release.entry.version)
}

/// The releases that can be chosen, the newest first, deprecated ones last.
pub fn open_releases(listing: &Listing) -> impl Iterator<Item = &Release> {
    let releases = listing.history.releases().iter().rev();
    let mut open: Vec<&Release> = releases.filter(|release| release.withdrawn.is_none()).collect();
    open.sort_by_key(|release| release.deprecated.is_some());
    open.into_iter()
}

/// A release of a charter as a lock has it; `None` where it isn't one, or is in no registry.
pub fn locked_charter(listing: &Listing, release: &Release) -> Option<LockedCharter> {
    let entry = &release.entry;
    Some(LockedCharter {
        name: entry.name.clone(),
        version: entry.version.clone(),
        source: listing.source.registry()?.clone(),
        card: entry.card,
        charter: entry.charter.as_deref()?.clone(),
    })
}

/// The newest release of a charter that its range accepts.
fn newest(charter: &DeclaredCharter, registries: &Registries) -> Result<LockedCharter, Failure> {
    let name = &charter.name;
    let Some(listing) = registries.listing(name)? else { return Err(unknown(name, registries)) };
    let open: Vec<&Release> = open_releases(&listing).collect();
    let mut matching = open.iter().filter(|release| charter.accepts(&release.entry.version));
    let Some(release) = matching.next() else {
        let versions: Vec<String> = open.iter().map(|release| release.entry.version.to_string()).collect();
        let available =
            if versions.is_empty() { "none".to_owned() } else { first_few(&versions, MAX_RELEASES) };
        let message =
            format!("no release of the charter {name} matches {} (available: {available})", charter.range);
        return Err(Failure::new("charter.no-release", message)
            .advice(format!("change its range under `[charters]`, or run `bibliotax need {name}`")));
    };
    locked_charter(&listing, release).ok_or_else(|| {
        let message = format!("{name} {} isn't a charter", release.entry.version);
        Failure::new("charter.none", message)
            .advice(format!("remove it from `[charters]`; `bibliotax need {name}` needs it as a package"))
    })
}

/// That no registry has a charter, with the nearest names.
fn unknown(name: &PackageName, registries: &Registries) -> Failure {
    let names = registries.names();
    let near = nearest(name.as_str(), names.iter().map(PackageName::as_str), 2);
    let failure = Failure::new("package.unknown", format!("no registry has a charter {name}"));
    if near.is_empty() {
        failure.advice("check its name under `[charters]`")
    } else {
        failure.advice(either(&near))
    }
}
