//! Changes of a lock and of what is installed.

use bibliotax_app::accept::Unaccepted;
use bibliotax_app::change::{Applied, ChangeReport};
use bibliotax_app::newest_release;
use bibliotax_app::workspace::edits::EditedManifest;
use bibliotax_core::compare::{self, Aspect, Kind};
use bibliotax_core::license::License;
use bibliotax_core::lock::Lock;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use bibliotax_present::changes::Needers;
use schemars::JsonSchema;
use serde::Serialize;

use super::package::Package;
use super::step::OpenStep;

/// What became of a package between two locks.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Change {
    /// What became of it.
    pub change: Kind,
    #[serde(flatten)]
    pub package: Package,
    /// The version before; null where it is new.
    pub from: Option<Version>,
    /// The version after; null where it is gone.
    pub to: Option<Version>,
    /// What differs beside the version.
    pub differs: Vec<Aspect>,
    /// Whether a project needs it itself.
    pub direct: bool,
    /// The capabilities that it is used for.
    pub provides: Vec<PackageName>,
    /// What it needs and the project leaves out.
    pub left_out: Vec<PackageName>,
    /// The packages that need it.
    pub needed_by: Vec<PackageName>,
}

/// The changes between two locks; `lock` is the newer one.
pub fn of(changes: &[compare::Change<'_>], lock: &Lock) -> Vec<Change> {
    let needers = Needers::of(lock);
    let change = |change: &compare::Change<'_>| {
        let package = change.package();
        Change {
            change: change.kind.clone(),
            package: package.into(),
            from: change.old.map(|old| old.version.clone()),
            to: change.new.map(|new| new.version.clone()),
            differs: change.aspects(),
            direct: needers.is_direct(package),
            provides: package.provides.clone(),
            left_out: package.left_out.clone(),
            needed_by: needers.needing(&package.name).iter().map(|name| (*name).clone()).collect(),
        }
    };
    changes.iter().map(change).collect()
}

/// A change of manifests, lock and shelf.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Changes {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The edits of manifests.
    pub edits: Vec<Edit>,
    /// How the lock changes.
    pub changes: Vec<Change>,
    /// How its charters change.
    pub charters: Vec<CharterChange>,
    /// The licences that come with it and that nobody accepted yet.
    pub unaccepted_licenses: Vec<UnacceptedLicense>,
    /// What was done on the shelf; null if nothing was.
    pub shelf: Option<Shelf>,
    /// The steps that are open now, where packages were installed.
    pub open_steps: Vec<OpenStep>,
}

impl Changes {
    /// No change of manifests or lock, and what was done on the shelf; nothing in a dry run.
    pub fn of_shelf(applied: Option<&Applied>) -> Self {
        Self {
            dry_run: applied.is_none(),
            edits: Vec::new(),
            changes: Vec::new(),
            charters: Vec::new(),
            unaccepted_licenses: Vec::new(),
            shelf: applied.map(Shelf::from),
            open_steps: applied.iter().flat_map(|applied| &applied.open_steps).map(OpenStep::from).collect(),
        }
    }

    /// What changes and what of it was done.
    pub fn of(report: &ChangeReport<'_>, applied: Option<&Applied>) -> Self {
        Self {
            edits: report.edited.iter().map(Edit::from).collect(),
            changes: of(&report.changes, report.lock),
            charters: report.charters.iter().map(CharterChange::from).collect(),
            unaccepted_licenses: report.unaccepted.iter().map(UnacceptedLicense::from).collect(),
            ..Self::of_shelf(applied)
        }
    }
}

/// What became of a charter between two locks.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CharterChange {
    /// The charter.
    pub name: PackageName,
    /// The version before; null where it is new.
    pub from: Option<Version>,
    /// The version after; null where it is gone.
    pub to: Option<Version>,
    /// The ranges that differ, where it is on both sides.
    pub ranges: Vec<ChangedRange>,
    /// Whether its rules or its choice of providers differ, where it is on both sides.
    pub other_rules: bool,
}

/// A range that a charter changes.
#[derive(Serialize, JsonSchema)]
pub struct ChangedRange {
    /// The package or family.
    pub name: String,
    /// The range before; null where it is new.
    pub from: Option<Range>,
    /// The range after; null where it is gone.
    pub to: Option<Range>,
}

impl From<&compare::CharterChange<'_>> for CharterChange {
    fn from(change: &compare::CharterChange<'_>) -> Self {
        let range = |range: compare::ChangedRange<'_>| ChangedRange {
            name: range.of.to_owned(),
            from: range.old.cloned(),
            to: range.new.cloned(),
        };
        Self {
            name: change.charter().name.clone(),
            from: change.old.map(|old| old.version.clone()),
            to: change.new.map(|new| new.version.clone()),
            ranges: change.ranges().into_iter().map(range).collect(),
            other_rules: change.has_other_rules(),
        }
    }
}

/// A licence that a person has to accept.
#[derive(Serialize, JsonSchema)]
pub struct UnacceptedLicense {
    /// The package.
    pub package: PackageName,
    /// Its version.
    pub version: Version,
    /// Its licence; null where it declares none.
    pub license: Option<License>,
}

impl From<&Unaccepted> for UnacceptedLicense {
    fn from(unaccepted: &Unaccepted) -> Self {
        let Unaccepted { package, version, license } = unaccepted.clone();
        Self { package, version, license }
    }
}

/// A manifest with another text.
#[derive(Serialize, JsonSchema)]
pub struct Edit {
    /// The manifest, seen from the workspace's folder.
    pub file: String,
    /// The lines that are removed.
    pub removed: Vec<String>,
    /// The lines that are added.
    pub added: Vec<String>,
}

impl From<&EditedManifest> for Edit {
    fn from(edited: &EditedManifest) -> Self {
        let EditedManifest { file, removed, added } = edited.clone();
        Self { file, removed, added }
    }
}

/// What was done on the shelf.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Shelf {
    /// Packages installed.
    pub installed: usize,
    /// Things removed.
    pub removed: usize,
    /// Packages that were there already.
    pub kept: usize,
    /// Of the packages installed, those that somebody had changed or removed on the shelf.
    pub restored: usize,
    /// Archives downloaded.
    pub downloaded: usize,
    /// Their bytes.
    pub downloaded_bytes: u64,
}

impl From<&Applied> for Shelf {
    fn from(applied: &Applied) -> Self {
        let installed = applied.installed;
        Self {
            installed: installed.built,
            removed: installed.removed,
            kept: installed.kept,
            restored: installed.touched,
            downloaded: installed.fetched.archives,
            downloaded_bytes: installed.fetched.bytes,
        }
    }
}

/// A newer release that was not used.
#[derive(Serialize, JsonSchema)]
pub struct PassedOver {
    /// The package.
    pub package: PackageName,
    /// Its newest release.
    pub newest: Version,
    /// Why it isn't used; empty where it would only move locked packages.
    pub reasons: Vec<String>,
}

/// The newer releases that were not used.
pub fn passed_over(found: &[newest_release::PassedOver]) -> Vec<PassedOver> {
    let one = |found: &newest_release::PassedOver| PassedOver {
        package: found.package.clone(),
        newest: found.newest.clone(),
        reasons: found.why.clone(),
    };
    found.iter().map(one).collect()
}
