//! Locks and shelves of projects from before they joined a workspace, which nothing updates any more.

use std::path::Path;

use bibliotax_core::lock;
use bibliotax_core::manifest::{self, Outline};
use bibliotax_core::progress::ProgressListener;
use bibliotax_disk::read::read_text;
use bibliotax_disk::tree;
use bibliotax_store::shelf::{self, Shelf, TEMPLATES};
use serde::Serialize;

use crate::failure::Failure;
use crate::workspace::Manifests;

/// What a project has from before.
#[derive(Debug, Serialize)]
pub struct OldFiles {
    /// Its folder, seen from the workspace's root.
    pub folder: String,
    /// Whether it has a lock.
    pub lock: bool,
    /// Whether it has a shelf.
    pub shelf: bool,
    /// Whether it has templates for links.
    pub templates: bool,
}

impl OldFiles {
    /// What the projects in these folders have.
    pub fn all_in(root: &Path, folders: &[String]) -> Vec<Self> {
        let old = folders.iter().map(|folder| {
            let project = root.join(folder);
            let (lock, shelf) = (project.join(lock::FILE_NAME).is_file(), Shelf::of(&project).is_there());
            Self { folder: folder.clone(), lock, shelf, templates: project.join(TEMPLATES).is_dir() }
        });
        old.filter(|old| old.lock || old.shelf).collect()
    }

    /// The paths of lock and shelf, as far as there are any.
    pub fn paths(&self) -> String {
        let (folder, mut paths) = (&self.folder, Vec::new());
        if self.lock {
            paths.push(format!("{folder}/{}", lock::FILE_NAME));
        }
        if self.shelf {
            paths.push(format!("{folder}/{}", shelf::NAME));
        }
        paths.join(", ")
    }

    /// Removes its lock and its shelf.
    pub fn remove(&self, root: &Path, listener: &dyn ProgressListener) -> Result<(), Failure> {
        let project = root.join(&self.folder);
        if self.shelf {
            let shelf = Shelf::of(&project);
            let _held = shelf.hold(listener)?;
            shelf.remove()?;
        }
        if self.lock {
            tree::remove(&project.join(lock::FILE_NAME))?;
        }
        Ok(())
    }
}

/// Whether a folder is the root of a workspace.
pub fn has_workspace(folder: &Path) -> bool {
    // What is wrong with it is reported by its reader.
    let text = read_text(&folder.join(manifest::FILE_NAME), manifest::MAX_SIZE).ok().flatten();
    text.is_some_and(|text| Outline::of(&text).is_workspace)
}

/// What the projects of a workspace have from before.
pub fn old_files_of(root: &Path) -> Result<Vec<OldFiles>, Failure> {
    let manifests = Manifests::find(root)?;
    let folders: Vec<String> =
        manifests.folders().filter(|folder| !folder.is_empty()).map(str::to_owned).collect();
    Ok(OldFiles::all_in(root, &folders))
}
