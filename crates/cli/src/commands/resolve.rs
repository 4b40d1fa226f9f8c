//! `resolve`: from the manifest to the lock.

use std::path::Path;

use bibliotax_core::lock::Lock;
use bibliotax_core::resolve::{Prefer, Problem};
use bibliotax_registry::catalogue::registries::Registries;
use jiff::Timestamp;
use serde_json::json;

use super::settle::Settled;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{LockFile, Project};
use crate::searching::Searching;
use crate::ui::Ui;

/// Write the lock that the manifest leads to
///
/// What is locked stays where the manifest allows it; with --prefer or --as-of it counts no more, and all is
/// chosen anew. A lock that was merged, edited or cut short is made again from what can be read of it.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax resolve --dry-run\n  bibliotax resolve --prefer oldest\n  bibliotax resolve --as-of 2026-03-01"
)]
pub struct Resolve {
    /// Which releases to take where several will do; `oldest` shows whether the lower ends of ranges hold
    #[arg(long, value_name = "WHICH")]
    prefer: Option<Which>,
    /// See only what was published by then: a date (its end, in UTC) or a time (RFC 3339)
    #[arg(long, value_name = "DATE", value_parser = moment)]
    as_of: Option<Timestamp>,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    searching: Searching,
}

#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum Which {
    Newest,
    Oldest,
}

/// The moment that a date or a time means.
fn moment(text: &str) -> Result<Timestamp, String> {
    let end_of_day = || format!("{text}T23:59:59.999999999Z").parse::<Timestamp>();
    let moment = text.parse::<Timestamp>().or_else(|_| end_of_day());
    moment.map_err(|_| "a date is like 2026-03-01, a time like 2026-03-01T12:00:00Z".to_owned())
}

impl Resolve {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, self.dry_run, &progress)?;
        let project = project.searching(self.searching.clone());
        if let LockFile::Faulty { fault, .. } = &project.lock {
            let kept = project.locked().len();
            ui.warn(format!("{}; {kept} of its packages could be read", fault.message));
        }
        let registries = project.registries(&project.workspace)?.as_of(self.as_of);
        let (lock, warnings) = self.lock(&project, &registries)?;
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(&project, &project.workspace, lock);
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
            || json!({ "changes": settled.changes(), "dry-run": self.dry_run, "warnings": warnings }),
        );
        Ok(Exit::Done)
    }

    fn lock(&self, project: &Project, registries: &Registries) -> Result<(Lock, Vec<String>), Failure> {
        let workspace = &project.workspace;
        if self.prefer.is_none() && self.as_of.is_none() {
            return project.resolve(workspace, registries);
        }
        let prefer = match self.prefer {
            Some(Which::Oldest) => Prefer::Oldest,
            Some(Which::Newest) | None => Prefer::Newest,
        };
        let problem = Problem { prefer, ..Problem::new(workspace, &[]) };
        project.resolve_problem(&problem, workspace, registries)
    }
}
