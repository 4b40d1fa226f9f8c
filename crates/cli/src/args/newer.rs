//! Options of `newer`.

use bibliotax_app::failure::Failure;
use bibliotax_app::newer::{self, Request};
use bibliotax_app::workspace::WorkspaceFolder;

use super::members::MemberFilterArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Tell what has newer releases, and what keeps them out
///
/// For each package of the lock: what an update would take within the ranges, what is newer still and who holds it back, what
/// changed, and whether the release that is locked was deprecated or withdrawn. Writes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax newer\n  bibliotax newer --direct")]
pub struct Newer {
    /// Only these packages
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Only what projects need themselves
    #[arg(long)]
    direct: bool,
    #[command(flatten)]
    members: MemberFilterArgs,
    #[command(flatten)]
    search: SearchArgs,
}

impl Newer {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            packages: self.packages.clone(),
            is_direct: self.direct,
            members: self.members.words(),
            options: self.search.options(),
        };
        let workspace = WorkspaceFolder::find(run.folder())?;
        let report = run.working(|context| newer::report(&workspace, &request, context))?;
        render::newer::show(run.ui, &report);
        Ok(Exit::Done)
    }
}
