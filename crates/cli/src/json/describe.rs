//! What `describe` prints.

use bibliotax_app::describe::Described;
use bibliotax_core::advisory::Affecting;
use bibliotax_core::card::{Card, Deprecation, Withdrawal};
use bibliotax_core::facet::Target;
use bibliotax_core::fitting;
use bibliotax_core::history;
use bibliotax_core::name::PackageName;
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use bibliotax_present::words::manifest_line;
use bibliotax_registry::catalogue::all_sources::{At, Newest, newest_of_all};
use bibliotax_registry::catalogue::registry::mirrored::{Lag, MirrorStatus};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::fit::{self, Fit};
use super::package::{Correction, Note};

/// What `describe` prints: a package or a capability.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Description {
    /// A package.
    Package(Box<DescribedPackage>),
    /// A capability.
    Capability(Capability),
}

impl Document for Description {
    const COMMAND: &'static str = "describe";
}

/// A capability.
#[derive(Serialize, JsonSchema)]
pub struct Capability {
    /// Its name.
    pub capability: PackageName,
    /// The packages that provide it.
    pub providers: Vec<PackageName>,
}

/// A package with one of its releases.
#[derive(Serialize, JsonSchema)]
pub struct DescribedPackage {
    /// Its name.
    pub name: PackageName,
    /// The version of the release that is described.
    pub version: Version,
    /// Where it comes from.
    pub source: Source,
    /// The release's card.
    pub card: Card,
    /// How the release fits each target of the project.
    pub fits: Vec<Fit>,
    /// All releases, the oldest first.
    pub releases: Vec<Release>,
    /// What changed in other releases, the newest first.
    pub notes: Vec<Note>,
    /// All places that have the package.
    pub sources: Vec<PackagePlace>,
    /// The mirrors of its registry.
    pub mirrors: Vec<Mirror>,
    /// The line of a manifest that declares it.
    pub manifest: String,
}

/// A release.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Release {
    /// Its version.
    pub version: Version,
    /// When it was published; null for what nobody published.
    pub published: Option<Timestamp>,
    /// That it was withdrawn.
    pub withdrawn: Option<Withdrawal>,
    /// That it is deprecated.
    pub deprecated: Option<Deprecation>,
    /// How its card was corrected, the earliest first.
    pub corrections: Vec<Correction>,
    /// Whether it fits all targets of the project.
    pub fits: bool,
    /// The advisories that affect it.
    pub affected_by: Vec<String>,
    /// The advisories that affect the release before it, and not it.
    pub fixes: Vec<String>,
}

/// A place that has the package.
#[derive(Serialize, JsonSchema)]
pub struct PackagePlace {
    /// The registry's name, or where it is.
    pub place: String,
    /// Whether the package comes from here.
    pub used: bool,
    /// The newest version there.
    pub newest: Option<Version>,
    /// When that was published.
    pub published: Option<Timestamp>,
    /// Whether another place has a newer version.
    pub behind: bool,
    /// Why that isn't known.
    pub problem: Option<String>,
}

/// A mirror of the package's registry.
#[derive(Serialize, JsonSchema)]
pub struct Mirror {
    /// Where it is.
    pub url: String,
    /// How it compares with the registry.
    pub state: MirrorState,
    /// How many events it lacks.
    pub events: usize,
    /// Since when.
    pub since: Option<Timestamp>,
}

/// How a mirror compares with its registry.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MirrorState {
    /// It has all of the package's history.
    UpToDate,
    /// It lacks the last events.
    Behind,
    /// It doesn't have the package.
    Missing,
    /// It has something else.
    Different,
    /// It can't be reached.
    Unreachable,
}

impl From<&Described> for DescribedPackage {
    fn from(described: &Described) -> Self {
        let (card, listing, facets) = (&described.card, described.listing(), &described.facets);
        let fits =
            |place: &Target| fit::of(&place.name, &fitting::fit(described.release(), place, facets), facets);
        let release = |release: &history::Release| Release {
            version: release.entry.version.clone(),
            published: release.entry.dated(),
            withdrawn: release.withdrawn.clone(),
            deprecated: release.deprecated.clone(),
            corrections: Correction::all(&release.revisions),
            fits: fitting::fits_all(release, &described.places, facets),
            affected_by: ids(described.affecting(&release.entry.version)),
            fixes: ids(described.fixed_by(&release.entry.version)),
        };
        Self {
            name: card.name.clone(),
            version: card.version.clone(),
            source: listing.source_of(&card.version).clone(),
            card: card.clone(),
            fits: described.places.iter().flat_map(fits).collect(),
            releases: listing.history.releases().iter().map(release).collect(),
            notes: described.notes.iter().map(Note::from).collect(),
            sources: sources(&described.sources),
            mirrors: described.mirrors.iter().map(Mirror::from).collect(),
            manifest: manifest_line(&card.name, &card.version),
        }
    }
}

fn ids<'d>(advisories: impl Iterator<Item = &'d Affecting>) -> Vec<String> {
    advisories.map(|one| one.advisory.id.clone()).collect()
}

/// The places that have a package.
pub fn sources(places: &[At]) -> Vec<PackagePlace> {
    let newest_of_all = newest_of_all(places);
    let one = |at: &At| {
        let found = at.newest.as_ref().ok();
        PackagePlace {
            place: at.place.clone(),
            used: at.is_taken,
            newest: found.map(|newest| newest.version.clone()),
            published: found.and_then(|Newest { published, .. }| *published),
            behind: found.is_some_and(|found| newest_of_all.is_some_and(|newest| *newest > found.version)),
            problem: at.newest.as_ref().err().cloned(),
        }
    };
    places.iter().map(one).collect()
}

impl From<&MirrorStatus> for Mirror {
    fn from(MirrorStatus { url, lag }: &MirrorStatus) -> Self {
        let (state, events, since) = match lag {
            Lag::None => (MirrorState::UpToDate, 0, None),
            Lag::Behind(events, since) => (MirrorState::Behind, *events, *since),
            Lag::Missing => (MirrorState::Missing, 0, None),
            Lag::Other => (MirrorState::Different, 0, None),
            Lag::Away => (MirrorState::Unreachable, 0, None),
        };
        Self { url: url.clone(), state, events, since }
    }
}
