//! Options of `check`.

use std::path::PathBuf;

use bibliotax_app::check::{self, ComparedBill, Level, Plan, Report, Request};
use bibliotax_app::failure::Failure;
use bibliotax_app::search_options::SearchOptions;
use bibliotax_core::name::Purpose;

use super::projects::ProjectFilterArgs;
use super::search::SearchArgs;
use super::standard::InputFile;
use crate::exit_status::Exit;
use crate::global::Format;
use crate::json::sarif::Log;
use crate::render;
use crate::run::Run;

/// Check lock, rules and projects for problems
///
/// Finds a lock that is out of date, releases that the rules forbid or warn of, licences that nobody accepted, stand-ins, waivers
/// that ended, packages that projects declare with different ranges, and a shelf that isn't what the lock says. Exits with
/// status 1 if there are errors, and with 7 if the rules forbid something.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax check\n  bibliotax check --since main --strict\n  bibliotax check --only licenses\n  bibliotax check --explain FERN-2026-0001\n  bibliotax check --format sarif > check.sarif\n  bibliotax check --unify\n  bibliotax check --bill bill.cdx.json"
)]
pub struct Check {
    /// Show only what the lock in this file or git revision doesn't have
    #[arg(long, value_name = "REVISION")]
    since: Option<String>,
    /// Show only findings of this code or rule; several with commas
    #[arg(long, value_name = "CODE", value_delimiter = ',')]
    only: Vec<String>,
    /// Explain a kind of finding, or an advisory: what it is, who needs the package, since when, what fixes it
    #[arg(long, value_name = "CODE|ADVISORY", conflicts_with_all = ["unify", "only"])]
    explain: Option<String>,
    /// Exit with status 1 for warnings, too
    #[arg(long)]
    strict: bool,
    /// Write one shared range for each package that projects declare with different ranges
    #[arg(long)]
    unify: bool,
    /// With --unify: show the changes without writing them
    #[arg(long, requires = "unify")]
    dry_run: bool,
    /// Only compare the lock with a bill of materials: a file in CycloneDX or SPDX (JSON); `-` for standard input
    #[arg(long, value_name = "FILE", conflicts_with_all = ["unify", "explain", "since"])]
    bill: Option<PathBuf>,
    /// With --bill: it is only about what this target needs
    #[arg(long = "target", value_name = "TARGET", value_delimiter = ',', requires = "bill")]
    targets: Vec<String>,
    /// With --bill: it leaves out what is needed only for this purpose, such as test
    #[arg(long, value_name = "PURPOSE", value_delimiter = ',', requires = "bill")]
    leave_out: Vec<Purpose>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    search: SearchArgs,
}

impl Check {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let input = self.bill.as_deref().map(InputFile::of).transpose()?;
        let bill = self.bill.as_ref().zip(input.as_ref()).map(|(shown, input)| ComparedBill {
            file: run.folder().join(input.path()),
            shown: if input.is_standard() {
                "standard input".to_owned()
            } else {
                shown.display().to_string()
            },
            targets: self.targets.clone(),
            without: self.leave_out.clone(),
        });
        let request = Request {
            bill,
            unifies: self.unify,
            projects: self.projects.words(),
            since: self.since.clone(),
            only: self.only.clone(),
            explains: self.explain.clone(),
            options: SearchOptions { asks_anew: true, ..self.search.options() },
            is_dry_run: self.dry_run,
        };
        let mut plan = run.working(|context| check::plan(&request, context))?;
        if let Some(explanation) = &plan.report.explanation {
            render::explanation::show(run.ui, explanation);
            return Ok(Exit::Done);
        }
        if run.ui.format() == Format::Sarif {
            run.ui.print_document(&Log::of(&plan.report));
            return Ok(self.exit(&plan.report, 0));
        }
        render::check::show(run.ui, &plan.report);
        let unified = if self.unify { unify(&mut plan, run)? } else { 0 };
        render::check::show_sum(run.ui, &plan.report);
        render::check::report(run.ui, &plan.report, unified, self.dry_run);
        Ok(self.exit(&plan.report, unified))
    }

    fn exit(&self, report: &Report, unified: usize) -> Exit {
        let warnings = report.count(Level::Warning) - unified;
        if report.is_forbidden() {
            Exit::of_code("rules.forbidden")
        } else if report.count(Level::Error) > 0 || self.strict && warnings > 0 {
            Exit::of_code("check.findings")
        } else {
            Exit::Done
        }
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
    render::changes::show_all(run.ui, &report);
    run.working(|context| change.write(context))?;
    Ok(plan.report.shared.len())
}
