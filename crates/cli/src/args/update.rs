//! Options of `update`.

use bibliotax_app::failure::Failure;
use bibliotax_app::update::{self, Request};

use super::projects::ProjectFilterArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::json::change::Changes;
use crate::render;
use crate::render::changes;
use crate::run::Run;

/// Update packages, and as few others as possible
///
/// The named packages, or all, are updated as far as their ranges allow. Other packages change only if they must, to the nearest
/// possible release, and the reason is shown.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax update rain-ledger\n  bibliotax update --beyond --dry-run\n  bibliotax update --comply\n  bibliotax update --advisories"
)]
pub struct Update {
    /// Packages to update [default: all]
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    /// Update beyond the ranges, and change them in the manifest
    #[arg(long)]
    beyond: bool,
    /// Accept that a tag of the named packages names another commit now
    #[arg(long, requires = "packages")]
    accept_moved: bool,
    /// Update just what the rules forbid, to the nearest releases that they allow
    #[arg(long, conflicts_with = "beyond")]
    comply: bool,
    /// Update just what advisories affect, to the nearest releases that they don't affect
    #[arg(long, conflicts_with_all = ["beyond", "comply"])]
    advisories: bool,
    /// Show the changes without making them
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Update {
    /// What is said where nothing moves.
    fn nothing(&self) -> &'static str {
        match (self.comply, self.advisories) {
            (true, _) => "nothing to update: the rules allow all that is locked",
            (_, true) => "nothing to update: no advisory affects what is locked, or no release fixes it",
            _ => "nothing to update; see `bibliotax newer` for releases beyond the ranges",
        }
    }

    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let request = Request {
            packages: self.packages.clone(),
            projects: self.projects.words(),
            is_beyond: self.beyond,
            accepts_moved: self.accept_moved,
            complies: self.comply,
            leaves_advisories: self.advisories,
            options: self.search.options(),
            is_dry_run: self.dry_run,
        };
        let plan = run.working(|context| update::plan(&request, context))?;
        render::update::show(run.ui, &plan, self.nothing());
        let applied = run.apply(&plan.change, self.dry_run)?;
        changes::show_applied(run.ui, applied.as_ref());
        run.ui.report(|| {
            json::install::Update::of(&plan, Changes::of(&plan.change.report(), applied.as_ref()))
        });
        Ok(Exit::Done)
    }
}
