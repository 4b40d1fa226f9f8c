//! Options of `merge`.

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::merge::driver::{self, Report, Request};
use bibliotax_app::merge::{self, set_up};

use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render::merge as render;
use crate::run::Run;

/// Merge manifests and locks that two people changed
///
/// After a merge, rebase or cherry-pick that stopped, merges the manifests key by key and the lock package by package, and resolves what
/// comes of it: what only one side moved stays as that side has it, and of what both moved, the newer release that goes with the rest. A
/// key that both sides changed gets markers around its line. With --set-up, git does all of this itself from then on.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax merge --set-up\n  git merge main\n\n  git merge main   (without --set-up: stops at the lock)\n  bibliotax merge"
)]
pub struct Merge {
    /// Have git merge manifests and locks this way: changes `.gitattributes` and the repository's configuration
    #[arg(long, conflicts_with_all = ["undo", "driver"])]
    set_up: bool,
    /// Take --set-up back
    #[arg(long, conflicts_with = "driver")]
    undo: bool,
    /// What git runs: the files of three versions, and the path
    #[arg(long, hide = true, num_args = 4, value_names = ["BASE", "OURS", "THEIRS", "PATH"])]
    driver: Option<Vec<String>>,
    /// Show what would be merged without writing anything
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Merge {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        if self.set_up || self.undo {
            return self.set_up(run);
        }
        if let Some([base, ours, theirs, path]) = self.driver.as_deref() {
            let file = |text: &String| run.folder().join(text);
            let (base, ours, theirs) = (file(base), file(ours), file(theirs));
            return merge_file(&Request { base, ours, theirs, path: path.clone() }, run);
        }
        let options = self.search.options();
        let report = run.working(|context| merge::merge(&options, self.dry_run, context))?;
        if !self.dry_run {
            run.working(|context| merge::apply(&report, context))?;
        }
        render::show(run.ui, &report, self.dry_run);
        Ok(if report.conflicts.is_empty() { Exit::Done } else { Exit::Differs })
    }

    fn set_up(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let program = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("bibliotax"));
        let plan = run.working(|context| set_up::plan(&program, self.undo, context))?;
        render::show_set_up(run.ui, &plan, self.undo, self.dry_run);
        if !self.dry_run {
            run.working(|_| set_up::apply(&plan))?;
        }
        Ok(Exit::Done)
    }
}

fn merge_file(request: &Request, run: &Run<'_>) -> Result<Exit, Failure> {
    let report = run.working(|context| driver::merge_file(request, context))?;
    render::show_file(run.ui, &request.path, &report);
    Ok(if matches!(report, Report::Conflicts(_)) { Exit::Differs } else { Exit::Done })
}
