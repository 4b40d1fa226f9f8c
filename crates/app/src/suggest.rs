//! Words that a command line could go on with: packages, projects, targets and other names, for shells that complete.
//!
//! Nobody is asked over a network. Where something can't be read, there is nothing to suggest.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::lock::{self, FILE_NAME as LOCK};
use bibliotax_core::manifest::{FILE_NAME, MAX_SIZE, Manifest, RegistryDeclaration};
use bibliotax_core::name::PackageName;
use bibliotax_core::workspace::Workspace;
use bibliotax_disk::read::read_text;

use crate::context::Context;
use crate::git::WorkingCopy;
use crate::resolving::Resolver;
use crate::search_options::SearchOptions;
use crate::workspace::{
    MAX_LOCK_SIZE, Manifests, Membership, Outer, WorkspaceFolder, called, outer_workspace,
};

/// Most words that are suggested.
const MAX_SUGGESTED: usize = 100;

/// What a word names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// A package of a registry.
    KnownPackage,
    /// A package that a manifest needs.
    NeededPackage,
    /// A package of the lock.
    LockedPackage,
    /// A project of the workspace.
    Project,
    /// A target.
    Target,
    /// A purpose that needs are for.
    Purpose,
    /// A task.
    Task,
    /// A registry.
    Registry,
    /// A branch or tag of git.
    Revision,
    /// A step to do by hand.
    Step,
    /// A machine that a target stands for.
    Device,
}

/// A word, with what it names in a few words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestion {
    /// The word.
    pub word: String,
    /// What is known of what it names.
    pub about: Option<String>,
}

/// The words of a kind that begin with a text.
pub fn suggest(named: Named, beginning: &str, context: &Context<'_>) -> Vec<Suggestion> {
    let found = match named {
        Named::KnownPackage => known_packages(beginning, context),
        Named::LockedPackage => locked_packages(context),
        Named::Revision => revisions(context),
        Named::Step => steps(context),
        _ => Manifests::find(context.folder)
            .and_then(|mut manifests| manifests.read())
            .map(|declared| declared_names(named, &declared))
            .ok(),
    };
    let mut words: BTreeMap<String, Option<String>> = BTreeMap::new();
    for Suggestion { word, about } in
        found.into_iter().flatten().filter(|one| one.word.starts_with(beginning))
    {
        words.entry(word).or_insert(about);
    }
    words.into_iter().take(MAX_SUGGESTED).map(|(word, about)| Suggestion { word, about }).collect()
}

/// Packages by the lists of names that this machine has.
fn known_packages(beginning: &str, context: &Context<'_>) -> Option<Vec<Suggestion>> {
    let environment = context.environment.offline_if(true);
    let (root, registries) = match root_around(context.folder) {
        Some(root) => (root.clone(), declared_registries(&root, context.folder)?),
        None => (context.folder.to_owned(), environment.settings.settings.registries.clone()),
    };
    let workspace = WorkspaceFolder::of_registries(&root, registries);
    let options = SearchOptions::default();
    let resolver = Resolver::open(&workspace, &workspace.declared, &environment, &options).ok()?;
    let cache = environment.registries_folder().ok()?;
    let found = resolver.registries.beginning_with(beginning, MAX_SUGGESTED, &cache);
    Some(
        found
            .into_iter()
            .map(|(_, named)| Suggestion { word: named.name.to_string(), about: named.summary })
            .collect(),
    )
}

/// The registries that the root of a workspace declares, and the project that a folder is in.
fn declared_registries(root: &Path, folder: &Path) -> Option<Vec<RegistryDeclaration>> {
    let text = |folder: &Path| read_text(&folder.join(FILE_NAME), MAX_SIZE).ok()?;
    let of_root = Manifest::read(&text(root)?).ok()?;
    let project =
        folder.ancestors().find(|folder| folder.join(FILE_NAME).is_file()).filter(|project| *project != root);
    let of_project = project.and_then(|project| Manifest::read_project(&text(project)?, &of_root).ok());
    let mut registries = of_root.registries;
    registries.extend(of_project.into_iter().flat_map(|manifest| manifest.registries));
    Some(registries)
}

/// The root of the workspace around a folder, found without a look at its other projects.
fn root_around(folder: &Path) -> Option<PathBuf> {
    let nearest = folder.ancestors().find(|folder| folder.join(FILE_NAME).is_file())?;
    match outer_workspace(nearest).ok()? {
        Some(Outer { root, membership: Membership::Listed, .. }) => Some(root),
        _ => Some(nearest.to_owned()),
    }
}

/// The packages and charters of the lock, by its lines: it isn't held against anything.
fn locked_packages(context: &Context<'_>) -> Option<Vec<Suggestion>> {
    let text = read_text(&root_around(context.folder)?.join(LOCK), MAX_LOCK_SIZE).ok()??;
    Some(lock::listed(&text).iter().map(|(name, version)| about_package(name, version.to_string())).collect())
}

fn about_package(name: &PackageName, about: String) -> Suggestion {
    Suggestion { word: name.to_string(), about: Some(about) }
}

/// Names that manifests declare.
fn declared_names(named: Named, declared: &Workspace) -> Vec<Suggestion> {
    let word = |word: String| Suggestion { word, about: None };
    let projects = || declared.projects.iter();
    match named {
        Named::NeededPackage => {
            let needs =
                declared.needs().map(|(_, need)| about_package(&need.package, need.range.to_string()));
            needs
                .chain(declared.charters.iter().map(|one| about_package(&one.name, one.range.to_string())))
                .collect()
        }
        Named::Project => projects().map(|project| word(called(project).to_owned())).collect(),
        Named::Target => declared.targets.iter().map(|target| word(target.name.clone())).collect(),
        Named::Purpose => {
            declared.needs().filter_map(|(_, need)| Some(word(need.purpose.as_ref()?.to_string()))).collect()
        }
        Named::Task => {
            let tasks = projects().flat_map(|project| &project.manifest.tasks);
            tasks
                .map(|task| Suggestion { word: task.name.to_string(), about: task.command.clone() })
                .collect()
        }
        Named::Registry => declared
            .registries
            .iter()
            .map(|registry| Suggestion { word: registry.name.to_string(), about: Some(registry.url.clone()) })
            .collect(),
        Named::Device => declared
            .devices
            .iter()
            .map(|device| Suggestion { word: device.name.to_string(), about: Some(device.target.clone()) })
            .collect(),
        Named::KnownPackage | Named::LockedPackage | Named::Revision | Named::Step => Vec::new(),
    }
}

fn revisions(context: &Context<'_>) -> Option<Vec<Suggestion>> {
    let copy = WorkingCopy::find(context.folder).ok()??;
    let listed = copy.ask([
        "for-each-ref",
        "--format=%(refname:short)%09%(objecttype)",
        "refs/heads",
        "refs/tags",
        "refs/remotes",
    ])?;
    let line = |line: &str| {
        let (word, _) = line.split_once('\t')?;
        Some(Suggestion { word: word.to_owned(), about: None })
    };
    let head = Suggestion { word: "HEAD".to_owned(), about: Some("the last commit".to_owned()) };
    Some(listed.lines().filter_map(line).chain([head]).collect())
}

fn steps(context: &Context<'_>) -> Option<Vec<Suggestion>> {
    let workspace = WorkspaceFolder::find(context.folder).ok()?;
    let open = crate::steps::open_steps(&workspace, workspace.needed_lock().ok()?).ok()?;
    Some(
        open.into_iter()
            .map(|step| Suggestion { word: step.id.to_string(), about: Some(step.package.to_string()) })
            .collect(),
    )
}
