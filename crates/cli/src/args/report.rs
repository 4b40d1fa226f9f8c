//! Options of `report`.

use std::path::{Path, PathBuf};

use bibliotax_app::check::Level;
use bibliotax_app::failure::Failure;
use bibliotax_app::report::{self, Request};
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_disk::write::write_output;
use bibliotax_present::words::{count, size};

use super::offline::OfflineArgs;
use super::projects::ProjectFilterArgs;
use super::standard::is_standard;
use crate::exit_status::Exit;
use crate::json::report::{Problems, WrittenReport};
use crate::render::report::{Made, page};
use crate::run::Run;

/// The file that is written where none is named.
const FILE_NAME: &str = "bibliotax-report.html";

/// Write one HTML page with problems, packages, graph and licences
///
/// The page is one file that needs no network: send it, attach it to a build, or print it. It shows what `check`, `newer`, `graph`,
/// `fit` and `steps` show, as of now: also fits, ages and open steps.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax report --open\n  bibliotax report --since main --output review.html\n  bibliotax report --in hand-unit"
)]
pub struct Report {
    /// The file to write; `-` for standard output
    #[arg(long, short, value_name = "FILE", default_value = FILE_NAME)]
    output: PathBuf,
    /// Open the page in a browser
    #[arg(long)]
    open: bool,
    /// Show also what changed since the lock in this file or git revision
    #[arg(long, value_name = "REVISION")]
    since: Option<String>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    offline: OfflineArgs,
}

impl Report {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        if self.open && is_standard(&self.output) {
            let failure =
                Failure::new("usage.conflict", "`--open` needs a file, and the page goes to standard output");
            return Err(failure.advice("name a file: `--output report.html`"));
        }
        let run = &run.offline_if(self.offline.offline);
        let request = Request { projects: self.projects.words(), since: self.since.clone() };
        let workspace = WorkspaceFolder::find(run.folder())?;
        let report = run.working(|context| report::report(&workspace, &request, context))?;
        let (at, since) = (run.environment.now, self.since.as_deref());
        let page = page(&report, &Made { at, by: env!("CARGO_PKG_VERSION"), since });
        let file = (!is_standard(&self.output)).then(|| run.folder().join(&self.output));
        report.warnings.iter().for_each(|warning| run.ui.warn(warning));
        match &file {
            Some(file) => self.write(run, file, &page, &report)?,
            None => run.ui.answer_as_is(page.trim_end()),
        }
        let problems = |level| report.checked.count(level);
        run.ui.report(|| WrittenReport {
            packages: report.packages().len(),
            problems: Problems {
                errors: problems(Level::Error),
                warnings: problems(Level::Warning),
                notes: problems(Level::Note),
            },
            page: file.is_none().then_some(page),
            file: file.as_ref().map(|file| file.display().to_string()),
        });
        if let Some(file) = file.filter(|_| self.open) {
            open(run, &file);
        }
        Ok(Exit::Done)
    }

    fn write(
        &self,
        run: &Run<'_>,
        file: &Path,
        page: &str,
        report: &report::Report<'_>,
    ) -> Result<(), Failure> {
        write_output(file, page.as_bytes())?;
        let levels = [(Level::Error, "error"), (Level::Warning, "warning"), (Level::Note, "note")];
        let found = levels.map(|(level, word)| (report.checked.count(level), word));
        let found =
            found.into_iter().filter(|(number, _)| *number > 0).map(|(number, word)| count(number, word));
        let found: Vec<String> = found.collect();
        let found = if found.is_empty() { "no problems found".to_owned() } else { found.join(", ") };
        let packages = count(report.packages().len(), "package");
        run.ui.say(format!(
            "wrote {}: {packages}, {found} ({})",
            self.output.display(),
            size(page.len() as u64)
        ));
        Ok(())
    }
}

/// Opens a page in the person's browser. Without one, the file is there all the same.
fn open(run: &Run<'_>, file: &Path) {
    // What the library says names what it tried, which helps nobody.
    if open::that_detached(file).is_err() {
        run.ui.warn("no browser could be started on this machine: open the file in one yourself");
    }
}
