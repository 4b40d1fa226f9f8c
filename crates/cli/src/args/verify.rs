//! Options of `verify`.

use bibliotax_app::failure::Failure;
use bibliotax_app::verify::{self, Report, Request};

use super::members::MemberFilterArgs;
use crate::exit_status::Exit;
use crate::render::{changes, verify as render};
use crate::run::Run;

/// Compare every file of the shelf with the lock
///
/// Tells what is missing, changed or extra; with --repair puts it right, fetching anew what is damaged in the
/// store as well. A file whose size and time are those that it was installed with counts as unchanged, unless --full
/// has every byte read.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax verify --repair\n  bibliotax verify --full --store")]
pub struct Verify {
    /// Read every byte, also of files that nobody seems to have touched
    #[arg(long)]
    full: bool,
    #[command(flatten)]
    members: MemberFilterArgs,
    /// Look at the store's copies of the lock's packages, too
    #[arg(long)]
    store: bool,
    /// Put right what differs
    #[arg(long)]
    repair: bool,
    /// With --repair: show what would be put right and write nothing
    #[arg(long, requires = "repair")]
    dry_run: bool,
}

impl Verify {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let repairs = self.repair && !self.dry_run;
        let request =
            Request { is_full: self.full, members: self.members.words(), with_store: self.store, repairs };
        let report = run.working(|context| verify::report(&request, context))?;
        render::show(run.ui, &report, self.store);
        let is_well = report.is_well();
        let is_repaired = repairs && !is_well;
        if is_repaired {
            repair(&report, run)?;
        } else if !is_well {
            run.ui.say("next: `bibliotax verify --repair` puts it right");
        }
        render::report(run.ui, &report, self.full, is_repaired);
        Ok(if is_well || is_repaired { Exit::Done } else { Exit::of_code("verify.differs") })
    }
}

fn repair(report: &Report, run: &Run<'_>) -> Result<(), Failure> {
    for digest in report.damaged_archives() {
        run.ui.warn(format!("the store's copy of archive {} is damaged; fetching it anew", digest.short()));
    }
    let applied = run.working(|context| report.repair(context))?;
    changes::show_installed(run.ui, &applied);
    Ok(())
}
