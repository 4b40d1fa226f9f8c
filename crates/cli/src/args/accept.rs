//! Options of `accept`.

use bibliotax_app::accept::{self, Request};
use bibliotax_app::failure::Failure;

use crate::exit_status::Exit;
use crate::json::declare::Accept as Json;
use crate::render;
use crate::run::Run;

/// Accept the licence of a package for the team
///
/// Records the licence and the versions in the manifest, under `[rules.accepted]`. Later versions with the same licence are accepted,
/// too; with another licence they have to be accepted again.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax accept moss-map\n  bibliotax accept --all --dry-run")]
pub struct Accept {
    /// Packages in the lock
    #[arg(value_name = "PACKAGE", required_unless_present = "all")]
    packages: Vec<String>,
    /// Accept all licences that wait for it
    #[arg(long, conflicts_with = "packages")]
    all: bool,
    /// Show the changes without making them
    #[arg(long)]
    dry_run: bool,
}

impl Accept {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request { packages: self.packages.clone(), is_dry_run: self.dry_run };
        let plan = run.working(|context| accept::plan(&request, context))?;
        if !self.dry_run {
            plan.apply()?;
        }
        render::accept::show(run.ui, &plan, self.dry_run);
        run.ui.report(|| Json::of(&plan, self.dry_run));
        Ok(Exit::Done)
    }
}
