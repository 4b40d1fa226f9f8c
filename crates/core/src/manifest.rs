//! The manifest, `bibliotax.toml`: what people write.
//!
//! [`Manifest`] is its meaning, read by `read` with every fault that can be found in one go; [`ManifestText`]
//! is its text, edited in place so that comments, order and spacing survive; `template` is the text that a
//! new project starts from. Nothing here opens a file.

mod declared;
mod edit;
mod line_ends;
mod outline;
mod published;
mod read;
mod settings;
mod stated;
mod syntax;
pub mod tasks;
mod template;
#[cfg(test)]
mod tests;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::{fmt, ops};

pub use self::declared::{DeclaredArchive, DeclaredGit, DeclaredSource, GitPoint};
pub use self::edit::ManifestText;
pub use self::outline::{Outline, place_of};
pub use self::read::{read_settings, read_stated, user_in_url};
pub use self::settings::{Settings, UseColor};
pub use self::stated::StatedCard;
pub use self::tasks::Task;
pub use self::template::{RegistryLine, new_manifest, new_project, new_workspace};
use crate::build_tool::BuildTool;
use crate::card::{CardConflict, CardNeed, Component, Provided, Step};
use crate::charter::{Charter, DeclaredCharter};
use crate::exposes::Exposes;
use crate::facet::{Facet, Fits, Target};
use crate::fault::Fault;
use crate::inner_path::InnerPath;
use crate::license::License;
use crate::name::{
    ComponentName, DeviceName, FacetName, Family, NamePattern, PackageName, PartName, ProgramName, Purpose,
    RegistryName, RoleName, Tag, ToolName,
};
use crate::package_url::PackageUrl;
use crate::range::Range;
use crate::rules::Rules;
use crate::upstream::UpstreamVersion;
use crate::version::Version;

/// The file name of a manifest.
pub const FILE_NAME: &str = "bibliotax.toml";

/// The largest manifest that is read, in bytes; far above what a person writes.
pub const MAX_SIZE: usize = 1 << 20;

/// What a need says instead of a range that is its family's.
const AS_FAMILY: &str = "family";

/// What a need says instead of a range that is the workspace's.
const AS_SHARED: &str = "shared";

/// What a need says instead of a range that is a charter's.
const AS_CHARTER: &str = "charter";

/// What a manifest says.
#[derive(Debug, Clone, Default)]
pub struct Manifest {
    /// The project itself; none where a workspace's root is no project.
    pub project: Option<ProjectDeclaration>,
    /// The projects that share its lock and its shelf, where it is a workspace's root.
    pub workspace: Option<ProjectFolders>,
    /// The packages that something else stands in for, in the whole workspace.
    pub stand_ins: BTreeMap<PackageName, StandIn>,
    /// The ranges that needs of the workspace may take as theirs.
    pub shared: BTreeMap<PackageName, Range>,
    /// Where packages are looked up; the order has no meaning.
    pub registries: Vec<RegistryDeclaration>,
    /// The charters that the workspace takes on.
    pub charters: Vec<DeclaredCharter>,
    /// What the project states for many workspaces, where it is a charter.
    pub charter: Option<Charter>,
    /// What the project needs, in the order of the manifest: first for running, then purpose by purpose.
    pub needs: Vec<Need>,
    /// The ranges that families are kept in.
    pub families: BTreeMap<Family, Range>,
    /// The providers to take for capabilities where that is possible.
    pub capabilities: BTreeMap<PackageName, PackageName>,
    /// The environments that the project runs in.
    pub targets: Vec<Target>,
    /// The facets that the manifest defines.
    pub facets: BTreeMap<FacetName, Facet>,
    /// What the project, as a library, promises of itself.
    pub fits: Fits,
    /// Programs that have to be on the machine, and in which versions.
    pub programs: BTreeMap<ProgramName, Range>,
    /// The machines that its targets stand for, as far as they have names.
    pub devices: Vec<Device>,
    /// The commands that it has a name for.
    pub tasks: Vec<Task>,
    /// How the shelf is made.
    pub shelf: ShelfSettings,
    /// What the team allows.
    pub rules: Arc<Rules>,
    /// What a published card says beside the needs.
    pub card: CardPart,
    /// The build tools that links are rendered for.
    pub links: Vec<BuildTool>,
    /// The tools of targets, by what they are for.
    pub tools: BTreeMap<String, BTreeMap<ToolName, String>>,
    /// What programs find in their environment, by the names of variables.
    pub environment: BTreeMap<String, RoleVariable>,
}

/// A variable of the environment that holds what packages expose in a role.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoleVariable {
    /// The role.
    pub role: RoleName,
    /// What stands before each path or value.
    pub prefix: String,
    /// What stands between them; what the system has between paths without it.
    pub separator: Option<String>,
}

impl Manifest {
    /// What releases have to fit: the targets, and what the project promises of itself.
    pub fn places(&self) -> Vec<Target> {
        self.targets.iter().cloned().chain(self.promise()).collect()
    }

    /// What the project, as a library, promises of itself, as a place that releases have to fit.
    pub fn promise(&self) -> Option<Target> {
        let name = self.project.as_ref().filter(|_| !self.fits.is_empty())?.name.to_string();
        Some(Target { name, values: self.fits.clone(), is_promise: true })
    }

    /// The family of this manifest that a package's scope names.
    pub fn family_of(&self, package: &PackageName) -> Option<&Family> {
        self.families.keys().find(|family| package.scope() == Some(family.as_str()))
    }

    /// Reads a manifest; on failure all faults that were found.
    pub fn read(text: &str) -> Result<Self, Vec<Fault>> {
        read::read(text, None, None)
    }

    /// Reads the manifest of a project, which may name what the root of its workspace declares.
    pub fn read_project(text: &str, root: &Self) -> Result<Self, Vec<Fault>> {
        read::read(text, Some(root), None)
    }

    /// Reads a manifest, of a project with its workspace's root, with the cards beside it, by the way to them.
    pub fn read_beside(
        text: &str,
        root: Option<&Self>,
        cards: &BTreeMap<String, StatedCard>,
    ) -> Result<Self, Vec<Fault>> {
        read::read(text, root, Some(cards))
    }
}

/// The `[workspace]` part of a root.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ProjectFolders {
    /// The projects' folders, or patterns of them.
    pub folders: Vec<String>,
    /// Patterns of folders whose projects stand on their own.
    pub apart: Vec<String>,
    /// Where the part stands in the manifest.
    pub span: ops::Range<usize>,
}

/// One line of `[devices]`: a machine that a target stands for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Device {
    /// What people call it.
    pub name: DeviceName,
    /// The target.
    pub target: String,
    /// Where it is said.
    pub span: ops::Range<usize>,
}

impl Device {
    /// That nobody declares its target.
    pub(crate) fn homeless(&self) -> String {
        format!("device `{}` is of target `{}`, which isn't declared", self.name, self.target)
    }
}

/// How a project's shelf is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ShelfSettings {
    /// How files get there.
    pub link: LinkWay,
    /// Whether the links give paths from the root of the disk, and not from the project's folder.
    pub absolute: bool,
}

/// How a file gets from the store onto a shelf.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LinkWay {
    /// The first of the others that the disk can.
    #[default]
    Auto,
    /// As a file of its own that shares its blocks until one side is written.
    Reflink,
    /// As a second name of the store's read-only file.
    Hard,
    /// As a file of its own.
    Copy,
}

impl LinkWay {
    /// All of them with their words.
    pub const WORDS: [(&str, Self); 4] =
        [("auto", Self::Auto), ("reflink", Self::Reflink), ("hard", Self::Hard), ("copy", Self::Copy)];
}

impl fmt::Display for LinkWay {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::WORDS.iter().find(|(_, way)| way == self).map_or("", |(word, _)| word))
    }
}

/// The `[project]` part.
#[derive(Debug, Clone)]
pub struct ProjectDeclaration {
    /// The project's name, and that of the package it is published as.
    pub name: PackageName,
    /// The version it would be published as.
    pub version: Option<Version>,
    /// Its licence.
    pub license: Option<License>,
    /// Where the part stands in the manifest.
    pub span: ops::Range<usize>,
}

/// One line of `[registries]`.
#[derive(Debug, Clone)]
pub struct RegistryDeclaration {
    /// The name that lock and needs use.
    pub name: RegistryName,
    /// Where it is, as written: a path relative to the manifest's folder, or a URL.
    pub url: String,
    /// Where copies of it are, written alike.
    pub mirrors: Vec<String>,
    /// What only the manifest can allow.
    pub allowed: Allowed,
    /// The packages that come from this registry even where others hold the name, too.
    pub owns: Vec<NamePattern>,
    /// Where the line stands in the manifest.
    pub span: ops::Range<usize>,
}

/// What a registry may do that only the manifest can allow.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Allowed {
    /// To be asked over a network without encryption.
    pub plain: bool,
    /// To have its interface for programs at another host: that host, as a URL.
    pub service: Option<String>,
    /// To have its tokens given out at another host, which gets user and password then: that host, as a URL.
    pub realm: Option<String>,
}

/// One need of a project.
#[derive(Debug, Clone)]
pub struct Need {
    /// The package.
    pub package: PackageName,
    /// The versions that will do.
    pub range: Range,
    /// The one registry to take it from.
    pub registry: Option<RegistryName>,
    /// Whether pre-releases count like any other version.
    pub prereleases: bool,
    /// The family whose range it has.
    pub family: Option<Family>,
    /// Whether its range is the workspace's.
    pub is_shared: bool,
    /// Whether its range is a charter's: any, until it is known which release of a charter binds the workspace.
    pub is_chartered: bool,
    /// Where it comes from, if that is no registry.
    pub source: Option<DeclaredSource>,
    /// What the package needs and the project does without.
    pub without: Vec<PackageName>,
    /// The targets that it is for; `None` for all.
    pub targets: Option<Vec<String>>,
    /// Its components that are wanted.
    pub components: Vec<ComponentName>,
    /// Whether the components that come by default are not wanted.
    pub bare: bool,
    /// The parts that are asked for beside those that come along.
    pub parts: Vec<PartName>,
    /// Whether its programs are found before the system's where tasks are run; they come last otherwise.
    pub programs_first: bool,
    /// What it is for, beside running.
    pub purpose: Option<Purpose>,
    /// Where its name stands in the manifest.
    pub span: ops::Range<usize>,
}

/// One line of `[stand-ins]`: what stands in for a package while somebody works on it.
#[derive(Debug, Clone, PartialEq, serde::Serialize)]
pub struct StandIn {
    /// Where it is.
    pub source: DeclaredSource,
    /// The version that it counts as, if it doesn't say one itself.
    pub version: Option<Version>,
    /// What people say of it; without it, what a need of the package says.
    pub card: Option<StatedCard>,
    /// Where its name stands in the manifest.
    #[serde(skip)]
    pub span: ops::Range<usize>,
}

impl Need {
    /// Whether there are several releases that it may be: not of a folder, a commit or an archive.
    pub fn has_releases(&self) -> bool {
        match &self.source {
            None => true,
            Some(DeclaredSource::Git(git)) => matches!(git.at, GitPoint::Releases(_)),
            Some(_) => false,
        }
    }
}

/// The `[card]` part: what publishing adds to the card.
#[derive(Debug, Clone, Default, PartialEq, serde::Serialize)]
pub struct CardPart {
    /// One line for lists.
    pub summary: Option<String>,
    /// A longer text.
    pub description: Option<String>,
    /// Words to be found by.
    pub tags: Vec<Tag>,
    /// Where the package is presented.
    pub homepage: Option<String>,
    /// Where its sources are.
    pub repository: Option<String>,
    /// The upstream software that it has inside.
    pub upstream: Vec<PackageUrl>,
    /// The version as upstream writes it.
    pub upstream_version: Option<UpstreamVersion>,
    /// What changed with this release.
    pub notes: Option<String>,
    /// The family that the package is of.
    pub family: Option<Family>,
    /// The capabilities that it provides.
    pub provides: Vec<Provided>,
    /// The releases that it can't be used with.
    pub conflicts: Vec<CardConflict>,
    /// Paths by role.
    pub exposes: Exposes,
    /// The optional parts that have a name.
    pub components: BTreeMap<ComponentName, Component>,
    /// Patterns of the files of the main part; without them, all that is neither hidden nor ignored.
    pub files: Option<Vec<String>>,
    /// The archives beside it.
    pub parts: Vec<PartDeclaration>,
    /// What a person must still do after an install or an update.
    pub steps: Vec<Step>,
}

/// One `[[card.parts]]`: an archive that is published beside, or instead of, the main one.
#[derive(Debug, Clone, PartialEq, serde::Serialize)]
pub struct PartDeclaration {
    /// Which part it holds.
    pub part: PartName,
    /// The targets that it is for; empty for all.
    pub only_for: Fits,
    /// The folder, inside the project, that it is made from.
    pub from: InnerPath,
    /// Patterns of the files to take, inside that folder; without them, all that is there.
    pub files: Option<Vec<String>>,
}

impl From<&Need> for CardNeed {
    /// What a project's need is in the card that it is published with.
    fn from(need: &Need) -> Self {
        Self {
            name: need.package.clone(),
            range: need.range.clone(),
            prereleases: need.prereleases,
            components: need.components.clone(),
            bare: need.bare,
            when: Fits::new(),
            purpose: need.purpose.clone(),
        }
    }
}
