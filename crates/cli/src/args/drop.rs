//! Options of `drop`.

use bibliotax_app::drop::{self, Request, Stays};
use bibliotax_app::failure::Failure;

use super::projects::ProjectArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::json::change::Changes;
use crate::render::{changes, warnings};
use crate::run::Run;

/// Remove packages from the manifest and the shelf
///
/// Transitive dependencies that nothing else needs are removed, too.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax drop moss-map")]
pub struct Drop {
    /// Packages that the manifest declares
    #[arg(required = true, value_name = "PACKAGE")]
    packages: Vec<String>,
    #[command(flatten)]
    projects: ProjectArgs,
    /// Remove them only from the needs for this purpose
    #[arg(long = "for", value_name = "PURPOSE")]
    purpose: Option<String>,
    /// Show the changes without making them
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Drop {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let ui = run.ui;
        let request = Request {
            packages: self.packages.clone(),
            projects: self.projects.words(),
            purpose: self.purpose.clone(),
            options: self.search.options(),
            is_dry_run: self.dry_run,
        };
        let plan = run.working(|context| drop::plan(&request, context))?;
        let report = plan.change.report();
        warnings(ui, report.warnings);
        changes::show_all(ui, &report);
        for Stays { package, needed_by } in plan.stay() {
            let others: Vec<&str> = needed_by.iter().map(|name| name.as_str()).collect();
            let why = if others.is_empty() { "another purpose".to_owned() } else { others.join(", ") };
            ui.say(format!("  {package} stays: it is needed by {why}"));
        }
        let applied = run.apply(&plan.change, self.dry_run)?;
        changes::show_applied(ui, applied.as_ref());
        ui.report(|| json::declare::Drop::of(&plan, Changes::of(&report, applied.as_ref())));
        Ok(Exit::Done)
    }
}
