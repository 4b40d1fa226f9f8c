//! Options of `find`.

use bibliotax_app::failure::Failure;
use bibliotax_app::find::{self, Request};

use super::offline::OfflineArgs;
use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use super::registries::RegistryFilterArgs;
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
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    registries: RegistryFilterArgs,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Find {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.network.offline);
        let registries = self.registries.registries.clone();
        let request = Request {
            words: self.words.clone(),
            registries,
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            page: self.page,
        };
        let mut report = run.working(|context| find::report(&request, context))?;
        if let Some(failure) = report.failure.take() {
            render::warnings(run.ui, &report.warnings);
            return Err(failure);
        }
        render::find::show(run.ui, &report, self.page, &self.registries.registries);
        run.ui.report(|| json::find::Found::from(&report));
        Ok(Exit::Done)
    }
}
