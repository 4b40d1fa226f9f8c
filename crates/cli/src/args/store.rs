//! The subcommands of `store`.

use std::time::Duration;

use bibliotax_app::failure::Failure;
use bibliotax_app::store::{self, Check};
use bibliotax_store::inventory::Trimming;

use super::size::read_size;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Manage this machine's store of downloaded packages
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax store show\n  bibliotax store trim --older-than 30\n  bibliotax store check --repair"
)]
pub struct Store {
    #[command(subcommand)]
    command: StoreCommand,
}

#[derive(Debug, clap::Subcommand)]
enum StoreCommand {
    /// Show the contents of the store, their size, and the projects that use them
    #[command(after_help = "Examples:\n  bibliotax store show\n  bibliotax store show --all")]
    Show {
        /// List every archive
        #[arg(long)]
        all: bool,
    },
    /// Delete what no project uses
    ///
    /// Packages on the shelf of an existing project are kept, however old.
    #[command(
        after_help = "Examples:\n  bibliotax store trim --dry-run\n  bibliotax store trim --older-than 30 --keep 2G"
    )]
    Trim {
        /// Delete only what was added more than so many days ago
        #[arg(long, value_name = "DAYS")]
        older_than: Option<u64>,
        /// Delete the oldest until the store is no larger than this, such as 800M or 2G
        #[arg(long, value_name = "SIZE", value_parser = read_size)]
        keep: Option<u64>,
        /// Delete cached answers of registries, git repositories and archives, too
        #[arg(long)]
        cache: bool,
        /// Show what would be deleted without deleting it
        #[arg(long)]
        dry_run: bool,
    },
    /// Verify all files in the store; exits with status 1 if some are damaged
    #[command(after_help = "Example:\n  bibliotax store check --repair")]
    Check {
        /// Download damaged files again, for the projects that use them
        #[arg(long)]
        repair: bool,
        /// With --repair: check without repairing
        #[arg(long, requires = "repair")]
        dry_run: bool,
    },
}

impl Store {
    /// Whether it only shows what is stored.
    pub fn only_shows(&self) -> bool {
        matches!(self.command, StoreCommand::Show { .. })
    }

    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match &self.command {
            StoreCommand::Show { all } => {
                render::store::show(run.ui, &run.working(store::report)?, *all);
                Ok(Exit::Done)
            }
            StoreCommand::Trim { older_than, keep, cache, dry_run } => {
                let older_than =
                    older_than.map(|days| Duration::from_secs(days.saturating_mul(24 * 60 * 60)));
                trim(run, Trimming { older_than, down_to: *keep }, *cache, *dry_run)
            }
            StoreCommand::Check { repair, dry_run } => check(run, *repair, *dry_run),
        }
    }
}

fn trim(run: &Run<'_>, trimming: Trimming, with_cache: bool, is_dry_run: bool) -> Result<Exit, Failure> {
    let waiting = || run.ui.warn("another process uses the store; waiting for it");
    let plan = run.working(|context| store::plan_trim(trimming, with_cache, context, waiting))?;
    if !is_dry_run {
        plan.apply()?;
    }
    render::store::show_trimmed(run.ui, &plan, is_dry_run);
    Ok(Exit::Done)
}

fn check(run: &Run<'_>, repairs: bool, is_dry_run: bool) -> Result<Exit, Failure> {
    let check = run.working(store::check)?;
    render::store::show_damaged(run.ui, &check);
    let repaired = if repairs && !is_dry_run { Some(repair(run, &check)?) } else { None };
    render::store::show_checked(run.ui, &check, repaired, is_dry_run);
    let is_well = check.damaged.len() == repaired.unwrap_or(0);
    Ok(if is_well { Exit::Done } else { Exit::Differs })
}

/// Lets the projects that use damaged archives fetch them again; how many came back.
fn repair(run: &Run<'_>, check: &Check) -> Result<usize, Failure> {
    let repaired = run.working(|context| check.repair(context))?;
    for (project, failure) in &repaired.failed {
        run.ui.warn(format!("{}: {}", project.display(), failure.message));
    }
    Ok(repaired.archives)
}
