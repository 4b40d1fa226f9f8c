//! `init`: a commented manifest in this folder.

mod before;

use std::path::Path;

use bibliotax_core::location::Location;
use bibliotax_core::manifest::{
    self, ManifestText, RegistryLine, new_manifest, new_member, new_workspace, user_in_url,
};
use bibliotax_core::name::{PackageName, nearest_package_name};
use bibliotax_core::source::names_user;
use bibliotax_disk::write::write_whole;
use bibliotax_registry::model::description::DESCRIPTION;
use serde_json::json;

use self::before::{Before, is_workspace, remove_old_ones, tell};
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::{Outer, Project, Standing, outer_workspace, projects_below};
use crate::ui::Ui;

/// Write a commented manifest in this folder
///
/// The project is named after the folder unless --name says otherwise. A manifest that is there is never
/// overwritten. Inside a workspace the project becomes one of its members; --workspace makes a workspace of the projects in the
/// folders below.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax init --registry seedhouse=../registry\n  bibliotax init --workspace"
)]
pub struct Init {
    /// The project's name
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Make this folder the root of a workspace
    #[arg(long, conflicts_with = "name")]
    workspace: bool,
    /// Remove the locks and shelves that the projects had before they were in the workspace
    #[arg(long, requires = "workspace", conflicts_with = "dry_run")]
    remove_old: bool,
    /// A registry to declare: its name and the folder that it is in; can be given several times
    #[arg(long, value_name = "NAME=FOLDER")]
    registry: Vec<String>,
    /// Print the manifest instead of writing it
    #[arg(long)]
    dry_run: bool,
}

impl Init {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let path = here.join(manifest::FILE_NAME);
        if self.remove_old && is_workspace(&path) {
            return remove_old_ones(here, ui);
        }
        if path.exists() {
            let message = format!("there is a {} here already", manifest::FILE_NAME);
            let mend = if self.workspace {
                "a project can be a workspace's root, too: write `[workspace]` in it, and `members = [\"…\"]` below that"
            } else {
                "open it: it is a text to read and edit"
            };
            return Err(Failure::new("init.exists", message).mend(mend));
        }
        if self.workspace {
            self.begin_workspace(here, &path, ui)
        } else {
            self.begin_project(here, &path, ui)
        }
    }

    fn begin_workspace(&self, here: &Path, path: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let members = projects_below(here);
        let before = Before::all_in(here, &members);
        let registries = self.registries()?;
        warn_of_missing(&registries, here, ui);
        let text = new_workspace(&members, &registries);
        self.write(ui, path, &text)?;
        if !self.dry_run {
            let (whom, next) = match members.as_slice() {
                [] => ("which has no members yet".to_owned(), "`bibliotax init` in a folder below"),
                members => (format!("of {}", members.join(", ")), "`bibliotax install`"),
            };
            ui.say(format!("wrote {} for a workspace {whom}", manifest::FILE_NAME));
            if self.remove_old {
                before.iter().try_for_each(|before| before.remove(here, ui))?;
            } else {
                tell(&before, ui);
            }
            ui.say(format!("next: {next}"));
        }
        ui.report(
            "init",
            || json!({ "members": members, "manifest": manifest::FILE_NAME, "written": !self.dry_run, "old": before }),
        );
        Ok(Exit::Done)
    }

    fn begin_project(&self, here: &Path, path: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let name = self.project_name(here)?;
        let registries = self.registries()?;
        warn_of_missing(&registries, here, ui);
        let outer = outer_workspace(here)?.filter(|outer| outer.standing != Standing::Apart);
        outer.iter().try_for_each(|outer| check_is_free(&name, outer))?;
        let is_member = outer.is_some() && registries.is_empty();
        let text = if is_member { new_member(&name) } else { new_manifest(&name, &registries) };
        self.write(ui, path, &text)?;
        if !self.dry_run {
            ui.say(format!("wrote {} for the project {name}", manifest::FILE_NAME));
            match &outer {
                Some(outer) => list_in(outer, ui)?,
                None => warn_of_outer(here, ui),
            }
            ui.say(if registries.is_empty() && !is_member {
                "next: name a registry in it, then `bibliotax need PACKAGE`"
            } else {
                "next: `bibliotax need PACKAGE`"
            });
        }
        let workspace = outer.map(|outer| outer.root);
        ui.report(
            "init",
            || json!({ "project": name, "manifest": manifest::FILE_NAME, "workspace": workspace, "written": !self.dry_run }),
        );
        Ok(Exit::Done)
    }

    fn write(&self, ui: &Ui, path: &Path, text: &str) -> Result<(), Failure> {
        if self.dry_run {
            ui.answer(text.trim_end());
            return Ok(());
        }
        Ok(write_whole(path, text.as_bytes())?)
    }

    fn project_name(&self, here: &Path) -> Result<PackageName, Failure> {
        if let Some(name) = &self.name {
            return name.parse().map_err(|fault| Failure::in_words("--name", name, fault));
        }
        let folder = here.file_name().unwrap_or_default().to_string_lossy();
        let nearest = nearest_package_name(&folder);
        nearest.ok_or_else(|| {
            let message = format!("the folder's name `{folder}` can't name a project");
            Failure::new("name.invalid", message).mend("give one: `bibliotax init --name NAME`")
        })
    }

    fn registries(&self) -> Result<Vec<RegistryLine>, Failure> {
        let line = |text: &String| {
            let (name, url) = text.split_once('=').ok_or_else(|| {
                let fault = bibliotax_core::fault::Fault::new(
                    "name.invalid",
                    "a registry needs a name",
                    0..text.len(),
                );
                Failure::in_words("--registry", text, fault.mend(format!("write `NAME={text}`")))
            })?;
            let name = name.parse().map_err(|fault| Failure::in_words("--registry", text, fault))?;
            if names_user(url) {
                // The words themselves are not shown.
                let fault = user_in_url(url, 0..0);
                return Err(Failure { mend: fault.mend, ..Failure::new(fault.code, fault.message) });
            }
            Ok(RegistryLine { name, url: url.to_owned() })
        };
        self.registry.iter().map(line).collect()
    }
}

/// Tells of registries in folders where there is none.
fn warn_of_missing(registries: &[RegistryLine], here: &Path, ui: &Ui) {
    let in_folders = registries.iter().filter(|registry| Location::of(&registry.url).is_path());
    for RegistryLine { name, url } in in_folders {
        if !here.join(url).join(DESCRIPTION).is_file() {
            ui.warn(format!("there is no registry in {url} yet, which is to be {name}"));
        }
    }
}

/// Sees that no member of a workspace has the name of a new one.
fn check_is_free(name: &PackageName, outer: &Outer) -> Result<(), Failure> {
    // One that can't be read, or has no members yet, is no hindrance.
    let Ok(project) = Project::without_lock(&outer.root) else { return Ok(()) };
    let Some(other) = project.workspace.member(name) else { return Ok(()) };
    let message = format!("the workspace has a member {name} already, in `{}`", other.path());
    Err(Failure::new("workspace.two-members", message)
        .mend("give this one another name: `bibliotax init --name NAME`"))
}

/// Sees that a workspace lists the folder of a new member.
fn list_in(outer: &Outer, ui: &Ui) -> Result<(), Failure> {
    if outer.standing == Standing::Unlisted {
        // It was just read.
        let Ok(mut text) = ManifestText::open(&outer.text) else { return Ok(()) };
        text.add_member(&outer.inner);
        write_whole(&outer.root.join(manifest::FILE_NAME), text.to_string().as_bytes())?;
    }
    ui.say(format!("it is a member of the workspace in {}", outer.root.display()));
    Ok(())
}

/// Tells of a project around a new one, which is no workspace.
fn warn_of_outer(here: &Path, ui: &Ui) {
    let outer = here.ancestors().skip(1).find(|folder| folder.join(manifest::FILE_NAME).is_file());
    if let Some(outer) = outer {
        ui.warn(format!(
            "the project in {} is around this one; commands run here act on this one",
            outer.display()
        ));
    }
}
