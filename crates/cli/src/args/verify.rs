//! Options of `verify`.

use bibliotax_app::failure::Failure;
use bibliotax_app::verify::{self, Report, Request};

use super::offline::OfflineArgs;
use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use crate::exit_status::Exit;
use crate::json;
use crate::render::{changes, verify as render};
use crate::run::Run;

/// Verify the files on the shelf
///
/// Lists missing, changed and extra files; --repair restores them, and downloads what is damaged in the store. Files with unchanged
/// size and time count as unchanged unless --full verifies their checksums.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax verify --repair\n  bibliotax verify --full --store")]
pub struct Verify {
    /// Verify the checksum of every file
    #[arg(long)]
    full: bool,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    /// Verify the packages in the store, too
    #[arg(long)]
    store: bool,
    /// Restore what differs
    #[arg(long)]
    repair: bool,
    /// With --repair: show the changes without making them
    #[arg(long, requires = "repair")]
    dry_run: bool,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Verify {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.network.offline);
        let repairs = self.repair && !self.dry_run;
        let request = Request {
            is_full: self.full,
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            with_store: self.store,
            repairs,
        };
        let report = run.working(|context| verify::report(&request, context))?;
        render::show(run.ui, &report, self.store);
        let is_well = report.is_well();
        let is_repaired = repairs && !is_well;
        if is_repaired {
            repair(&report, run)?;
        } else if !is_well {
            run.ui.say("next: `bibliotax verify --repair` restores the files");
        }
        run.ui.report(|| json::verify::Verify::of(&report, self.full, self.dry_run, is_repaired));
        Ok(if is_well || is_repaired { Exit::Done } else { Exit::of_code("verify.differs") })
    }
}

fn repair(report: &Report, run: &Run<'_>) -> Result<(), Failure> {
    for digest in report.damaged_archives() {
        run.ui.warn(format!("archive {} is damaged in the store; downloading it again", digest.short()));
    }
    let applied = run.working(|context| report.repair(context))?;
    changes::show_installed(run.ui, &applied);
    Ok(())
}
