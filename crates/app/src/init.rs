//! `init`: a commented manifest in a folder.

mod old_files;

use std::path::{Path, PathBuf};

use bibliotax_core::fault::Fault;
use bibliotax_core::location::Location;
use bibliotax_core::manifest::{
    self, ManifestText, RegistryLine, new_manifest, new_project, new_workspace, user_in_url,
};
use bibliotax_core::name::{PackageName, nearest_package_name};
use bibliotax_core::source::names_user;
use bibliotax_disk::write::write_whole;
use bibliotax_registry::model::description::DESCRIPTION;

use crate::context::Context;
use crate::failure::Failure;
use crate::workspace::{Membership, Outer, WorkspaceFolder, outer_workspace, projects_below};

pub use self::old_files::{OldFiles, has_workspace, old_files_of};

/// What is begun.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The project's name; the folder's where it isn't said.
    pub name: Option<String>,
    /// Whether the folder becomes the root of a workspace.
    pub is_workspace: bool,
    /// Registries to declare: `NAME=FOLDER`.
    pub registries: Vec<String>,
}

/// A manifest, not yet written.
pub struct Plan {
    /// Its text.
    pub text: String,
    /// The registries that it names in folders where there is none yet.
    pub missing_registries: Vec<RegistryLine>,
    /// What it begins.
    pub begins: Begins,
    /// Whether it declares a registry.
    pub has_registry: bool,
    path: PathBuf,
}

/// What a new manifest begins.
pub enum Begins {
    /// A workspace.
    Workspace {
        /// The folders of its projects.
        projects: Vec<String>,
        /// What these have from before.
        old: Vec<OldFiles>,
    },
    /// A project.
    Project {
        /// Its name.
        name: PackageName,
        /// The workspace that it becomes a project of.
        workspace: Option<Outer>,
        /// A project around it, which is no workspace.
        around: Option<PathBuf>,
    },
}

impl Plan {
    /// Writes the manifest, and lists a new project in its workspace.
    pub fn apply(&self) -> Result<(), Failure> {
        write_whole(&self.path, self.text.as_bytes())?;
        match &self.begins {
            Begins::Project { workspace: Some(outer), .. } if outer.membership == Membership::Unlisted => {
                list_in(outer)
            }
            _ => Ok(()),
        }
    }
}

/// Works out the manifest.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let path = context.folder.join(manifest::FILE_NAME);
    if path.exists() {
        return Err(exists_already(request));
    }
    if request.is_workspace {
        begin_workspace(request, context.folder, path)
    } else {
        begin_project(request, context.folder, path)
    }
}

fn exists_already(request: &Request) -> Failure {
    let message = format!("{} exists already", manifest::FILE_NAME);
    Failure::new("init.exists", message).advice(if request.is_workspace {
        "a project can be a workspace's root, too: write `[workspace]` in it, and `folders = [\"…\"]` below that"
    } else {
        "open it in an editor"
    })
}

fn begin_workspace(request: &Request, here: &Path, path: PathBuf) -> Result<Plan, Failure> {
    let projects = projects_below(here);
    let old = OldFiles::all_in(here, &projects);
    let registries = registry_lines(&request.registries)?;
    Ok(Plan {
        text: new_workspace(&projects, &registries),
        missing_registries: missing(&registries, here),
        begins: Begins::Workspace { projects, old },
        has_registry: !registries.is_empty(),
        path,
    })
}

fn begin_project(request: &Request, here: &Path, path: PathBuf) -> Result<Plan, Failure> {
    let name = project_name(request, here)?;
    let registries = registry_lines(&request.registries)?;
    let workspace = outer_workspace(here)?.filter(|outer| outer.membership != Membership::Apart);
    workspace.iter().try_for_each(|outer| check_is_free(&name, outer))?;
    let is_project = workspace.is_some() && registries.is_empty();
    let text = if is_project { new_project(&name) } else { new_manifest(&name, &registries) };
    let around = if workspace.is_some() { None } else { project_around(here) };
    Ok(Plan {
        text,
        missing_registries: missing(&registries, here),
        begins: Begins::Project { name, workspace, around },
        has_registry: !registries.is_empty() || is_project,
        path,
    })
}

fn project_name(request: &Request, here: &Path) -> Result<PackageName, Failure> {
    if let Some(name) = &request.name {
        return name.parse().map_err(|fault| Failure::in_words("--name", name, fault));
    }
    let folder = here.file_name().unwrap_or_default().to_string_lossy();
    nearest_package_name(&folder).ok_or_else(|| {
        let message = format!("the folder's name `{folder}` can't name a project");
        Failure::new("name.invalid", message).advice("choose a name: `bibliotax init --name NAME`")
    })
}

fn registry_lines(words: &[String]) -> Result<Vec<RegistryLine>, Failure> {
    let line = |text: &String| {
        let (name, url) = text.split_once('=').ok_or_else(|| {
            let fault = Fault::new("name.invalid", "a registry needs a name", 0..text.len());
            Failure::in_words("--registry", text, fault.advice(format!("write `NAME={text}`")))
        })?;
        let name = name.parse().map_err(|fault| Failure::in_words("--registry", text, fault))?;
        if names_user(url) {
            // The words themselves are not shown.
            let fault = user_in_url(url, 0..0);
            return Err(Failure { advice: fault.advice, ..Failure::new(fault.code, fault.message) });
        }
        Ok(RegistryLine { name, url: url.to_owned() })
    };
    words.iter().map(line).collect()
}

/// The registries in folders where there is none.
fn missing(registries: &[RegistryLine], here: &Path) -> Vec<RegistryLine> {
    let in_folders = registries.iter().filter(|registry| Location::of(&registry.url).is_path());
    in_folders.filter(|registry| !here.join(&registry.url).join(DESCRIPTION).is_file()).cloned().collect()
}

/// Fails where a project of a workspace has the name of a new one.
fn check_is_free(name: &PackageName, outer: &Outer) -> Result<(), Failure> {
    // One that can't be read, or has no projects yet, is no hindrance.
    let Ok(workspace) = WorkspaceFolder::without_lock(&outer.root) else { return Ok(()) };
    let Some(other) = workspace.declared.project(name) else { return Ok(()) };
    let message = format!("the workspace has a project {name} already, in `{}`", other.path());
    Err(Failure::new("workspace.two-projects", message)
        .advice("choose another name: `bibliotax init --name NAME`"))
}

/// Lists the folder of a new project in its workspace.
fn list_in(outer: &Outer) -> Result<(), Failure> {
    // It was just read.
    let Ok(mut text) = ManifestText::open(&outer.text) else { return Ok(()) };
    text.add_project(&outer.inner);
    Ok(write_whole(&outer.root.join(manifest::FILE_NAME), text.to_string().as_bytes())?)
}

/// A project around a new one.
fn project_around(here: &Path) -> Option<PathBuf> {
    let mut above = here.ancestors().skip(1);
    above.find(|folder| folder.join(manifest::FILE_NAME).is_file()).map(Path::to_owned)
}
