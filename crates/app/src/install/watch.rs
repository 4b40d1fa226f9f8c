//! Watches the files that a shelf is made from (manifests, lock, templates) for changes.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, Receiver};
use std::time::Duration;

use bibliotax_core::{lock, manifest};
use bibliotax_store::shelf::TEMPLATES;
use notify::{RecommendedWatcher, RecursiveMode, Watcher};

use crate::failure::Failure;
use crate::workspace::Manifests;

/// An editor writes a file in several strokes; what comes within this time belongs together.
const QUIET: Duration = Duration::from_millis(120);

/// Watches what a shelf is made from.
pub struct Watch {
    watcher: RecommendedWatcher,
    changes: Receiver<Vec<PathBuf>>,
    root: PathBuf,
    /// The folders beside the root that are watched.
    followed: BTreeSet<PathBuf>,
}

impl Watch {
    /// Begins to watch the workspace that a folder is in.
    pub fn begin(from: &Path) -> Result<Self, Failure> {
        let root = Manifests::find(from)?.root;
        let (send, changes) = mpsc::channel();
        let cannot = |error: notify::Error| {
            Failure::new("disk.failed", format!("{} can't be watched", root.display()))
                .because([format!("The system says: {error}.")])
        };
        let on_event = move |event: notify::Result<notify::Event>| {
            // Looking at files changes nothing; the waiting thread ends with the process.
            if let Ok(event) = event
                && !event.kind.is_access()
            {
                let _ = send.send(event.paths);
            }
        };
        let mut watcher = notify::recommended_watcher(on_event).map_err(cannot)?;
        // The folder and not the files: editors put new files in the places of old ones.
        watcher.watch(&root, RecursiveMode::NonRecursive).map_err(cannot)?;
        Ok(Self { watcher, changes, root, followed: BTreeSet::new() })
    }

    /// Watches the folders of projects and of templates that are there now, too.
    pub fn follow(&mut self, from: &Path) {
        // While a manifest is broken, those that are watched already are enough.
        let manifests = Manifests::find(from).ok();
        let folders = manifests.iter().flat_map(|manifests| &manifests.files);
        let folders = folders.map(|file| self.root.join(&file.folder));
        let folders = folders.flat_map(|folder| [folder.join(TEMPLATES), folder]);
        let wanted: BTreeSet<PathBuf> =
            folders.filter(|folder| *folder != self.root && folder.is_dir()).collect();
        for folder in wanted.difference(&self.followed) {
            // Where that fails, a change there is seen with the next one elsewhere.
            let _ = self.watcher.watch(folder, RecursiveMode::NonRecursive);
        }
        self.followed = wanted;
    }

    /// Waits until something changed, and then for a moment of quiet; whether there is more to wait for.
    pub fn wait(&self) -> bool {
        while let Ok(paths) = self.changes.recv() {
            if paths.iter().any(|path| self.matters(path)) {
                while self.changes.recv_timeout(QUIET).is_ok() {}
                return true;
            }
        }
        false
    }

    fn matters(&self, path: &Path) -> bool {
        let name = path.file_name().unwrap_or_default();
        let is_lock = path.parent() == Some(&*self.root) && name == lock::FILE_NAME;
        let is_template = path.parent().is_some_and(|folder| folder.ends_with(TEMPLATES));
        is_lock || name == manifest::FILE_NAME || is_template || path.ends_with(TEMPLATES)
    }
}
