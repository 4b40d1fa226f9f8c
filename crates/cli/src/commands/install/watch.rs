//! `install --watch`: the shelf kept right while manifest, lock and templates are edited.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, Receiver};
use std::time::Duration;

use bibliotax_core::{lock, manifest};
use bibliotax_store::shelf::TEMPLATES;
use notify::{RecommendedWatcher, RecursiveMode, Watcher};

use super::Install;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::Manifests;
use crate::ui::{Ui, style, styled};

/// An editor writes a file in several strokes; what comes within this time belongs together.
const QUIET: Duration = Duration::from_millis(120);

/// Makes the shelf right again and again, until somebody ends it. What fails is shown, and the shelf stays as it was.
pub fn watch(install: &Install, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
    let root = &Manifests::find(here)?.root;
    let (changes, mut watching) = begin(root)?;
    loop {
        watching.follow(here);
        if let Err(failure) = install.make_right(here, ui) {
            ui.fail(&failure);
        }
        ui.aside().say(styled(style::FAINT, format!("watching {}; Ctrl-C ends it", manifest::FILE_NAME)));
        if !wait(&changes, root) {
            return Ok(Exit::Done);
        }
    }
}

struct Watching {
    watcher: RecommendedWatcher,
    root: PathBuf,
    /// The folders beside the root that are watched.
    followed: BTreeSet<PathBuf>,
}

impl Watching {
    /// Watches the folder of templates and those of members, from when they are there.
    fn follow(&mut self, here: &Path) {
        // While a manifest is broken, those that are watched already are enough.
        let manifests = Manifests::find(here).ok();
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
}

type Changes = Receiver<Vec<PathBuf>>;

fn begin(root: &Path) -> Result<(Changes, Watching), Failure> {
    let (told, changes) = mpsc::channel();
    let cannot = |error: notify::Error| {
        Failure::new("disk.failed", format!("{} can't be watched", root.display()))
            .because([format!("The system says: {error}.")])
    };
    let hear = move |event: notify::Result<notify::Event>| {
        // What only looks at files changes nothing; whoever waits goes away only with the whole program.
        if let Ok(event) = event
            && !event.kind.is_access()
        {
            let _ = told.send(event.paths);
        }
    };
    let mut watcher = notify::recommended_watcher(hear).map_err(cannot)?;
    // The folder and not the files: editors put new files in the places of old ones.
    watcher.watch(root, RecursiveMode::NonRecursive).map_err(cannot)?;
    Ok((changes, Watching { watcher, root: root.to_owned(), followed: BTreeSet::new() }))
}

/// Waits until something changed that a shelf is made from, and then for a moment of quiet; whether there is more to wait for.
fn wait(changes: &Changes, root: &Path) -> bool {
    let matters = |path: &PathBuf| {
        let name = path.file_name().unwrap_or_default();
        let is_lock = path.parent() == Some(root) && name == lock::FILE_NAME;
        let is_template = path.parent().is_some_and(|folder| folder.ends_with(TEMPLATES));
        is_lock || name == manifest::FILE_NAME || is_template || path.ends_with(TEMPLATES)
    };
    while let Ok(paths) = changes.recv() {
        if paths.iter().any(matters) {
            while changes.recv_timeout(QUIET).is_ok() {}
            return true;
        }
    }
    false
}
