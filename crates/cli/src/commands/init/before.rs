//! What projects have of their own from before they were in a workspace: a lock and a shelf, which nothing keeps right any more.

use std::path::Path;

use bibliotax_core::lock;
use bibliotax_core::manifest::{self, FILE_NAME, Outline};
use bibliotax_disk::read::read_text;
use bibliotax_disk::tree;
use bibliotax_store::shelf::{self, Shelf, TEMPLATES};
use serde::Serialize;
use serde_json::json;

use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::Manifests;
use crate::show::first_few;
use crate::ui::Ui;

/// Most projects that are named.
const MOST_NAMED: usize = 5;

/// What a project has from before.
#[derive(Debug, Serialize)]
pub struct Before {
    /// Its folder, seen from the workspace's root.
    folder: String,
    /// Whether it has a lock.
    lock: bool,
    /// Whether it has a shelf.
    shelf: bool,
    /// Whether it has templates for links.
    templates: bool,
}

impl Before {
    /// What the projects in these folders have.
    pub fn all_in(root: &Path, folders: &[String]) -> Vec<Self> {
        let before = folders.iter().map(|folder| {
            let project = root.join(folder);
            let (lock, shelf) = (project.join(lock::FILE_NAME).is_file(), Shelf::of(&project).is_there());
            Self { folder: folder.clone(), lock, shelf, templates: project.join(TEMPLATES).is_dir() }
        });
        before.filter(|before| before.lock || before.shelf).collect()
    }

    fn has(&self) -> String {
        let (folder, mut has) = (&self.folder, Vec::new());
        if self.lock {
            has.push(format!("{folder}/{}", lock::FILE_NAME));
        }
        if self.shelf {
            has.push(format!("{folder}/{}", shelf::NAME));
        }
        has.join(", ")
    }

    /// Removes its lock and its shelf.
    pub fn remove(&self, root: &Path, ui: &Ui) -> Result<(), Failure> {
        let project = root.join(&self.folder);
        if self.shelf {
            let progress = Progress::new(ui);
            let shelf = Shelf::of(&project);
            let _held = shelf.hold(&progress)?;
            shelf.remove()?;
        }
        if self.lock {
            tree::remove(&project.join(lock::FILE_NAME))?;
        }
        ui.say(format!("removed {}", self.has()));
        Ok(())
    }
}

/// Says what projects have from before, and what to do with it.
pub fn tell(before: &[Before], ui: &Ui) {
    if before.is_empty() {
        return;
    }
    let has: Vec<String> = before.iter().map(Before::has).collect();
    ui.warn(format!(
        "the workspace has one lock and one shelf for all its projects; nothing updates {} any more; `bibliotax init --workspace --remove-old` removes them",
        first_few(&has, MOST_NAMED)
    ));
    for project in before.iter().filter(|project| project.shelf || project.templates) {
        let (folder, up) = (&project.folder, "../".repeat(project.folder.split('/').count()));
        ui.say(format!("builds in {folder} find their links in {up}{}/links/ now", shelf::NAME));
    }
}

/// Whether a manifest makes a workspace.
pub fn is_workspace(path: &Path) -> bool {
    // What is wrong with it is told by whoever reads it.
    let text = read_text(path, manifest::LARGEST).ok().flatten();
    text.is_some_and(|text| Outline::of(&text).is_workspace)
}

/// Removes the locks and shelves that the projects of a workspace have from before.
pub fn remove_old_ones(root: &Path, ui: &Ui) -> Result<Exit, Failure> {
    let manifests = Manifests::find(root)?;
    let folders: Vec<String> =
        manifests.folders().filter(|folder| !folder.is_empty()).map(str::to_owned).collect();
    let before = Before::all_in(root, &folders);
    before.iter().try_for_each(|before| before.remove(root, ui))?;
    if before.is_empty() {
        ui.say(format!(
            "no project of the workspace has a lock or a shelf of its own; {FILE_NAME} stays as it is"
        ));
    }
    ui.report("init", || json!({ "removed": before }));
    Ok(Exit::Done)
}
