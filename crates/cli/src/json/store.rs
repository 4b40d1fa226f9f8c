//! What `store` and `kit` print.

use std::path::Path;

use bibliotax_app::store::{Check, Report, TrimPlan};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::{PackageName, TargetName};
use bibliotax_store::inventory::{Project, Tree};
use bibliotax_store::kit::KitHeader;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `store show` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct StoreContents {
    /// The store's folder.
    pub path: String,
    /// Bytes of all archives.
    pub bytes: u64,
    /// Bytes of archives that no project uses.
    pub unused: u64,
    /// Bytes of cached answers of registries.
    pub cache: u64,
    /// Bytes that runs left behind which were killed.
    pub left_behind: u64,
    /// The archives.
    pub archives: Vec<Archive>,
    /// The projects that use the store.
    pub projects: Vec<StoreProject>,
}

impl Document for StoreContents {
    const COMMAND: &'static str = "store show";
}

/// An archive of the store.
#[derive(Serialize, JsonSchema)]
pub struct Archive {
    /// Its digest.
    pub sha256: Digest,
    /// The release that it first came for.
    pub release: Option<String>,
    /// How many files it has.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// When it came.
    pub since: Option<Timestamp>,
    /// How many projects use it.
    pub projects: usize,
}

impl From<&Tree> for Archive {
    fn from(tree: &Tree) -> Self {
        Self {
            sha256: tree.archive,
            release: tree.of.clone(),
            files: tree.files,
            bytes: tree.bytes,
            since: Timestamp::try_from(tree.since).ok(),
            projects: tree.projects,
        }
    }
}

/// A project that uses the store.
#[derive(Serialize, JsonSchema)]
pub struct StoreProject {
    /// Its folder.
    pub path: String,
    /// The digests of the archives that it uses.
    pub archives: Vec<Digest>,
    /// Their bytes.
    pub bytes: u64,
}

impl From<&Report> for StoreContents {
    fn from(Report { root, inventory }: &Report) -> Self {
        let project = |project: &Project| StoreProject {
            path: project.path.display().to_string(),
            archives: project.archives.iter().copied().collect(),
            bytes: inventory.bytes_used_by(project),
        };
        Self {
            path: root.display().to_string(),
            bytes: inventory.bytes(),
            unused: inventory.unused().map(|tree| tree.bytes).sum(),
            cache: inventory.answers,
            left_behind: inventory.bytes_left_behind(),
            archives: inventory.trees.iter().map(Archive::from).collect(),
            projects: inventory.projects.iter().map(project).collect(),
        }
    }
}

/// What `store trim` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Trimmed {
    /// Whether nothing was deleted.
    pub dry_run: bool,
    /// The archives that are deleted.
    pub deleted: Vec<Archive>,
    /// Their bytes.
    pub bytes: u64,
    /// Bytes of cached answers of registries that are deleted.
    pub cache: u64,
    /// Bytes that killed runs left behind, which are deleted.
    pub left_behind: u64,
    /// Bytes of the archives that remain.
    pub kept: u64,
}

impl Document for Trimmed {
    const COMMAND: &'static str = "store trim";
}

impl Trimmed {
    /// What is deleted of a store.
    pub fn of(plan: &TrimPlan, dry_run: bool) -> Self {
        let goes = plan.goes();
        let bytes = goes.iter().map(|tree| tree.bytes).sum();
        Self {
            dry_run,
            deleted: goes.iter().map(Archive::from).collect(),
            bytes,
            cache: if plan.with_cache { plan.inventory.answers } else { 0 },
            left_behind: plan.inventory.bytes_left_behind(),
            kept: plan.inventory.bytes() - bytes,
        }
    }
}

/// What `store check` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CheckedStore {
    /// Whether repairing was only tried.
    pub dry_run: bool,
    /// How many archives were checked.
    pub archives: usize,
    /// The digests of archives that are damaged.
    pub damaged: Vec<Digest>,
    /// How many of them were downloaded again.
    pub repaired: usize,
}

impl Document for CheckedStore {
    const COMMAND: &'static str = "store check";
}

impl CheckedStore {
    /// What was found in a store, and repaired.
    pub fn of(check: &Check, repaired: usize, dry_run: bool) -> Self {
        Self { dry_run, archives: check.kept.trees.len(), damaged: check.damaged.clone(), repaired }
    }
}

/// What a kit carries.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Kit {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The kit's file.
    pub file: String,
    /// The projects whose packages it carries; empty for all.
    pub projects: Vec<PackageName>,
    /// The digest of its lock.
    pub lock: Digest,
    /// The targets whose archives it carries; empty for all.
    pub targets: Vec<TargetName>,
    /// How many archives it carries.
    pub archives: usize,
    /// Their bytes.
    pub bytes: u64,
}

impl Kit {
    /// What a kit's header says.
    pub fn of(file: &Path, header: &KitHeader, dry_run: bool) -> Self {
        Self {
            dry_run,
            file: file.display().to_string(),
            projects: header.projects.clone(),
            lock: header.lock,
            targets: header.targets.clone(),
            archives: header.archives,
            bytes: header.bytes,
        }
    }
}

/// What `kit make` prints.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub struct MadeKit(pub Kit);

impl Document for MadeKit {
    const COMMAND: &'static str = "kit make";
}

/// What `kit open` prints.
#[derive(Serialize, JsonSchema)]
pub struct OpenedKit {
    #[serde(flatten)]
    pub kit: Kit,
    /// How many of its archives the store lacked.
    pub new: usize,
}

impl Document for OpenedKit {
    const COMMAND: &'static str = "kit open";
}
