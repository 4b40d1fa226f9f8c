//! Options of `update`.

use bibliotax_app::failure::Failure;
use bibliotax_app::update::{self, Request};

use super::members::MemberFilterArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::render::changes;
use crate::run::Run;

/// Move packages to newer releases, and as little else as possible
///
/// The packages named, or all, move as far as the ranges allow. Of the others as few as possible move, each only to
/// the nearest release that will do, and it is said why they had to.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax update rain-ledger\n  bibliotax update --beyond --dry-run")]
pub struct Update {
    /// Packages in the lock; without any, all that projects reach
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    #[command(flatten)]
    members: MemberFilterArgs,
    /// Move beyond the ranges as well, and write what that takes into the manifest
    #[arg(long)]
    beyond: bool,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Update {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            packages: self.packages.clone(),
            members: self.members.words(),
            is_beyond: self.beyond,
            options: self.search.options(),
            is_dry_run: self.dry_run,
        };
        let plan = run.working(|context| update::plan(&request, context))?;
        render::update::show(run.ui, &plan);
        let applied = run.apply(&plan.change, self.dry_run)?;
        changes::show_applied(run.ui, applied.as_ref());
        let report = plan.change.report();
        changes::report(run.ui, "update", &report, applied.as_ref(), || {
            render::update::forced_to_json(&plan)
        });
        Ok(Exit::Done)
    }
}
