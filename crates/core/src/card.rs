//! Cards, entries and events: what a registry knows of releases.
//!
//! A [`Card`] is all that is known of one release. An [`Entry`] is what resolving and installing need of it,
//! with the digest of the full card. A registry keeps a package's [`Event`]s, one JSON line each, and only
//! ever appends to them. Unknown keys are refused, because a key that is not understood may narrow where
//! a release can be used.

mod component;
mod file;
mod step;

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::charter::Charter;
use crate::digest::Digest;
use crate::exposes::Exposes;
use crate::facet::Fits;
use crate::follow::Follow;
use crate::license::License;
use crate::name::{ComponentName, Family, PackageName, ProgramName, Purpose, Tag};
use crate::package_url::PackageUrl;
use crate::range::Range;
use crate::upstream::UpstreamVersion;
use crate::version::Version;

pub use self::component::Component;
pub use self::file::{Archive, ArchiveFormat, FileRecord, MAIN, ON_REQUEST, main_part, tree_of};
pub use self::step::{Step, StepCheck, StepPer, StepWhen};

/// All that is known of one release.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Card {
    /// The package.
    pub name: PackageName,
    /// The version; never published twice.
    pub version: Version,
    /// When it was published (RFC 3339, UTC).
    pub published: Timestamp,
    /// One line for lists.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// A longer text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Words to be found by, beside those of the name and the summary.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<Tag>,
    /// The licence of the contents.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub license: Option<License>,
    /// Where the package is presented.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub homepage: Option<String>,
    /// Where its sources are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repository: Option<String>,
    /// The upstream software that it has inside, as package URLs (purl) with versions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub upstream: Vec<PackageUrl>,
    /// The version as upstream writes it.
    #[serde(rename = "upstream-version", default, skip_serializing_if = "Option::is_none")]
    pub upstream_version: Option<UpstreamVersion>,
    /// What it needs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<CardNeed>,
    /// Its optional parts that have a name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub components: BTreeMap<ComponentName, Component>,
    /// The packages that it belongs with: all of a family stay at one version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<Family>,
    /// The capabilities that it provides.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<Provided>,
    /// The releases that it can't be used with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conflicts: Vec<CardConflict>,
    /// Where it can be used, facet by facet.
    #[serde(default, skip_serializing_if = "Fits::is_empty")]
    pub fits: Fits,
    /// Programs that have to be on the machine to use it, and in which versions.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub programs: BTreeMap<ProgramName, Range>,
    /// Its archives; a release may have none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<FileRecord>,
    /// Paths inside the package by the role they play, such as `include`, `lib` or `assets`, and values, such as `defines`.
    #[serde(default, skip_serializing_if = "Exposes::is_empty")]
    pub exposes: Exposes,
    /// What a person must still do after an install or an update.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    /// What changed with this release.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    /// Where upstream's releases appear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follow: Option<Follow>,
    /// What it states for many workspaces, where it is a charter.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub charter: Option<Box<Charter>>,
}

impl Card {
    /// A card that says no more than this.
    pub fn bare(name: PackageName, version: Version, published: Timestamp) -> Self {
        Self {
            name,
            version,
            published,
            summary: None,
            description: None,
            tags: Vec::new(),
            license: None,
            homepage: None,
            repository: None,
            upstream: Vec::new(),
            upstream_version: None,
            needs: Vec::new(),
            components: BTreeMap::new(),
            family: None,
            provides: Vec::new(),
            conflicts: Vec::new(),
            fits: Fits::new(),
            programs: BTreeMap::new(),
            files: Vec::new(),
            exposes: Exposes::default(),
            steps: Vec::new(),
            notes: None,
            follow: None,
            charter: None,
        }
    }

    /// The compact form for the registry's list of releases; `card` is the digest of this card's file.
    pub fn entry(&self, card: Digest) -> Entry {
        Entry {
            name: self.name.clone(),
            version: self.version.clone(),
            published: self.published,
            license: self.license.clone(),
            upstream: self.upstream.clone(),
            upstream_version: self.upstream_version.clone(),
            needs: self.needs.clone(),
            components: self.components.clone(),
            family: self.family.clone(),
            provides: self.provides.clone(),
            conflicts: self.conflicts.clone(),
            fits: self.fits.clone(),
            programs: self.programs.clone(),
            files: self.files.clone(),
            exposes: self.exposes.clone(),
            steps: self.steps.clone(),
            charter: self.charter.clone(),
            card,
        }
    }
}

/// A card without its long texts.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Entry {
    /// The package.
    pub name: PackageName,
    /// The version.
    pub version: Version,
    /// When it was published.
    pub published: Timestamp,
    /// The licence of the contents.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub license: Option<License>,
    /// The upstream software that it has inside.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub upstream: Vec<PackageUrl>,
    /// The version as upstream writes it.
    #[serde(rename = "upstream-version", default, skip_serializing_if = "Option::is_none")]
    pub upstream_version: Option<UpstreamVersion>,
    /// What the release needs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<CardNeed>,
    /// Its optional parts that have a name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub components: BTreeMap<ComponentName, Component>,
    /// The packages that it belongs with: all of a family stay at one version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<Family>,
    /// The capabilities that it provides.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<Provided>,
    /// The releases that it can't be used with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conflicts: Vec<CardConflict>,
    /// Where it can be used, facet by facet.
    #[serde(default, skip_serializing_if = "Fits::is_empty")]
    pub fits: Fits,
    /// Programs that have to be on the machine to use it, and in which versions.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub programs: BTreeMap<ProgramName, Range>,
    /// The release's archives.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<FileRecord>,
    /// Paths inside the package by role.
    #[serde(default, skip_serializing_if = "Exposes::is_empty")]
    pub exposes: Exposes,
    /// What a person must still do after an install or an update.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    /// What the release states for many workspaces, where it is a charter.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub charter: Option<Box<Charter>>,
    /// The digest of the full card.
    pub card: Digest,
}

impl Entry {
    /// When it was published; `None` of what nobody published, such as an archive on the net.
    pub fn dated(&self) -> Option<Timestamp> {
        Some(self.published).filter(|at| *at != Timestamp::UNIX_EPOCH)
    }

    /// The needs that go wherever the release goes: those for no special purpose.
    pub fn running_needs(&self) -> impl Iterator<Item = &CardNeed> {
        self.needs.iter().filter(|need| need.purpose.is_none())
    }

    /// The same, and those of all components.
    pub fn all_running_needs(&self) -> impl Iterator<Item = &CardNeed> {
        let of_components = self.components.values().flat_map(|component| &component.needs);
        self.running_needs().chain(of_components.filter(|need| need.purpose.is_none()))
    }

    /// The version at which the release provides a capability: the one stated or else its own.
    pub fn provided(&self, capability: &PackageName) -> Option<&Version> {
        let provided = self.provides.iter().find(|provided| provided.name == *capability)?;
        Some(provided.version.as_ref().unwrap_or(&self.version))
    }
}

/// That a release provides a capability, which may be needed like a package.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Provided {
    /// The capability; no package has this name.
    pub name: PackageName,
    /// The version of what it provides; its own where this says nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<Version>,
}

/// That a release can't be used with some releases of another package.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CardConflict {
    /// The other package.
    pub name: PackageName,
    /// The versions of it that won't do.
    pub range: Range,
}

/// What a release needs of another package.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CardNeed {
    /// The package needed.
    pub name: PackageName,
    /// The versions that will do.
    pub range: Range,
    /// Whether pre-releases count like any other version.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub prereleases: bool,
    /// The components of it that are needed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub components: Vec<ComponentName>,
    /// Whether it is needed without the components that come along by default.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub bare: bool,
    /// What it is needed for, beside running.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
    /// The targets on which it is needed: those on which all of this holds.
    #[serde(default, skip_serializing_if = "Fits::is_empty")]
    pub when: Fits,
}

/// One line of a package's history in a registry.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "lowercase")]
pub enum Event {
    /// A release was published.
    Release(Box<Entry>),
    /// A release is not to be chosen any more.
    Withdrawn(Withdrawal),
    /// A withdrawal was taken back.
    Restored(Restoration),
    /// Releases still work, but something else is better.
    Deprecated(Deprecation),
    /// Releases are deprecated no longer.
    Undeprecated(Undeprecation),
    /// The card of a release was corrected; its files are as they were.
    Revised(Box<Revision>),
    /// In the history of a capability: a package provides it.
    Provided(Provider),
}

impl Event {
    /// When it happened.
    pub fn at(&self) -> Timestamp {
        match self {
            Self::Release(entry) => entry.published,
            Self::Withdrawn(withdrawal) => withdrawal.at,
            Self::Restored(restoration) => restoration.at,
            Self::Deprecated(deprecation) => deprecation.at,
            Self::Undeprecated(undeprecation) => undeprecation.at,
            Self::Revised(revision) => revision.at,
            Self::Provided(provider) => provider.at,
        }
    }
}

/// That the card of a release was corrected. What was published stays: its version, its time, and the bytes of its files.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Revision {
    /// What the card says from now on.
    pub entry: Entry,
    /// Why, for people.
    pub reason: String,
    /// When.
    pub at: Timestamp,
}

/// That a release was withdrawn.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Withdrawal {
    /// The version withdrawn.
    pub version: Version,
    /// Why, for people.
    pub reason: String,
    /// When.
    pub at: Timestamp,
}

/// That a withdrawal was taken back.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Restoration {
    /// The version restored.
    pub version: Version,
    /// When.
    pub at: Timestamp,
}

/// That releases are deprecated no longer.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Undeprecation {
    /// The versions concerned.
    pub range: Range,
    /// When.
    pub at: Timestamp,
}

/// That releases are deprecated.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Deprecation {
    /// The versions concerned.
    pub range: Range,
    /// Why, for people.
    pub reason: String,
    /// What to use instead.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instead: Option<PackageName>,
    /// When.
    pub at: Timestamp,
}

/// That a package has releases that provide a capability.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Provider {
    /// The package.
    pub by: PackageName,
    /// Since when.
    pub at: Timestamp,
}
