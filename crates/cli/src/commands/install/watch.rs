//! `install --watch`: the shelf kept right while manifest, lock and templates are edited.

use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, Receiver};
use std::time::Duration;

use bibliotax_core::{lock, manifest};
use bibliotax_store::shelf::TEMPLATES;
use notify::{RecommendedWatcher, RecursiveMode, Watcher};

use super::Install;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::needed_root;
use crate::ui::{Ui, style, styled};

/// An editor writes a file in several strokes; what comes within this time belongs together.
const QUIET: Duration = Duration::from_millis(120);

/// Makes the shelf right again and again, until somebody ends it. What fails is shown, and the shelf stays as it was.
pub fn watch(install: &Install, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
    let root = needed_root(here)?;
    let (changes, mut watching) = begin(root)?;
    loop {
        watching.follow_templates();
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
    templates: PathBuf,
    follows_templates: bool,
}

impl Watching {
    /// Watches the folder of templates from when it is there.
    fn follow_templates(&mut self) {
        let is_there = self.templates.is_dir();
        if is_there && !self.follows_templates {
            // Where that fails, a change of a template is seen with the next one of the manifest.
            let _ = self.watcher.watch(&self.templates, RecursiveMode::NonRecursive);
        }
        self.follows_templates = is_there;
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
    Ok((changes, Watching { watcher, templates: root.join(TEMPLATES), follows_templates: false }))
}

/// Waits until something changed that a shelf is made from, and then for a moment of quiet; whether there is more to wait for.
fn wait(changes: &Changes, root: &Path) -> bool {
    let templates = root.join(TEMPLATES);
    let matters = |path: &PathBuf| {
        let name = path.file_name().unwrap_or_default();
        let is_own = path.parent() == Some(root) && (name == manifest::FILE_NAME || name == lock::FILE_NAME);
        is_own || path.starts_with(&templates)
    };
    while let Ok(paths) = changes.recv() {
        if paths.iter().any(matters) {
            while changes.recv_timeout(QUIET).is_ok() {}
            return true;
        }
    }
    false
}
