//! The lock, `bibliotax.lock`: the result of resolving.
//!
//! One JSON document, laid out for people and for tools that work by lines: a header of a few lines, a line for each charter, for each
//! need of a project, and for each package, sorted by name. Changes of different packages touch no common line but that of the digests. The
//! same inputs give the same bytes on every machine. One of its digests covers everything else in it, so that a change by hand or by a
//! merge is noticed instead of trusted.

mod changed;
mod charter_use;
mod check;
mod inputs;
mod reach;
mod slots;
mod text;

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::card::{Archive, ArchiveFormat, FileRecord, Step, main_part, tree_of};
use crate::charter::LockedCharter;
use crate::digest::Digest;
use crate::exposes::Exposes;
use crate::facet::Fits;
use crate::file_selection::{FilePattern, SelectsFiles};
use crate::inner_path::InnerPath;
use crate::license::License;
use crate::location::Location;
use crate::manifest::Need;
use crate::name::{ComponentName, PackageName, PartName, Purpose, RegistryName, TargetName};
use crate::resolve::{ChosenFile, ChosenPackage, ChosenStep, Resolution};
use crate::source::{Source, check_folder};
use crate::version::Version;
use crate::workspace::{Project, Workspace};

pub use self::changed::{Change, ChangedRelease};
pub use self::charter_use::CharterUse;
pub use self::check::{Held, Line, Mismatch};
pub use self::inputs::inputs;
pub use self::reach::{NeedGraph, Reached, by_spot};
pub use self::slots::{NotForMachine, Scope, Slot};
pub(crate) use self::text::Document;
pub use self::text::{LockFault, changed_charters, changed_lines, listed, salvage, salvage_charters};

/// The file name of a lock.
pub const FILE_NAME: &str = "bibliotax.lock";

/// The format that this version writes, and the newest that it reads.
pub const FORMAT: u64 = 1;

/// The word for needs of no special purpose, in a lock's `purposes`.
pub const RUN: &str = "run";

/// What was resolved, and from what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lock {
    /// Digest of what it was resolved from; see [`inputs`].
    pub made_from: Digest,
    /// Where the packages' registries are, as the manifest says; `None` where it gives an absolute path,
    /// which has no meaning on another machine.
    pub registries: BTreeMap<RegistryName, Option<String>>,
    /// The releases of charters that bind it, by name.
    pub charters: Vec<LockedCharter>,
    /// The projects whose needs these are.
    pub projects: Vec<LockedProject>,
    /// The packages, sorted by name.
    pub packages: Vec<LockedPackage>,
}

/// One package of a lock.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedPackage {
    /// The package.
    pub name: PackageName,
    /// The release chosen.
    pub version: Version,
    /// Where it comes from.
    pub source: Source,
    /// Whether that stands in for the package while somebody works on it.
    #[serde(rename = "stood-in", default, skip_serializing_if = "std::ops::Not::not")]
    pub stood_in: bool,
    /// The digest of its card; what comes from no registry has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub card: Option<Digest>,
    /// Its licence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub license: Option<License>,
    /// The targets on which it is needed; empty where no project has any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<TargetName>,
    /// Its components that are wanted, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub components: Vec<ComponentName>,
    /// Its archives that are taken, on any machine.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<LockedFile>,
    /// The packages that it needs here, sorted: for a capability the provider that was taken.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<PackageName>,
    /// What it needs and the project does without, sorted.
    #[serde(rename = "left-out", default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<PackageName>,
    /// The capabilities that it was taken for, sorted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<PackageName>,
    /// Paths inside it by the role that they play, as its card says.
    #[serde(default, skip_serializing_if = "Exposes::is_empty")]
    pub exposes: Exposes,
    /// What it wants done by hand.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<LockedStep>,
}

/// A step of a lock.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedStep {
    /// The step, as the card says it.
    pub step: Step,
    /// The targets that it is for; empty where it is for all that reach the package.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<TargetName>,
}

impl LockedStep {
    fn new(chosen: &ChosenStep, reaching: &[String]) -> Self {
        Self { step: chosen.step.clone(), targets: only_some(&chosen.targets, reaching) }
    }
}

impl LockedPackage {
    /// Its version and, where something stands in for it, what.
    pub fn shown_version(&self) -> String {
        let stand_in = if self.stood_in { format!(" (stand-in: {})", self.source) } else { String::new() };
        format!("{}{stand_in}", self.version)
    }

    /// Whether it is needed on this target, of a project that has some.
    pub fn is_on(&self, target: &str) -> bool {
        self.targets.iter().any(|one| one.as_str() == target)
    }

    /// The bytes of all its archives together.
    pub fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }
}

/// An archive of a lock.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedFile {
    /// Which part of the release it holds.
    #[serde(default = "main_part")]
    pub part: PartName,
    /// The targets that take it; empty where all do that reach the package.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<TargetName>,
    /// What it is for, as its card says.
    #[serde(rename = "for", default, skip_serializing_if = "Fits::is_empty")]
    pub only_for: Fits,
    /// The digest of the archive's bytes.
    pub sha256: Digest,
    /// The archive's length in bytes.
    pub size: u64,
    /// How it is packed.
    pub format: ArchiveFormat,
    /// The folder inside it that holds the package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strip: Option<InnerPath>,
    /// The only files of it that are unpacked.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub include: Vec<FilePattern>,
    /// Files and folders of it that are left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<FilePattern>,
    /// Where it is, if not with the package's registry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}

impl LockedFile {
    /// Whether a target takes it that the package is needed on.
    pub fn is_for(&self, target: &str) -> bool {
        self.targets.is_empty() || self.targets.iter().any(|one| one.as_str() == target)
    }

    /// The archive, of any kind.
    pub fn archive(&self) -> Archive {
        let (strip, url, selection) = (self.strip.clone(), self.url.clone(), self.selection());
        Archive { sha256: self.sha256, size: self.size, format: self.format, strip, selection, url }
    }

    /// What names the tree that is unpacked from it.
    pub fn tree(&self) -> Digest {
        tree_of(&self.sha256, self.strip.as_ref(), &self.selection())
    }

    /// Whether it is this file of a card, for whichever targets it is taken.
    pub fn is_of(&self, file: &FileRecord) -> bool {
        let Self { part, only_for, url, .. } = self;
        (part, only_for, url) == (&file.part, &file.only_for, &file.url) && self.archive() == file.archive()
    }

    fn new(chosen: &ChosenFile, reaching: &[String]) -> Self {
        let ChosenFile { file, targets } = chosen;
        Self {
            part: file.part.clone(),
            targets: only_some(targets, reaching),
            only_for: file.only_for.clone(),
            sha256: file.sha256,
            size: file.size,
            format: file.format,
            strip: file.strip.clone(),
            include: file.include.clone(),
            exclude: file.exclude.clone(),
            url: file.url.clone(),
        }
    }
}

impl SelectsFiles for LockedFile {
    fn patterns(&self) -> (&[FilePattern], &[FilePattern]) {
        (&self.include, &self.exclude)
    }
}

/// A project whose needs are locked.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedProject {
    /// The project.
    pub name: PackageName,
    /// Its folder from the lock's; `.` for that one.
    #[serde(deserialize_with = "project_folder")]
    pub path: String,
    /// The targets that its packages are for, in the manifest's order; empty where no project has any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<TargetName>,
    /// What it needs, in the manifest's order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<LockedNeed>,
}

/// A need of a project.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedNeed {
    /// The package or capability.
    pub name: PackageName,
    /// What for, beside running.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
    /// The targets that it is for; empty for all of the project's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<TargetName>,
}

impl LockedProject {
    fn new(workspace: &Workspace, project: &Project) -> Self {
        let need = |need: &Need| LockedNeed {
            name: need.package.clone(),
            purpose: need.purpose.clone(),
            targets: target_names(need.targets.iter().flatten()),
        };
        Self {
            name: project.name().clone(),
            path: project.path().to_owned(),
            targets: target_names(workspace.targets_of(project)),
            needs: project.manifest.needs.iter().map(need).collect(),
        }
    }
}

impl Lock {
    /// The lock of a resolution of what a workspace needs.
    pub fn new(workspace: &Workspace, resolution: &Resolution) -> Self {
        let mut packages: Vec<LockedPackage> = resolution.packages.iter().map(locked).collect();
        packages.sort_by(|a, b| a.name.cmp(&b.name));
        let charters = workspace.bound.clone();
        let registries = registries_of(workspace, &packages, &charters);
        let projects =
            workspace.projects.iter().map(|project| LockedProject::new(workspace, project)).collect();
        Self { made_from: inputs(workspace), registries, charters, projects, packages }
    }

    /// The charter of this name.
    pub fn charter(&self, name: &PackageName) -> Option<&LockedCharter> {
        self.charters.iter().find(|charter| charter.name == *name)
    }

    /// The package of this name.
    pub fn package(&self, name: &PackageName) -> Option<&LockedPackage> {
        named(&self.packages, name)
    }

    /// The packages that need another, by name.
    pub fn needed_by(&self, name: &PackageName) -> Vec<&PackageName> {
        let needing = self.packages.iter().filter(|package| package.needs.contains(name));
        needing.map(|package| &package.name).collect()
    }

    /// The package that answers a need on a name: the one of that name, or the provider taken for the capability.
    pub fn answering(&self, name: &PackageName) -> Option<&LockedPackage> {
        answering(&self.packages, name)
    }

    /// The digest that names this lock: of everything in it.
    pub fn digest(&self) -> Digest {
        text::digest(self)
    }
}

/// Where the registries are that packages and charters come from, as the manifests say.
fn registries_of(
    workspace: &Workspace,
    packages: &[LockedPackage],
    charters: &[LockedCharter],
) -> BTreeMap<RegistryName, Option<String>> {
    let of_packages = packages.iter().filter_map(|package| package.source.registry());
    let used: BTreeSet<&RegistryName> =
        of_packages.chain(charters.iter().map(|charter| &charter.source)).collect();
    let declared = workspace.registries.iter().filter(|registry| used.contains(&registry.name));
    declared.map(|registry| (registry.name.clone(), portable(&registry.url))).collect()
}

fn locked(package: &ChosenPackage) -> LockedPackage {
    let entry = &package.release.entry;
    LockedPackage {
        name: entry.name.clone(),
        version: entry.version.clone(),
        source: package.source.clone(),
        stood_in: package.is_stand_in,
        card: package.source.registry().map(|_| entry.card),
        license: entry.license.clone(),
        targets: target_names(&package.targets),
        components: package.components.clone(),
        files: package.files.iter().map(|file| LockedFile::new(file, &package.targets)).collect(),
        needs: package.needs.clone(),
        left_out: package.left_out.clone(),
        provides: package.provides.clone(),
        exposes: entry.exposes.clone(),
        steps: package.steps.iter().map(|step| LockedStep::new(step, &package.targets)).collect(),
    }
}

/// The names of targets that a manifest declares, which checks them as it is read.
fn target_names<T: AsRef<str>>(targets: impl IntoIterator<Item = T>) -> Vec<TargetName> {
    targets.into_iter().filter_map(|target| target.as_ref().parse().ok()).collect()
}

/// The targets that something is for; none where these are all that reach its package.
fn only_some(targets: &[String], reaching: &[String]) -> Vec<TargetName> {
    if targets == reaching { Vec::new() } else { target_names(targets) }
}

fn project_folder<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<String, D::Error> {
    let path = String::deserialize(deserializer)?;
    check_folder(&path).map_err(serde::de::Error::custom)?;
    Ok(path)
}

/// The package of this name among packages sorted by name.
fn named<'l>(packages: &'l [LockedPackage], name: &PackageName) -> Option<&'l LockedPackage> {
    packages.binary_search_by(|package| package.name.cmp(name)).ok().map(|at| &packages[at])
}

/// The package of this name or, of a capability, the provider that was taken.
fn answering<'l>(packages: &'l [LockedPackage], name: &PackageName) -> Option<&'l LockedPackage> {
    let provider = || packages.iter().find(|package| package.provides.contains(name));
    named(packages, name).or_else(provider)
}

/// A registry's place as it may stand in a lock: relative paths and URLs.
fn portable(url: &str) -> Option<String> {
    let is_absolute = matches!(Location::of(url), Location::Absolute(_));
    (!is_absolute).then(|| url.to_owned())
}

#[cfg(any(test, feature = "samples"))]
pub mod samples;
#[cfg(test)]
mod tests;
