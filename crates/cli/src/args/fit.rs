//! Options of `fit`.

use bibliotax_app::failure::Failure;
use bibliotax_app::fit::{self, Request};

use super::offline::OfflineArgs;
use super::projects::{ProjectArgs, TargetFilterArgs};
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Show which packages are compatible with which targets
///
/// Checks the locked packages or, if packages are named, their newest release and the newest one that fits everywhere. A library
/// without targets is checked against its own promise. `--try` checks other levels without changing any file. Exits with status 1
/// if something doesn't fit.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax fit\n  bibliotax fit soil-curve\n  bibliotax fit --try orchard-runtime=4\n  bibliotax fit --try hand-unit:orchard-runtime=4\n  bibliotax fit --used-by ../hand-unit --used-by ../gate-kiosk"
)]
pub struct Fit {
    /// Packages to check [default: the locked ones]
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Try this level or value on every target, or on one (declared or not)
    #[arg(long = "try", value_name = "[TARGET:]FACET=VALUE", value_delimiter = ',')]
    tries: Vec<String>,
    #[command(flatten)]
    projects: ProjectArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    /// For a library: also check the targets of the projects in these folders, which use it
    #[arg(long = "used-by", value_name = "FOLDER", value_delimiter = ',')]
    used_by: Vec<String>,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Fit {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.network.offline);
        let request = Request {
            packages: self.packages.clone(),
            levels: self.tries.iter().filter(|word| !word.contains(':')).cloned().collect(),
            of_targets: self.tries.iter().filter(|word| word.contains(':')).cloned().collect(),
            targets: self.targets.targets.clone(),
            projects: self.projects.words(),
            used_by: self.used_by.clone(),
        };
        let report = run.working(|context| fit::report(&request, context))?;
        render::fit::show(run.ui, &report);
        Ok(if report.misfits() == 0 { Exit::Done } else { Exit::Differs })
    }
}
