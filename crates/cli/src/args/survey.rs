//! Options of `survey`.

use bibliotax_app::failure::Failure;
use bibliotax_app::survey::{self, Request};

use super::offline::OfflineArgs;
use crate::exit_status::Exit;
use crate::render::survey as render;
use crate::run::Run;

/// Show which packages many workspaces use, in which versions
///
/// Reads the locks of all workspaces in folders and below them, and in git repositories. Registries and feeds of the workspace here, or
/// those of --registry, say what is newest, which advisories affect what is used, and what the newest release of a charter allows.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax survey ..\n  bibliotax survey ../gate https://git.example/hand.git#main --behind\n  bibliotax survey .. --format csv"
)]
pub struct Survey {
    /// Folders, or git repositories by their URLs; `URL#BRANCH` means a branch
    #[arg(required = true, value_name = "PLACE")]
    places: Vec<String>,
    /// Only this package
    #[arg(long = "package", value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Only packages that are behind the newest release somewhere
    #[arg(long)]
    behind: bool,
    /// Only packages that an advisory affects somewhere
    #[arg(long)]
    affected: bool,
    /// Only packages that are outside of what a charter allows somewhere
    #[arg(long)]
    outside: bool,
    /// Compare all workspaces with this charter, also those that don't take it on
    #[arg(long = "charter", value_name = "CHARTER")]
    charters: Vec<String>,
    /// Ask this registry [default: those that are declared here]
    #[arg(long = "registry", value_name = "REGISTRY")]
    registries: Vec<String>,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Survey {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.network.offline);
        let request = Request {
            places: self.places.clone(),
            packages: self.packages.clone(),
            is_behind: self.behind,
            is_affected: self.affected,
            is_outside: self.outside,
            charters: self.charters.clone(),
            registries: self.registries.clone(),
        };
        let report = run.working(|context| survey::report(&request, context))?;
        render::show(run.ui, &report);
        let is_whole = report.workspaces.iter().all(|workspace| workspace.lock.is_ok());
        Ok(if is_whole { Exit::Done } else { Exit::Differs })
    }
}
