//! Charters: releases that state ranges, families, capabilities and rules for many workspaces.
//!
//! A [`Charter`] is what a card states. A workspace takes one on in its manifest ([`DeclaredCharter`]); the lock then has the release
//! that binds it, with all that it states ([`LockedCharter`]), so that nobody has to be asked for it again. A charter brings no
//! packages: it only narrows which releases of them can be chosen.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::ops;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::name::{Family, PackageName, RegistryName};
use crate::range::Range;
use crate::rule_sets::RuleSets;
use crate::version::Version;

/// What a charter states.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Charter {
    /// The ranges that packages stay in.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub ranges: BTreeMap<PackageName, Range>,
    /// The ranges that families stay in.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub families: BTreeMap<Family, Range>,
    /// The providers to take for capabilities where that is possible.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub capabilities: BTreeMap<PackageName, PackageName>,
    /// What is allowed.
    #[serde(default, skip_serializing_if = "RuleSets::is_silent")]
    pub rules: RuleSets,
}

impl Charter {
    /// Whether it states nothing.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// The range of a package: its own, or that of the family that its scope names.
    pub fn range_of(&self, package: &PackageName) -> Option<&Range> {
        let of_family = || {
            let mut families = self.families.iter();
            families.find(|(family, _)| package.scope() == Some(family.as_str())).map(|(_, range)| range)
        };
        self.ranges.get(package).or_else(of_family)
    }

    /// All names that it states a range or a provider for.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let families = self.families.keys().map(Family::as_str);
        let packages = self.ranges.keys().chain(self.capabilities.keys());
        packages.map(PackageName::as_str).chain(families)
    }
}

/// A release of a charter.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize)]
pub struct CharterRelease {
    /// The charter.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
}

impl fmt::Display for CharterRelease {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.name, self.version)
    }
}

/// A charter that a workspace takes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeclaredCharter {
    /// The charter.
    pub name: PackageName,
    /// The versions that will do.
    pub range: Range,
    /// Whether pre-releases count like any other version.
    pub prereleases: bool,
    /// The packages that its ranges don't bind here.
    pub except: Vec<Exception>,
    /// Where its name stands in the manifest.
    pub span: ops::Range<usize>,
}

impl DeclaredCharter {
    /// Whether a release will do.
    pub fn accepts(&self, version: &Version) -> bool {
        self.range.set(self.prereleases).contains(version.point())
    }

    /// Why its ranges don't bind a package.
    pub fn exception(&self, package: &PackageName) -> Option<&Exception> {
        self.except.iter().find(|exception| exception.package == *package)
    }
}

/// A package that a charter's ranges don't bind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exception {
    /// The package.
    pub package: PackageName,
    /// Why.
    pub reason: String,
    /// Where it is written.
    pub span: ops::Range<usize>,
}

/// A charter's release that binds a workspace.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedCharter {
    /// The charter.
    pub name: PackageName,
    /// The release.
    pub version: Version,
    /// The registry that it comes from.
    pub source: RegistryName,
    /// The digest of its card.
    pub card: Digest,
    /// What it states.
    pub charter: Charter,
}

impl LockedCharter {
    /// The release.
    pub fn release(&self) -> CharterRelease {
        CharterRelease { name: self.name.clone(), version: self.version.clone() }
    }
}

/// What a charter's release allows in a workspace: its ranges, but for what is excepted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CharterBounds {
    /// The release.
    pub release: CharterRelease,
    /// The ranges of packages.
    pub ranges: BTreeMap<PackageName, Range>,
    /// The ranges of families.
    pub families: BTreeMap<Family, Range>,
    /// The packages that none of these bind.
    pub except: BTreeSet<PackageName>,
}

impl CharterBounds {
    /// What a release allows, but for the packages that a workspace excepts.
    pub fn new(locked: &LockedCharter, declared: Option<&DeclaredCharter>) -> Self {
        let excepted = declared.into_iter().flat_map(|declared| &declared.except);
        Self {
            release: locked.release(),
            ranges: locked.charter.ranges.clone(),
            families: locked.charter.families.clone(),
            except: excepted.map(|exception| exception.package.clone()).collect(),
        }
    }

    /// The ranges that bind a package which is of a family, or of none: its own, then its family's.
    pub fn binding<'b>(
        &'b self,
        package: &PackageName,
        family: Option<&Family>,
    ) -> impl Iterator<Item = &'b Range> {
        let is_bound = !self.except.contains(package);
        let own = self.ranges.get(package);
        let of_family = family.and_then(|family| self.families.get(family));
        [own, of_family].into_iter().flatten().filter(move |_| is_bound)
    }
}
