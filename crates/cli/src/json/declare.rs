//! What `init`, `need`, `drop`, `accept` and `resolve` print.

use bibliotax_app::accept;
use bibliotax_app::init::{self, Begins};
use bibliotax_app::need::sources::TagsFound;
use bibliotax_app::{drop, need, resolve};
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::name::PackageName;
use bibliotax_core::tags::NoRelease;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::change::{Changes, Edit, PassedOver, UnacceptedLicense, passed_over};

/// What `init` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Init {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The manifest's file name; null where only old files were removed.
    pub manifest: Option<String>,
    /// The project that was begun.
    pub project: Option<PackageName>,
    /// The folder of the workspace that the project belongs to.
    pub workspace: Option<String>,
    /// The folders of the projects of a workspace that was begun.
    pub folders: Vec<String>,
    /// What projects have from before, when they were alone.
    pub old: Vec<OldFiles>,
    /// Whether that was removed.
    pub old_removed: bool,
}

impl Document for Init {
    const COMMAND: &'static str = "init";
}

/// What a project has from before, when it was alone.
#[derive(Serialize, JsonSchema)]
pub struct OldFiles {
    /// Its folder.
    pub folder: String,
    /// Whether it has a lock.
    pub lock: bool,
    /// Whether it has a shelf.
    pub shelf: bool,
    /// Whether it has templates of links.
    pub templates: bool,
}

impl From<&init::OldFiles> for OldFiles {
    fn from(old: &init::OldFiles) -> Self {
        Self { folder: old.folder.clone(), lock: old.lock, shelf: old.shelf, templates: old.templates }
    }
}

impl Init {
    /// What was begun.
    pub fn begun(plan: &init::Plan, dry_run: bool, old_removed: bool) -> Self {
        let manifest = Some(FILE_NAME.to_owned());
        let (folders, old) = (Vec::new(), Vec::new());
        match &plan.begins {
            Begins::Workspace { projects, old } => Self {
                dry_run,
                manifest,
                project: None,
                workspace: None,
                folders: projects.clone(),
                old: old.iter().map(OldFiles::from).collect(),
                old_removed,
            },
            Begins::Project { name, workspace, .. } => {
                let workspace = workspace.as_ref().map(|outer| outer.root.display().to_string());
                Self { dry_run, manifest, project: Some(name.clone()), workspace, folders, old, old_removed }
            }
        }
    }

    /// What was removed of an existing workspace.
    pub fn removed(old: &[init::OldFiles]) -> Self {
        Self {
            dry_run: false,
            manifest: None,
            project: None,
            workspace: None,
            folders: Vec::new(),
            old: old.iter().map(OldFiles::from).collect(),
            old_removed: true,
        }
    }
}

/// What `accept` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Accept {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The licences that were accepted.
    pub accepted: Vec<UnacceptedLicense>,
    /// The edits of the manifest.
    pub edits: Vec<Edit>,
}

impl Document for Accept {
    const COMMAND: &'static str = "accept";
}

impl Accept {
    /// What was accepted.
    pub fn of(plan: &accept::Plan, dry_run: bool) -> Self {
        let accepted = plan.accepted.iter().map(UnacceptedLicense::from).collect();
        Self { dry_run, accepted, edits: plan.edited.iter().map(Edit::from).collect() }
    }
}

/// What `need` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Need {
    #[serde(flatten)]
    pub changes: Changes,
    /// What is declared.
    pub declared: Vec<Declared>,
    /// Newer releases that were not used.
    pub passed_over: Vec<PassedOver>,
    /// What the tags of a repository were read as; null where no repository is used by its releases.
    pub tags: Option<Tags>,
    /// The version, where it was only read off the archive's name.
    pub proposed_version: Option<Version>,
}

/// What the tags of a repository were read as.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Tags {
    /// The pattern that they were read by.
    pub pattern: String,
    /// The releases, newest first.
    pub releases: Vec<TaggedRelease>,
    /// The tags that name none.
    pub left_out: Vec<OtherTag>,
}

/// A release by its tag.
#[derive(Serialize, JsonSchema)]
pub struct TaggedRelease {
    /// The tag.
    pub tag: String,
    /// The version.
    pub version: Version,
}

/// A tag that names no release.
#[derive(Serialize, JsonSchema)]
pub struct OtherTag {
    /// The tag.
    pub tag: String,
    /// Why.
    pub why: String,
}

impl From<&TagsFound> for Tags {
    fn from(found: &TagsFound) -> Self {
        let release =
            |(version, tag): &(Version, String)| TaggedRelease { tag: tag.clone(), version: version.clone() };
        let other = |(tag, why): &(String, NoRelease)| OtherTag { tag: tag.clone(), why: why.to_string() };
        Self {
            pattern: found.pattern.to_string(),
            releases: found.releases.iter().map(release).collect(),
            left_out: found.left_out.iter().map(other).collect(),
        }
    }
}

impl Document for Need {
    const COMMAND: &'static str = "need";
}

/// A line of a manifest that declares a package.
#[derive(Serialize, JsonSchema)]
pub struct Declared {
    /// The manifest, seen from the workspace's folder.
    pub file: Option<String>,
    /// The table that the line is in.
    pub table: String,
    /// The line.
    pub line: String,
}

impl Need {
    /// What is declared and what that changes.
    pub fn of(plan: &need::Plan, changes: Changes) -> Self {
        let lines = plan.declared.iter().flat_map(|package| &package.lines);
        let declared = lines.map(|line| Declared {
            file: line.file.clone(),
            table: line.table.clone(),
            line: line.line.clone(),
        });
        Self {
            changes,
            declared: declared.collect(),
            passed_over: passed_over(&plan.passed_over),
            tags: plan.tags.as_ref().map(Tags::from),
            proposed_version: plan.proposed_version.as_ref().map(|(_, version)| version.clone()),
        }
    }
}

/// What `drop` prints.
#[derive(Serialize, JsonSchema)]
pub struct Drop {
    #[serde(flatten)]
    pub changes: Changes,
    /// Packages that stay because something else needs them.
    pub stays: Vec<Stays>,
}

impl Document for Drop {
    const COMMAND: &'static str = "drop";
}

/// A package that stays.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Stays {
    /// The package.
    pub package: PackageName,
    /// The packages that need it; empty where it is needed for another purpose.
    pub needed_by: Vec<PackageName>,
}

impl Drop {
    /// What is dropped and what stays.
    pub fn of(plan: &drop::Plan, changes: Changes) -> Self {
        let stays = plan.stay().into_iter().map(|stays| Stays {
            package: stays.package.clone(),
            needed_by: stays.needed_by.into_iter().cloned().collect(),
        });
        Self { changes, stays: stays.collect() }
    }
}

/// What `resolve` prints.
#[derive(Serialize, JsonSchema)]
pub struct Resolve {
    #[serde(flatten)]
    pub changes: Changes,
    /// Why the lock before couldn't be used, and how much of it could be read.
    pub salvaged: Option<Salvaged>,
}

impl Document for Resolve {
    const COMMAND: &'static str = "resolve";
}

/// What could be read of a lock that was damaged.
#[derive(Serialize, JsonSchema)]
pub struct Salvaged {
    /// What was wrong with it.
    pub reason: String,
    /// How many of its packages could be read.
    pub packages: usize,
}

impl Resolve {
    /// How the lock changes.
    pub fn of(plan: &resolve::Plan, changes: Changes) -> Self {
        let salvaged = plan.salvaged.as_ref();
        let salvaged =
            salvaged.map(|(reason, packages)| Salvaged { reason: reason.clone(), packages: *packages });
        Self { changes, salvaged }
    }
}
