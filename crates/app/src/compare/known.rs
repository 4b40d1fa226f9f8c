//! What registries and feeds say of a difference: advisories that it closes or opens, and what changed in releases.

use std::collections::BTreeSet;

use bibliotax_core::advisory::Severity;
use bibliotax_core::compare::Change;
use bibliotax_core::history::Release;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Catalogue, Listing};
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::registries::Registries;

use crate::context::Context;
use crate::failure::Failure;
use crate::resolving::Resolver;
use crate::search_options::SearchOptions;
use crate::workspace::WorkspaceFolder;

/// Most releases of a package whose notes are shown.
const MAX_NOTES: usize = 10;

/// What is known of a difference.
#[derive(Debug, Default)]
pub struct Known {
    /// The advisories that affected what was locked, and affect it no longer.
    pub closed: Vec<KnownAdvisory>,
    /// Those that affect what is locked now, and didn't before.
    pub opened: Vec<KnownAdvisory>,
    /// What changed in the releases between, the newest first, by package.
    pub notes: Vec<(PackageName, Vec<(Version, String)>)>,
    /// What couldn't be found out, and why.
    pub warnings: Vec<String>,
}

/// An advisory about a locked package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownAdvisory {
    /// The package.
    pub package: PackageName,
    /// Its version that is affected.
    pub version: Version,
    /// The advisory's name.
    pub id: String,
    /// How bad it is.
    pub severity: Severity,
    /// What it is, in a line.
    pub summary: String,
}

/// What registries and feeds say of changes. Without them, that is a warning: locks can be compared anywhere.
pub fn known(changes: &[Change<'_>], context: &Context<'_>) -> Known {
    let mut known = Known::default();
    if let Err(failure) = known.ask(changes, context) {
        known.warnings.push(format!("registries and feeds weren't asked: {}", failure.message));
    }
    known
}

impl Known {
    fn ask(&mut self, changes: &[Change<'_>], context: &Context<'_>) -> Result<(), Failure> {
        let workspace = WorkspaceFolder::find(context.folder)?;
        let options = SearchOptions::default();
        let resolver = Resolver::open(&workspace, &workspace.declared, context.environment, &options)?;
        let registries = &resolver.registries;
        let names: Vec<PackageName> = changes.iter().map(|change| change.package().name.clone()).collect();
        registries.prefetch(&names);
        for change in changes {
            // What one registry doesn't say is no reason to say nothing of the others.
            let Ok(Some(listing)) = registries.listing(&change.package().name) else {
                self.warnings.push(format!("nothing is known of {}", change.package().name));
                continue;
            };
            self.add_advisories(change, &listing, registries)?;
            self.add_notes(change, &listing, registries);
        }
        self.warnings.extend(registries.warnings());
        Ok(())
    }

    fn add_advisories(
        &mut self,
        change: &Change<'_>,
        listing: &Listing,
        registries: &Registries,
    ) -> Result<(), Failure> {
        let all = registries.advisories(listing)?;
        let of = |package: Option<&LockedPackage>| -> Vec<KnownAdvisory> {
            let affecting = |package: &LockedPackage| {
                let of_version = all.iter().filter(|one| one.versions.contains(&package.version));
                let known = of_version.map(|one| KnownAdvisory {
                    package: package.name.clone(),
                    version: package.version.clone(),
                    id: one.advisory.id.clone(),
                    severity: one.severity,
                    summary: one.advisory.summary.clone(),
                });
                known.collect()
            };
            package.map(affecting).unwrap_or_default()
        };
        let (before, after) = (of(change.old), of(change.new));
        let ids = |known: &[KnownAdvisory]| known.iter().map(|one| one.id.clone()).collect::<BTreeSet<_>>();
        let (was, is) = (ids(&before), ids(&after));
        self.closed.extend(before.into_iter().filter(|one| !is.contains(&one.id)));
        self.opened.extend(after.into_iter().filter(|one| !was.contains(&one.id)));
        Ok(())
    }

    fn add_notes(&mut self, change: &Change<'_>, listing: &Listing, registries: &Registries) {
        let Some(new) = change.new else { return };
        let is_between = |release: &&Release| {
            let version = &release.entry.version;
            let is_later = change.old.map_or(*version == new.version, |old| *version > old.version);
            is_later && *version <= new.version && release.withdrawn.is_none()
        };
        let between = listing.history.releases().iter().rev().filter(is_between).take(MAX_NOTES);
        let note = |release: &Release| {
            let card = registries.card(listing, release).ok()?;
            Some((release.entry.version.clone(), card.notes?))
        };
        let notes: Vec<(Version, String)> = between.filter_map(note).collect();
        if !notes.is_empty() {
            self.notes.push((new.name.clone(), notes));
        }
    }
}
