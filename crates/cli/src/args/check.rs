//! Options of `check`.

use bibliotax_app::check::{self, Plan, Request};
use bibliotax_app::failure::Failure;

use super::projects::ProjectFilterArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Check manifests and lock for problems
///
/// Finds stand-ins, a lock that is out of date, and packages that projects declare with different ranges. Exits with status 1 if
/// there are findings.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax check\n  bibliotax check --unify")]
pub struct Check {
    /// Write one shared range for each package that projects declare with different ranges
    #[arg(long)]
    unify: bool,
    /// With --unify: show the changes without writing them
    #[arg(long, requires = "unify")]
    dry_run: bool,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    search: SearchArgs,
}

impl Check {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let request = Request {
            unifies: self.unify,
            projects: self.projects.words(),
            options: self.search.options(),
            is_dry_run: self.dry_run,
        };
        let mut plan = run.working(|context| check::plan(&request, context))?;
        render::check::show(run.ui, &plan.report, self.unify);
        let unified = if self.unify { unify(&mut plan, run)? } else { 0 };
        render::check::show_none(run.ui, &plan.report);
        render::check::report(run.ui, &plan.report, unified, self.dry_run);
        let is_well = plan.report.findings.len() == unified;
        Ok(if is_well { Exit::Done } else { Exit::of_code("check.findings") })
    }
}

/// Lets projects share ranges; for how many packages.
fn unify(plan: &mut Plan, run: &Run<'_>) -> Result<usize, Failure> {
    let Some(change) = run.working(|context| plan.change(context))? else {
        run.ui.say("nothing was written");
        return Ok(0);
    };
    let report = change.report();
    render::warnings(run.ui, report.warnings);
    render::changes::show(run.ui, &report);
    run.working(|context| change.write(context))?;
    Ok(plan.report.shared.len())
}
