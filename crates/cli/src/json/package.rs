//! Packages and releases.

use bibliotax_core::digest::Digest;
use bibliotax_core::history::CardRevision;
use bibliotax_core::license::License;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::{PackageName, TargetName};
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

/// A package of a lock.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Package {
    /// Its name.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
    /// Where it comes from.
    pub source: Source,
    /// Whether the source is a stand-in.
    pub stood_in: bool,
    /// Its licence, if it declares one.
    pub license: Option<License>,
    /// The bytes of its archives.
    pub size: u64,
    /// The targets that it is for; empty in a project without targets.
    pub targets: Vec<TargetName>,
}

impl From<&LockedPackage> for Package {
    fn from(package: &LockedPackage) -> Self {
        Self {
            name: package.name.clone(),
            version: package.version.clone(),
            source: package.source.clone(),
            stood_in: package.stood_in,
            license: package.license.clone(),
            size: package.size(),
            targets: package.targets.clone(),
        }
    }
}

/// What changed in a release.
#[derive(Serialize, JsonSchema)]
pub struct Note {
    /// The release's version.
    pub version: Version,
    /// What changed.
    pub text: String,
}

impl From<&(Version, String)> for Note {
    fn from((version, text): &(Version, String)) -> Self {
        Self { version: version.clone(), text: text.clone() }
    }
}

/// A correction of a release's card; its files stay as they were.
#[derive(Serialize, JsonSchema)]
pub struct Correction {
    /// When it was made.
    pub at: Timestamp,
    /// Why.
    pub reason: String,
    /// The digest of the card since then.
    pub card: Digest,
}

impl Correction {
    /// All corrections among the cards of a release.
    pub fn all(revisions: &[CardRevision]) -> Vec<Self> {
        let one = |revision: &CardRevision| {
            Some(Self { at: revision.at, reason: revision.reason.clone()?, card: revision.entry.card })
        };
        revisions.iter().filter_map(one).collect()
    }
}
