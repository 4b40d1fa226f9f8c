//! `resolve`: from the manifest to the lock.

use std::path::Path;

use serde_json::json;

use super::settle::Settled;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{LockFile, Project};
use crate::ui::Ui;

/// Write the lock that the manifest leads to
///
/// What is locked stays where the manifest allows it. A lock that was merged, edited or cut short is made anew
/// from what can be read of it.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax resolve --dry-run")]
pub struct Resolve {
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Resolve {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, self.dry_run, &progress)?;
        if let LockFile::Faulty { fault, .. } = &project.lock {
            let kept = project.locked().len();
            ui.warn(format!("{}; {kept} of its packages could be read", fault.message));
        }
        let (lock, warnings) = project.resolve(&project.manifest, &project.registries(&project.manifest)?)?;
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(&project, &project.manifest, lock);
        settled.show(ui);
        let packages = crate::show::count(settled.lock.packages.len(), "package");
        if self.dry_run {
            ui.say("nothing was written");
        } else if settled.is_written() {
            ui.say(format!("nothing to do: the lock is right ({packages})"));
        } else {
            settled.write_lock()?;
            ui.say(format!("wrote the lock ({packages}); next: `bibliotax install`"));
        }
        ui.report(
            "resolve",
            json!({ "changes": settled.changes(), "dry-run": self.dry_run, "warnings": warnings }),
        );
        Ok(Exit::Done)
    }
}
