//! What `init` shows.

use bibliotax_app::init::{Begins, OldFiles, Plan};
use bibliotax_core::manifest::{FILE_NAME, RegistryLine};
use bibliotax_present::words::first_few;
use bibliotax_store::shelf;

use crate::ui::Ui;

/// Most projects that are named.
const MAX_NAMED: usize = 5;

/// Warns of registries in folders where there is none.
pub fn show_missing_registries(ui: &Ui, plan: &Plan) {
    for RegistryLine { name, url } in &plan.missing_registries {
        ui.warn(format!("there is no registry in {url} yet, the place of {name}"));
    }
}

/// Shows what was begun; the old files of its projects were removed, or are still there.
pub fn show_begun(ui: &Ui, plan: &Plan, old_is_removed: bool) {
    match &plan.begins {
        Begins::Workspace { projects, old } => {
            let (subject, next) = match projects.as_slice() {
                [] => ("without projects".to_owned(), "`bibliotax init` in a folder below"),
                projects => (format!("of {}", projects.join(", ")), "`bibliotax install`"),
            };
            ui.say(format!("wrote {FILE_NAME} for a workspace {subject}"));
            if old_is_removed {
                show_removed(ui, old);
            } else {
                show_old_files(ui, old);
            }
            ui.say(format!("next: {next}"));
        }
        Begins::Project { name, workspace, around } => {
            ui.say(format!("wrote {FILE_NAME} for the project {name}"));
            if let Some(outer) = workspace {
                ui.say(format!("the workspace in {} lists it", outer.root.display()));
            }
            if let Some(around) = around {
                ui.warn(format!(
                    "this project is inside the one in {}; commands in this folder use this one",
                    around.display()
                ));
            }
            ui.say(if plan.has_registry {
                "next: `bibliotax need PACKAGE`"
            } else {
                "next: add a registry to it, then `bibliotax need PACKAGE`"
            });
        }
    }
}

/// Says which old files were removed.
pub fn show_removed(ui: &Ui, old: &[OldFiles]) {
    old.iter().for_each(|old| ui.say(format!("removed {}", old.paths())));
}

/// Says that there were no old files to remove.
pub fn show_nothing_removed(ui: &Ui) {
    ui.say(format!(
        "no project of the workspace has a lock or a shelf of its own; {FILE_NAME} stays as it is"
    ));
}

/// Says what projects have from before, and what to do with it.
fn show_old_files(ui: &Ui, old: &[OldFiles]) {
    if old.is_empty() {
        return;
    }
    let paths: Vec<String> = old.iter().map(OldFiles::paths).collect();
    ui.warn(format!(
        "the workspace has one lock and one shelf for all its projects; nothing updates {} any more; `bibliotax init --workspace --remove-old` removes them",
        first_few(&paths, MAX_NAMED)
    ));
    for project in old.iter().filter(|project| project.shelf || project.templates) {
        let (folder, up) = (&project.folder, "../".repeat(project.folder.split('/').count()));
        ui.say(format!("builds in {folder} now find their links in {up}{}/links/", shelf::NAME));
    }
}
