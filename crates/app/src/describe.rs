//! `describe`: all that is known of a package, needed or not.

use std::sync::Arc;

use bibliotax_core::advisory::Affecting;
use bibliotax_core::card::Card;
use bibliotax_core::facet::{Facets, Target};
use bibliotax_core::fitting;
use bibliotax_core::history::Release;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Catalogue, Listing};
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::all_sources::At;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::catalogue::registry::mirrored::MirrorStatus;

use crate::context::Context;
use crate::failure::Failure;
use crate::lookup;
use crate::resolving::{Resolver, check_known};
use crate::search_options::SearchOptions;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// Most of the last releases whose notes are shown.
const MAX_NOTES: usize = 3;

/// What is described.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The package.
    pub package: String,
    /// Only these registries; none for all that are declared.
    pub registries: Vec<String>,
    /// Only what these projects run in; none for all.
    pub projects: ProjectWords,
    /// Only these targets; none for all.
    pub targets: Vec<String>,
    /// One of its versions; the newest that fits where it isn't said.
    pub version: Option<String>,
}

/// What a name stands for.
pub enum Report {
    /// Several registries have it, and nothing says which is meant.
    Ambiguous {
        /// All places that have it.
        sources: Vec<At>,
        /// What to do about it.
        failure: Failure,
    },
    /// A capability.
    Capability {
        /// Its name.
        name: PackageName,
        /// The packages that provide it.
        providers: Vec<PackageName>,
    },
    /// A package.
    Package(Box<Described>),
}

/// A package with one of its releases.
pub struct Described {
    listing: Arc<Listing>,
    /// The release, with the newest of its cards.
    release: Release,
    /// The card of the release.
    pub card: Card,
    /// What it has to fit.
    pub places: Vec<Target>,
    /// What facets there are.
    pub facets: Arc<Facets>,
    /// The version that is locked, as people read it.
    pub locked: Option<String>,
    /// Whether the lock has it with a card that was corrected since.
    pub locks_earlier_card: bool,
    /// What the last other releases say of what changed, the newest first.
    pub notes: Vec<(Version, String)>,
    /// Where the registry's mirrors stand with it.
    pub mirrors: Vec<MirrorStatus>,
    /// All places that have it.
    pub sources: Vec<At>,
    /// Whether the project is the only one of its workspace.
    pub is_alone: bool,
    /// What affects its releases.
    pub advisories: Arc<[Affecting]>,
    /// What people should know of the registries.
    pub warnings: Vec<String>,
}

impl Described {
    /// What its registry has of it.
    pub fn listing(&self) -> &Listing {
        &self.listing
    }

    /// The release.
    pub fn release(&self) -> &Release {
        &self.release
    }

    /// The advisories that affect a version.
    pub fn affecting(&self, version: &Version) -> impl Iterator<Item = &Affecting> {
        self.advisories.iter().filter(|one| one.versions.contains(version))
    }

    /// The advisories that this version is the first not to be affected by.
    pub fn fixed_by(&self, version: &Version) -> impl Iterator<Item = &Affecting> {
        let before = self.listing.history.before(version);
        self.advisories.iter().filter(move |one| one.is_fixed_by(version, before))
    }
}

/// Describes a package.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let workspace = lookup::workspace(&request.registries, context)?;
    let options = SearchOptions::default();
    let resolver = Resolver::open(&workspace, &workspace.declared, context.environment, &options)?;
    let registries = &resolver.registries;
    let name: PackageName = Failure::read_word(&request.package)?;
    match check_known(registries, &name) {
        Err(failure) if failure.code == "package.ambiguous" => {
            return Ok(Report::Ambiguous { sources: registries.all_sources(&name, None), failure });
        }
        known => known?,
    }
    let gone = || Failure::new("package.unknown", format!("no registry has a package {name}"));
    let listing = registries.listing(&name)?.ok_or_else(gone)?;
    if !listing.history.providers().is_empty() {
        let providers = listing.history.providers().iter().cloned().collect();
        return Ok(Report::Capability { name, providers });
    }
    Ok(Report::Package(Box::new(described(request, &name, listing, &workspace, registries)?)))
}

fn described(
    request: &Request,
    name: &PackageName,
    listing: Arc<Listing>,
    workspace: &WorkspaceFolder,
    registries: &Registries,
) -> Result<Described, Failure> {
    let (places, facets) = (workspace.places(&request.projects, &request.targets)?, registries.facets());
    let release = chosen(request, name, &listing, &places, &facets)?.corrected();
    let card = registries.card(&listing, &release)?;
    let lock = workspace.sound_lock().ok().flatten();
    let locked = lock.and_then(|lock| lock.package(&card.name));
    Ok(Described {
        locked: locked.map(LockedPackage::shown_version),
        locks_earlier_card: locked.is_some_and(|locked| has_earlier_card(locked, &release)),
        notes: notes(registries, &listing, &release),
        mirrors: registries.mirror_statuses(name, &listing.source),
        sources: registries.all_sources(name, Some(&card)),
        is_alone: workspace.is_alone(),
        advisories: registries.advisories(&listing)?,
        warnings: registries.warnings(),
        release,
        card,
        places,
        facets,
        listing,
    })
}

/// Whether a release is locked with a card that was corrected since.
fn has_earlier_card(locked: &LockedPackage, release: &Release) -> bool {
    locked.version == release.entry.version
        && locked.card.is_some_and(|card| !release.corrections_since(&card).is_empty())
}

/// The release that is meant.
fn chosen<'l>(
    request: &Request,
    name: &PackageName,
    listing: &'l Listing,
    places: &[Target],
    facets: &Facets,
) -> Result<&'l Release, Failure> {
    let releases = listing.history.releases();
    let Some(word) = &request.version else {
        let newest = fitting::newest_fitting(releases, places, facets).or_else(|| fitting::newest(releases));
        return newest
            .or(releases.last())
            .ok_or_else(|| Failure::new("package.unknown", format!("{name} has no release yet")));
    };
    let version: Version = Failure::read_word(word)?;
    listing.history.release(&version).ok_or_else(|| {
        Failure::new("package.unknown", format!("{name} has no release {version}"))
            .advice(format!("`bibliotax describe {name} --releases` lists all"))
    })
}

/// What the last releases beside this one say of what changed; nothing where their cards can't be had.
fn notes(registries: &Registries, listing: &Listing, shown: &Release) -> Vec<(Version, String)> {
    let releases = listing.history.releases().iter().rev().take(MAX_NOTES);
    let others = releases.filter(|release| release.entry.version != shown.entry.version);
    let notes = others.filter_map(|release| {
        let card = registries.card(listing, release).ok()?;
        Some((release.entry.version.clone(), card.notes?))
    });
    notes.collect()
}
