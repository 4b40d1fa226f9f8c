//! The subcommands of `store`.

use std::time::Duration;

use bibliotax_app::failure::Failure;
use bibliotax_app::store::{self, Check};
use bibliotax_store::inventory::Trimming;

use super::size::read_size;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Look after what is kept on this machine
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
    /// Tell what is kept, how large it is, and which projects use it
    #[command(after_help = "Examples:\n  bibliotax store show\n  bibliotax store show --all")]
    Show {
        /// List every archive that is kept
        #[arg(long)]
        all: bool,
    },
    /// Take out what no project uses
    ///
    /// What is on the shelf of a project that is still there stays, however old.
    #[command(
        after_help = "Examples:\n  bibliotax store trim --dry-run\n  bibliotax store trim --older-than 30 --to 2G"
    )]
    Trim {
        /// Only what came more than so many days ago
        #[arg(long, value_name = "DAYS")]
        older_than: Option<u64>,
        /// Only as much as it takes to keep no more than this, the oldest first: 800M, 2G
        #[arg(long, value_name = "SIZE", value_parser = read_size)]
        to: Option<u64>,
        /// Also what registries answered, repositories, and archives from elsewhere: fetched again when they are wanted
        #[arg(long)]
        cache: bool,
        /// Show what would go and take nothing out
        #[arg(long)]
        dry_run: bool,
    },
    /// Read every byte and tell what is damaged; ends with status 1 if something is
    #[command(after_help = "Example:\n  bibliotax store check --repair")]
    Check {
        /// Fetch what is damaged again, for the projects that use it
        #[arg(long)]
        repair: bool,
    },
}

impl Store {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match &self.command {
            StoreCommand::Show { all } => {
                render::store::show(run.ui, &run.working(store::report)?, *all);
                Ok(Exit::Done)
            }
            StoreCommand::Trim { older_than, to, cache, dry_run } => {
                let older_than =
                    older_than.map(|days| Duration::from_secs(days.saturating_mul(24 * 60 * 60)));
                trim(run, Trimming { older_than, down_to: *to }, *cache, *dry_run)
            }
            StoreCommand::Check { repair } => check(run, *repair),
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

fn check(run: &Run<'_>, repairs: bool) -> Result<Exit, Failure> {
    let check = run.working(store::check)?;
    render::store::show_damaged(run.ui, &check);
    let repaired = if repairs { Some(repair(run, &check)?) } else { None };
    render::store::show_checked(run.ui, &check, repaired);
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
