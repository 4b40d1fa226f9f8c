//! Options of `find`.

use bibliotax_app::failure::Failure;
use bibliotax_app::find::{self, Request};

use super::lookup::LookupArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::render;
use crate::run::Run;

/// Find packages by words
///
/// Searches names, tags and summaries in all declared registries, and corrects typing mistakes. Packages that fit the project's
/// targets, are widely used and recently released come first. Without words, the most used packages are listed. Outside of a
/// project, name a registry with `--registry`, or set default registries in your settings file.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax find rain ledger\n  bibliotax find frost --page 2\n  bibliotax find frost --registry https://seedhouse.example"
)]
pub struct Find {
    /// Words to search for
    #[arg(value_name = "WORD")]
    words: Vec<String>,
    /// The page of results, from 1 to 10
    #[arg(long, value_name = "NUMBER", default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..=10))]
    page: u8,
    #[command(flatten)]
    lookup: LookupArgs,
}

impl Find {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.lookup.network.offline);
        let request = Request {
            words: self.words.clone(),
            registries: self.lookup.registries.clone(),
            projects: self.lookup.projects.words(),
            targets: self.lookup.targets.targets.clone(),
            page: self.page,
        };
        let mut report = run.working(|context| find::report(&request, context))?;
        if let Some(failure) = report.failure.take() {
            render::warnings(run.ui, &report.warnings);
            return Err(failure);
        }
        render::find::show(run.ui, &report, self.page, &self.lookup.registries);
        run.ui.report(|| json::find::Found::from(&report));
        Ok(Exit::Done)
    }
}
