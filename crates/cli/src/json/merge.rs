//! What `merge` prints.

use bibliotax_app::merge::set_up::SetUp;
use bibliotax_app::merge::{Merged, Report, Settled};
use bibliotax_core::merge::Side;
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::change::Changes;

/// What `merge` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Merge {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// What our side is called.
    pub ours: String,
    /// What their side is called.
    pub theirs: String,
    /// The files that were merged, from the top of the working copy.
    pub merged: Vec<String>,
    /// The files that a person has to decide on.
    pub conflicts: Vec<MergeConflict>,
    /// The locks that were worked out.
    pub locks: Vec<MergedLock>,
    /// What `--set-up` or `--undo` changes; null without these.
    pub set_up: Option<MergeSetUp>,
}

impl Document for Merge {
    const COMMAND: &'static str = "merge";
}

/// A file that both sides changed in one place.
#[derive(Serialize, JsonSchema)]
pub struct MergeConflict {
    /// Its path from the top of the working copy.
    pub file: String,
    /// The keys that both sides changed.
    pub keys: Vec<String>,
}

/// A lock of merged manifests.
#[derive(Serialize, JsonSchema)]
pub struct MergedLock {
    /// Its path from the top of the working copy.
    pub file: String,
    /// What changes with it.
    #[serde(flatten)]
    pub changes: Changes,
    /// The packages that both sides moved.
    pub settled: Vec<SettledPackage>,
    /// The packages that have a release that no side chose.
    pub moved: Vec<MovedPackage>,
}

/// A package that both sides moved.
#[derive(Serialize, JsonSchema)]
pub struct SettledPackage {
    /// Its name.
    pub name: PackageName,
    /// Our release.
    pub ours: Version,
    /// Their release.
    pub theirs: Version,
    /// The release that was taken.
    pub version: Version,
    /// The side that it is of; null if it is of neither.
    pub taken: Option<MergeSide>,
}

/// A side of a merge.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MergeSide {
    /// What was here.
    Ours,
    /// What comes in.
    Theirs,
}

/// A package that has a release that no side chose.
#[derive(Serialize, JsonSchema)]
pub struct MovedPackage {
    /// Its name.
    pub name: PackageName,
    /// The release.
    pub version: Version,
}

/// What `merge --set-up` and `merge --undo` change.
#[derive(Serialize, JsonSchema)]
pub struct MergeSetUp {
    /// The file of attributes.
    pub attributes: String,
    /// The lines that it gets, or loses.
    pub lines: Vec<String>,
    /// The keys of the repository's configuration that are set, or unset.
    pub settings: Vec<String>,
}

impl MergeSetUp {
    /// What is changed, as a whole document.
    pub fn of(plan: &SetUp, dry_run: bool) -> Merge {
        let set_up = Self {
            attributes: plan.attributes.clone(),
            lines: plan.lines.clone(),
            settings: plan.settings.iter().map(|(key, _)| key.clone()).collect(),
        };
        Merge {
            dry_run,
            ours: String::new(),
            theirs: String::new(),
            merged: Vec::new(),
            conflicts: Vec::new(),
            locks: Vec::new(),
            set_up: Some(set_up),
        }
    }
}

impl Merge {
    /// What was merged, or would be.
    pub fn of(report: &Report, dry_run: bool) -> Self {
        let [ours, theirs] = report.sides.clone();
        let conflicts = report
            .conflicts
            .iter()
            .map(|(file, keys)| MergeConflict { file: file.clone(), keys: keys.clone() });
        Self {
            dry_run,
            ours,
            theirs,
            merged: report.joined.clone(),
            conflicts: conflicts.collect(),
            locks: report.locks.iter().map(|lock| MergedLock::of(lock, dry_run)).collect(),
            set_up: None,
        }
    }
}

impl MergedLock {
    fn of(lock: &Merged, dry_run: bool) -> Self {
        let change = lock.change.report();
        Self {
            file: lock.path.clone(),
            changes: Changes { dry_run, ..Changes::of(&change, None) },
            settled: lock.settled.iter().map(SettledPackage::from).collect(),
            moved: lock
                .moved
                .iter()
                .map(|(name, version)| MovedPackage { name: name.clone(), version: version.clone() })
                .collect(),
        }
    }
}

impl From<&Settled> for SettledPackage {
    fn from(settled: &Settled) -> Self {
        let taken = settled.taken.map(|side| match side {
            Side::Ours => MergeSide::Ours,
            Side::Theirs => MergeSide::Theirs,
        });
        Self {
            name: settled.name.clone(),
            ours: settled.ours.clone(),
            theirs: settled.theirs.clone(),
            version: settled.version.clone(),
            taken,
        }
    }
}
